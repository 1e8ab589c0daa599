"""Rows that another table does not know, or knows otherwise, as they are proposed to be looked for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import pyarrow.compute as pc
import sqlglot.expressions as exp

from sabueso.base.plain import Values
from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.nothing import states_nothing
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.match.awaited import Due, awaited
from sabueso.screens.match.singular import singular
from sabueso.screens.one_way import named_by_others
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    LISTED,
    Proposal,
    few_of,
    is_budget,
    met,
    settings_of,
)

USUAL = 0.9
"""Share of rows that are found in another table, from which not to be found is odd."""
SURELY = 0.99
"""Share of rows that tell the same as the table they are linked with, from which to tell something else is odd."""
HARDLY = 5
"""Rows that each of its values has on average, up to which a text is of a few rows each."""

MOST_SEEN, MOST_COLUMNS = 5_000, 20
"""Rows by which columns of two tables are compared that are called otherwise, and columns of either."""


def proposed_absent(population: Population) -> Iterator[Proposal]:
    """Rows whose party, or order, is not in the table that nearly all of them are found in, or of which that table
    tells something else than they do."""
    table = population.table
    counts = any(role in table.roles for role in ("amount", "price", "quantity"))
    happened = table.dated() is not None
    if not (counts or happened) or is_budget(table):
        return
    for other, link in linked_tables(table):
        planned = is_budget(other)
        # What a budget foresees is not all that there is, but whose lines it numbers.
        if planned and other.roles.get("id") != table.links[link].key:
            continue
        n, known = met_keys(population, other, {link: table.links[link].key})
        if n == 0 or known < USUAL * n:
            continue
        # What pays a bill says what the bill does, and not the bill what pays it.
        back = link in named_by_others(population, table)
        told = {} if back or planned or not counts else _told_by_both(population, link, n, known)
        keys = {link: table.links[link].key, **told}
        rows, found = met_keys(population, other, keys) if told else (n, known)
        other_than = bool(told) and rows - found > n - known
        pairs = list(keys.items())
        settings = asked_of(other, pairs if other_than else pairs[:1])
        if other_than:
            yield Proposal(
                f"{listed(list(told))} of {table.name} other than in {other.name}",
                settings,
                f"Rows of what {other.name} does not know, or knows otherwise by {link}.",
                f"{rows - found:,} of {rows:,} rows are not found there as they are",
            )
        elif known < n and ("amount" in table.roles or (happened and n - known <= few_of(n))):
            key = table.links[link].key
            # What names the row may still come.
            due = awaited(population, other, link, key) if back else Due(population)
            n, known = met_keys(due.rows, other, {link: key}) if due.told else (n, known)
            if known < n:
                yield Proposal(
                    f"{link} of {table.name} not in {other.name}",
                    {**settings, **settings_of(where=due.rows.where)},
                    f"Rows of what {other.name} does not know.",
                    f"{n - known:,} of {n:,} rows{due.told} are not found there",
                )


def asked_of(other: Table, pairs: Iterable[tuple[str, str]], **more: Any) -> Values:
    """The settings of a match by columns of rows, each with the one of another table that it is looked for in."""
    sides = list(zip(*pairs, strict=True))
    on, at = ([quoted_name(name) for name in side] for side in sides)
    return settings_of(other=other.name, on=on, other_on=[] if at == on else at, **more)


def linked_tables(table: Table) -> Iterator[tuple[Table, str]]:
    """Other tables with the column by which rows name a row of theirs: the party, or what tells their rows apart."""
    named: dict[str, list[str]] = {}
    for column, link in table.links.items():
        if link.table.name != table.name:
            named.setdefault(link.table.name, []).append(column)
    for columns in named.values():
        other = table.links[columns[0]].table

        def rank(column: str, other: Table = other) -> tuple[bool, bool, str]:
            key = other.role("id") or other.role("party")
            first = key is not None and table.links[column].key == key.name
            return column != table.roles.get("party"), not first, column

        yield other, min(columns, key=rank)


def _told_by_both(population: Population, link: str, n: int, known: int) -> dict[str, str]:
    """What rows and the table they are linked with both tell, each with its column there, where nearly all rows tell
    the same: fewer may of what each there has alone, such as a bank account."""
    table = population.table
    other, key = table.links[link].table, table.links[link].key
    told: dict[str, str] = {}
    alone: set[str] | None = None
    alike = dict(_called_alike(table, link))
    for own, theirs in (*alike.items(), *_told_alike(population, link, alike)):
        if own in told:
            continue
        rows, found = met_keys(population, other, {link: key, own: theirs})
        # Rows of what is not known there tell nothing otherwise.
        not_other = found + n - known
        if 2 * rows <= n or not_other < USUAL * rows:
            continue
        if not_other < SURELY * rows:
            if alone is None:
                alone = {name for names in singular(population, other, {key}) for name in names}
            few = rows - not_other <= LISTED
            if theirs not in alone and not (few and _is_hardly_shared(population, other, theirs)):
                continue
        told[own] = theirs
    return told


def _is_hardly_shared(population: Population, other: Table, name: str) -> bool:
    """Whether a text, or a whole number, of another table is of a few of its rows each, as the card that an order was paid
    with: two rows have the same by chance next to never."""
    if other.column(name).scale:
        return False
    value = sql.column(name)
    distinct = exp.Count(this=exp.Distinct(expressions=[value.copy()]))
    fields = (exp.alias_(exp.Count(this=value), "n"), exp.alias_(distinct, "values"))
    beside = population.beside(other)
    (row,) = beside.query(beside.used(exp.select(*fields))).to_pylist()
    return int(row["values"]) >= LEAST_OF_RULE and int(row["n"]) <= HARDLY * int(row["values"])


def _called_alike(table: Table, link: str) -> Iterator[tuple[str, str]]:
    """Columns of rows and of the table they are linked with that are linked, called alike, or the prices of both;
    amounts and quantities are added up by what they are of."""
    other, key = table.links[link].table, table.links[link].key
    named = {(c.type, c.name.casefold()): c.name for c in other.columns if not c.is_place}
    prices = table.roles.get("price"), other.roles.get("price")
    added = {table.roles.get("amount"), table.roles.get("quantity")}
    for own in table.columns:
        if own.type not in ("text", "number") or own.is_place:
            continue
        if own.name in (link, *added, *_named(table)):
            continue
        to = table.links.get(own.name)
        if to is not None and to.table.name == other.name:
            theirs: str | None = to.key
        elif own.name == prices[0] and prices[1] is not None:
            theirs = prices[1]
        else:
            theirs = named.get((own.type, own.name.casefold()))
        if theirs is not None and theirs not in (key, _summed(other)):
            yield own.name, theirs


def _summed(table: Table) -> str | None:
    """The amounts of what happened, which are added up; what a list without days has is what each of its rows costs."""
    return table.roles.get("amount") if table.dated() is not None else None


def _told_alike(
    population: Population, link: str, alike: Mapping[str, str]
) -> Iterator[tuple[str, str]]:
    """Columns of rows and of the table they are linked with that are called otherwise and tell the same in nearly all of
    the first rows, not all one thing: what was filled in and what the vehicle takes, the account that was paid and the
    one that is known."""
    table = population.table
    other, key = table.links[link].table, table.links[link].key
    added = {table.roles.get("amount"), table.roles.get("quantity"), _summed(other)}
    without = {link, *alike, *_named(table), *table.links, *added}
    mine = [c for c in _telling(table) if c.name not in without]
    theirs = [c for c in _telling(other) if c.name not in (key, *alike.values(), *added)]
    pairs = [(own, their) for own in mine for their in theirs if own.type == their.type]
    fields: dict[str, Tree] = {}
    for own, their in pairs:
        named = ".".join(map(quoted_name, (link, their.name)))
        fields[f"own {own.name}"] = sql.cast(sql.column(own.name), "TEXT")
        fields[f"their {their.name}"] = sql.cast(expressions.scalar(named, table, "--on"), "TEXT")
    if not pairs:
        return
    select = exp.select(*(exp.alias_(t, f"v{i}") for i, t in enumerate(fields.values())))
    found = population.query(population.used(select).limit(MOST_SEEN))
    seen = {name: found.column(f"v{i}").combine_chunks() for i, name in enumerate(fields)}
    for own, their in pairs:
        values = seen[f"own {own.name}"]
        same = pc.equal(values, seen[f"their {their.name}"])
        known = len(same) - same.null_count
        commonest = max(pc.value_counts(values.drop_null()).field("counts").to_pylist(), default=0)
        # One value that nearly all have would be told by both of them by the way.
        several = commonest < USUAL * len(values)
        if several and 2 * known > len(values) and (pc.sum(same).as_py() or 0) >= USUAL * known:
            yield own.name, their.name


def _telling(table: Table) -> list[Column]:
    """Texts and numbers of a table, the first of them."""
    kinds = ("text", "number")
    return [c for c in table.columns if c.type in kinds and not c.is_place][:MOST_COLUMNS]


def _named(table: Table) -> set[str]:
    """Columns that tell a row, or its paper, and nothing of its party."""
    return {c.name for role in ("id", "document") if (c := table.role(role)) is not None}


def met_keys(population: Population, other: Table, keys: Mapping[str, str]) -> tuple[int, int]:
    """How many rows state all of some columns, and how many of them are found with them in another table."""
    beside = population.beside(other)
    names = [f"key{place}" for place in range(len(keys))]
    mine = [exp.alias_(sql.column(each), name) for each, name in zip(keys, names, strict=True)]
    theirs = [
        exp.alias_(sql.column(each), name) for each, name in zip(keys.values(), names, strict=True)
    ]
    # Beside others a number may be 0: a rate of nothing is one.
    numbers = {c for c in keys if population.table.column(c).type == "number" and len(keys) > 1}
    empty = (
        sql.is_missing(sql.column(c)) if c in numbers
        else exp.or_(sql.is_missing(sql.column(c)), states_nothing(sql.column(c)))
        for c in keys
    )  # fmt: skip
    stated = sql.both(exp.Not(this=exp.paren(each)) for each in empty)
    rows = population.used(exp.select(*mine)).where(stated)
    return met(population, rows, beside.used(exp.select(*theirs)).distinct(), names)
