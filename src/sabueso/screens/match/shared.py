"""Papers that two tables name and neither lists: the delivery note of an invoice's line, several rows of which the
other table has; and lines of them that are not there, or are there otherwise."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import sqlglot.expressions as exp

from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.match.absent import SURELY, asked_of, met_keys
from sabueso.screens.one_way import are_linked
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, same_things

MOST_EACH = 50
"""Rows that one paper has on average up to which its number tells something."""
MOST_COLUMNS = 8
_NO_KEYS: tuple[Role, ...] = ("id", "text", "currency", "preparer", "approver", "entered")


def proposed_shared(population: Population) -> Iterator[Proposal]:
    """Rows whose paper, or whose line of it, another table that has nearly all of them does not have."""
    table = population.table
    if "amount" not in table.roles or is_budget(table):
        return
    for name, other in sorted(population.tables.items()):
        if name == table.name or are_linked(table, other) or is_budget(other):
            continue
        for paper in _papers(table, other):
            yield from _of_paper(population, other, paper)


def _papers(table: Table, other: Table) -> Iterator[str]:
    """Texts called alike in both that name no row of a list."""
    theirs = {c.name for c in other.columns if c.type == "text" and c.name not in other.links}
    none = {t.roles.get(role) for t in (table, other) for role in _NO_KEYS}
    for column in table.columns:
        free = column.name in theirs - none and column.name not in table.links
        if column.type == "text" and free and not column.is_place:
            yield column.name


def _of_paper(population: Population, other: Table, paper: str) -> Iterator[Proposal]:
    table = population.table
    if not population.once(("numbers papers", paper), partial(_tells, population, paper)):
        return
    n, known = met_keys(population, other, {paper: paper})
    if n < LEAST_OF_RULE or known < SURELY * n:
        return
    keys = {paper: paper}
    for own, theirs in _lines(table, other):
        if own in keys or theirs in keys.values() or len(keys) > MOST_COLUMNS:
            continue
        rows, found = met_keys(population, other, {**keys, own: theirs})
        if rows == n and found + n - known >= SURELY * n:
            keys[own] = theirs
    rows, found = met_keys(population, other, keys)
    if found == rows:
        return
    called = listed(list(keys))
    yield Proposal(
        f"{called} of {table.name} not in {other.name}",
        asked_of(other, keys.items()),
        f"Rows of what {other.name} does not know, or knows otherwise.",
        f"{rows - found:,} of {rows:,} rows are not found there as they are",
    )


def _tells(population: Population, paper: str) -> bool:
    """Whether a text numbers papers: there are many, of a few rows each."""
    distinct = exp.Count(this=exp.Distinct(expressions=[sql.column(paper)]))
    fields = exp.alias_(distinct, "each"), exp.alias_(exp.Count(this=sql.column(paper)), "rows")
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    return int(row["each"]) >= max(LEAST_OF_RULE, int(row["rows"]) / MOST_EACH)


def _lines(table: Table, other: Table) -> Iterator[tuple[str, str]]:
    """What may tell one line of a paper in both tables: what both name, and numbers called alike that are no amount."""
    yield from same_things(table, other)
    none = {t.roles.get(role) for t in (table, other) for role in (*_NO_KEYS, "amount", "price")}
    theirs = {(c.type, c.name.casefold()): c.name for c in other.columns if not c.is_place}
    for own in table.columns:
        named = theirs.get((own.type, own.name.casefold()))
        telling = own.type in ("text", "number") and not own.is_place
        if named and telling and {own.name, named}.isdisjoint(none):
            yield own.name, named
