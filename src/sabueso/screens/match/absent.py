"""Rows that another table does not know, or knows otherwise, as they are proposed to be looked for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import sqlglot.expressions as exp

from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.nothing import states_nothing
from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.screens.match.singular import singular
from sabueso.screens.proposal import Proposal, is_budget, met, settings_of

USUAL = 0.9
"""Share of rows that are found in another table, from which not to be found is odd."""
SURELY = 0.99
"""Share of rows that tell the same as the table they are linked with, from which to tell something else is odd."""

MOST_VALUES = 60
"""Values of a column up to which it tells of what kind a row is."""


def proposed_absent(population: Population) -> Iterator[Proposal]:
    """Rows whose party, or order, is not in the table that nearly all of them are found in, or of which that table
    tells something else than they do."""
    table = population.table
    if "amount" not in table.roles or is_budget(table):
        return
    for other, link in _linked_tables(table):
        if is_budget(other):
            continue
        n, known = _met_keys(population, other, {link: table.links[link].key})
        if n == 0 or known < USUAL * n:
            continue
        told = _told_by_both(population, link, n)
        keys = {link: table.links[link].key, **told}
        rows, found = _met_keys(population, other, keys) if told else (n, known)
        other_than = bool(told) and rows - found > n - known
        on, at = ([quoted_name(c) for c in side] for side in (keys, keys.values()))
        if not other_than:
            on, at = on[:1], at[:1]
        settings = settings_of(other=other.name, on=on, other_on=[] if at == on else at)
        if other_than:
            yield Proposal(
                f"{listed(list(told))} of {table.name} other than in {other.name}",
                settings,
                f"Rows of what {other.name} does not know, or knows otherwise by {link}.",
                f"{rows - found:,} of {rows:,} rows are not found there as they are",
            )
        elif known < n:
            yield Proposal(
                f"{link} of {table.name} not in {other.name}",
                settings,
                f"Rows of what {other.name} does not know.",
                f"{n - known:,} of {n:,} rows are not found there",
            )


def _linked_tables(table: Table) -> Iterator[tuple[Table, str]]:
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


def _told_by_both(population: Population, link: str, n: int) -> dict[str, str]:
    """What rows and the table they are linked with both tell, each with its column there, where nearly all rows tell
    the same: fewer may of what each there has alone, such as a bank account."""
    table = population.table
    other, key = table.links[link].table, table.links[link].key
    alone = {name for names in singular(population, other, {key}) for name in names}
    told: dict[str, str] = {}
    alike = dict(_called_alike(table, link))
    of_one_kind = _of_one_kind(population, link, alike)
    for own, theirs in (*alike.items(), *of_one_kind):
        if own in told:
            continue
        rows, found = _met_keys(population, other, {link: key, own: theirs})
        if 2 * rows > n and found >= (USUAL if theirs in alone else SURELY) * rows:
            told[own] = theirs
    return told


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
        if theirs is not None and theirs != key and theirs != other.roles.get("amount"):
            yield own.name, theirs


def _of_one_kind(
    population: Population, link: str, alike: Mapping[str, str]
) -> Iterator[tuple[str, str]]:
    """Columns of rows and of the table they are linked with that are called otherwise and have the same few values,
    none of them nearly all: what was filled in, and what the vehicle takes."""
    table = population.table
    other, key = table.links[link].table, table.links[link].key
    beside = Population(population.engine, other, tables=population.tables)
    without = {link, *alike, *_named(table)}
    mine = [c.name for c in table.columns if c.type == "text" and not c.is_place]
    theirs = [c.name for c in other.columns if c.type == "text" and not c.is_place]
    own = {n: _few(population, n) for n in mine if n not in without and n not in table.links}
    others = {n: _few(beside, n) for n in theirs if n not in (key, *alike.values())}
    for name, values in own.items():
        for kind, known in others.items():
            rows = sum(values.values())
            among = sum(n for value, n in values.items() if value in known)
            # One value that nearly all have would be told by both of them by the way.
            several = values and len(known) > 1 and max(values.values()) < USUAL * rows
            if several and among >= SURELY * rows:
                yield name, kind


def _few(population: Population, name: str) -> dict[str, int]:
    """The values of a column and how many rows have each, if they are few; else none."""
    column = sql.column(name)
    select = exp.select(exp.alias_(column, "value"), exp.alias_(sql.count(), "n"))
    select = population.used(select).where(exp.Not(this=sql.is_missing(column.copy())))
    rows = population.query(select.group_by(column.copy()).limit(MOST_VALUES + 1)).to_pylist()
    few = 1 < len(rows) <= MOST_VALUES
    return {row["value"]: int(row["n"]) for row in rows} if few else {}


def _named(table: Table) -> set[str]:
    """Columns that tell a row, or its paper, and nothing of its party."""
    return {c.name for role in ("id", "document") if (c := table.role(role)) is not None}


def _met_keys(population: Population, other: Table, keys: Mapping[str, str]) -> tuple[int, int]:
    """How many rows state all of some columns, and how many of them are found with them in another table."""
    beside = Population(population.engine, other, tables=population.tables)
    names = [f"key{place}" for place in range(len(keys))]
    mine = [exp.alias_(sql.column(each), name) for each, name in zip(keys, names, strict=True)]
    theirs = [
        exp.alias_(sql.column(each), name) for each, name in zip(keys.values(), names, strict=True)
    ]
    stated = sql.both(
        exp.Not(
            this=exp.paren(exp.or_(sql.is_missing(sql.column(c)), states_nothing(sql.column(c))))
        )
        for c in keys
    )
    rows = population.used(exp.select(*mine)).where(stated)
    return met(population, rows, beside.used(exp.select(*theirs)).distinct(), names)
