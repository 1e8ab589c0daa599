"""Figures that a list has for several things together, such as a rate by carrier, origin and size, as they are proposed to be
compared with those of rows that tell these things, or name rows that do."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.one_way import tables_named
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, met_by, settings_of

MOST_KEYS, MOST_FIGURES, MOST_NUMBERS = 4, 3, 8
"""Texts that a list may go by, figures that it has, and numbers of rows that are compared with them."""
KNOWN = 0.9
"""Share of the rows that the list must know."""
SURELY, LISTED, USUAL = 0.99, 25, 0.95
"""Share of the rows that the list knows which have its figure, from which to have another is the exception; and rows that may
have another where that is fewer than one in twenty."""


def proposed_lists(population: Population) -> Iterator[Proposal]:
    """Rows whose figure is not the one of the list, where nearly all have that."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    taken = {table.roles.get(role) for role in ("id", "document", "quantity")}
    numbers = [c for c in _of(table, "number") if c.name not in taken][:MOST_NUMBERS]
    linked = tables_named(table)
    for name, other in sorted(population.tables.items()):
        if name == table.name or name in linked or not numbers or not _may_be_list(other):
            continue
        for figure in _of(other, "number")[-MOST_FIGURES:]:
            keys = _paths(population, other, figure)
            if keys is not None and _is_list(population, other, list(keys)):
                yield from _compared(population, other, keys, figure, numbers)


def _of(table: Table, *types: str) -> list[Column]:
    return [c for c in table.columns if c.type in types and not c.is_place]


def _may_be_list(other: Table) -> bool:
    """Whether a table has figures for two things or more, and no days."""
    columns = _of(other, "number", "text")
    few = 2 < len(columns) <= MOST_KEYS + MOST_FIGURES
    return few and other.dated() is None and not is_budget(other)


def _paths(population: Population, other: Table, figure: Column) -> dict[str, str] | None:
    """For each text of a list, and each whole number before its figures, the column of rows, or of what they name, that is
    called so; None where a text has none."""
    known = dict(_named(population, population.table, (), 2))
    found: dict[str, str] = {}
    for column in _of(other, "number", "text"):
        path = known.get((column.type, column.name.casefold()))
        if column.type == "text" and path is None:
            return None
        if column.name != figure.name and column.scale == 0 and path is not None:
            found[column.name] = path
    return found if 2 <= len(found) <= MOST_KEYS else None


def _named(
    population: Population, table: Table, before: tuple[str, ...], links: int
) -> list[tuple[tuple[str, str], str]]:
    """Columns of rows, and of rows that they name, by type and what they are called: those that are nearest come last."""
    far = []
    for column, link in sorted(table.links.items()) if links else ():
        to = population.tables.get(link.table.name, link.table)
        if to.name != population.table.name:
            far += _named(population, to, (*before, column), links - 1)
    own = [
        ((c.type, c.name.casefold()), ".".join(map(quoted_name, (*before, c.name))))
        for c in _of(table, "number", "text")
    ]
    return [*far, *own]


def _is_list(population: Population, other: Table, keys: list[str]) -> bool:
    """Whether each row of a table is of other keys, and of none by one of them alone."""
    beside = population.beside(other)
    each = [exp.Count(this=exp.Distinct(expressions=[sql.column(name)])) for name in keys]
    fields = [exp.alias_(tree, f"k{place}") for place, tree in enumerate(each)]
    (row,) = beside.query(
        beside.used(exp.select(exp.alias_(sql.count(), "n"), *fields))
    ).to_pylist()
    if any(int(row[f"k{place}"]) == int(row["n"]) for place in range(len(keys))):
        return False
    distinct = beside.used(exp.select(*map(sql.column, keys))).distinct()
    select = exp.select(exp.alias_(sql.count(), "n")).from_(distinct.subquery("d"))
    return int(beside.query(select).to_pylist()[0]["n"]) == int(row["n"])


def _compared(
    population: Population,
    other: Table,
    keys: dict[str, str],
    figure: Column,
    numbers: list[Column],
) -> Iterator[Proposal]:
    table = population.table
    known = _met(population, other, keys, None)[1]
    if known < max(LEAST_OF_RULE, KNOWN * population.account(None).used):
        return
    for own in numbers:
        n, same = _met(population, other, keys, (own.name, figure.name))
        other_one = known - same
        few = same >= SURELY * known or (other_one <= LISTED and same >= USUAL * known)
        if n and few and other_one:
            on = [*keys.values(), quoted_name(own.name)]
            at = [*map(quoted_name, keys), quoted_name(figure.name)]
            yield Proposal(
                f"{own.name} of {table.name} other than in {other.name}",
                settings_of(other=other.name, on=on, other_on=[] if at == on else at),
                f"Rows of which {other.name} has another {figure.name}.",
                f"{same:,} of {known:,} rows have the {figure.name} of their {', '.join(keys)}",
                knows=own.name,
            )
            return


def _met(
    population: Population, other: Table, keys: dict[str, str], figures: tuple[str, str] | None
) -> tuple[int, int]:
    """Rows that tell all keys, and a figure, and how many the list has so."""
    table = population.table
    mine = {
        f"k{i}": expressions.scalar(text, table, "--on") for i, text in enumerate(keys.values())
    }
    theirs: dict[str, Tree] = {f"k{i}": sql.column(name) for i, name in enumerate(keys)}
    if figures is not None:
        mine["figure"], theirs["figure"] = map(sql.column, figures)
    return met_by(population, other, mine, theirs)
