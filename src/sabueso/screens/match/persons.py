"""Names of a house's own people among those it pays, or has to do with, as they are proposed to be looked for."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.base.words import CalledSo
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Role, Table
from sabueso.screens.proposal import Proposal, is_budget, settings_of

FEW, MOST = 5, 0.05
"""Names of one's own people that are the exception however few names there are, and share of the names up to which they are:
a list of what people had paid back has them all."""
MOST_NAMES = 50_000
LEAST_WORDS = 2
"""Words of a name by which somebody is told."""
ALL_WORDS = 100
"""Similarity of names of the same words in another order."""
_PEOPLE = CalledSo(
    r"staff|employee|personn?el|mitarbeiter|\bpersonal|emplead|dipendent|salari[ée]|funcionari|medewerker|ansatt|anställd|"
    r"pracowni|worker|roster|plantilla|headcount"
)
NAME = CalledSo(r"name|nombre|\bnom\b|naam|navn|namn|nome|nazw|nimi")
_BY: tuple[Role, ...] = ("preparer", "approver")


def proposed_persons(population: Population) -> Iterator[Proposal]:
    """Of a list that is paid, or of a ledger that names whom it pays."""
    from sabueso.stats.alike import normalised

    table = population.table
    own = _naming(table)
    if own is None or is_budget(table) or _is_of_people(population, table):
        return
    named: dict[str, str] | None = None
    told: set[str] = set()
    for name, theirs in _peoples(population, table):
        link, other = table.links.get(own.name), population.tables[name]
        if link is not None and link.table.name == name:
            continue
        if named is None:
            named = _names(population, table, own.name)
        people = _names(population, other, theirs)
        both = [each for each in named if each in people and len(each.split()) >= LEAST_WORDS]
        # Ledgers of one house are kept by the same people.
        both = [each for each in both if each not in told]
        told.update(both)
        if not both or len(both) > max(FEW, MOST * len(named)):
            continue
        plain = all(normalised(named[each]) == normalised(people[each]) for each in both)
        yield Proposal(
            f"{own.name} of {table.name} among {name} too",
            settings_of(
                other=name, on=[quoted_name(own.name)],
                other_on=[] if own.name == theirs else [quoted_name(theirs)],
                find="present", keys="normalised" if plain else "alike",
                threshold=None if plain else ALL_WORDS,
            ),
            "Who is called as one of the house's own people is: it may be the same person, or another of that name.",
            f"{len(both):,} of {len(named):,} names are met in {theirs} of {name}",
        )  # fmt: skip


def _peoples(population: Population, table: Table) -> Iterator[tuple[str, str]]:
    """Other tables with the column that names the house's people: lists of them; and of a list those who make or
    approve the entries of ledgers."""
    others = [(n, each) for n, each in sorted(population.tables.items()) if n != table.name]
    for name, other in others:
        theirs = _name_of(other)
        if theirs is not None and _is_of_people(population, other):
            yield name, theirs
    if "amount" in table.roles:
        return
    for name, other in others:
        for role in _BY:
            by = other.role(role)
            if by is not None and by.type == "text" and by.name not in other.links:
                yield name, by.name


def _naming(table: Table) -> Column | None:
    """The column of the names of those whom a ledger pays, or a list names."""
    party = table.role("party")
    if party is not None and party.type == "text" and party.name not in table.links:
        named = _name_of(table) if "amount" not in table.roles else None
        return party if named is None else table.column(named)
    if "amount" in table.roles:
        return None
    name = _name_of(table)
    return None if name is None else table.column(name)


def _name_of(table: Table) -> str | None:
    """The column of names of a list."""
    called = [c.name for c in table.columns if c.type == "text" and NAME.search(c.name)]
    text = table.roles.get("text")
    return text if text in called else next(iter(called), None)


def _is_of_people(population: Population, table: Table) -> bool:
    """Whether a list is of the house's people: of those who make or approve entries, or called so."""
    if "amount" in table.roles:
        return False
    if _PEOPLE.search(table.name):
        return True
    return any(
        link.table.name == table.name
        for each in population.tables.values()
        for role in _BY
        if (link := each.links.get(each.roles.get(role, ""))) is not None
    )


def _names(population: Population, table: Table, name: str) -> dict[str, str]:
    """The names of a column by their words, in the order of their letters."""
    from sabueso.stats.alike import plain

    own = population.beside(table)
    return {plain(value): value for value in distinct_names(own, name, MOST_NAMES)}


def distinct_names(population: Population, name: str, most: int) -> list[str]:
    """Up to ``most`` of the texts of a column, each once."""
    value = sql.column(name)
    each = population.used(exp.select(exp.alias_(value, "v")))
    each = each.where(exp.Not(this=sql.is_missing(value.copy())))
    found: list[str] = population.query(each.distinct().limit(most)).column("v").to_pylist()
    return found
