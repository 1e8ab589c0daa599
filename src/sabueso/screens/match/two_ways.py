"""What two rows that a row names tell of one thing, as it is proposed to be compared: the seller of the order that a line is of,
and the seller of its article."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.screens.one_way import are_linked, named_by_others
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, few_of, is_budget, settings_of

MOST_WAYS = 12
"""Pairs of columns that are counted."""
COMMONEST = 0.9
"""Share of the rows with one value from which two ways lead to the same by the way."""


class _Way(NamedTuple):
    """A column of the row that is named by another one, as SQL, and the table it stands in with its key."""

    by: str
    column: str
    table: Table
    key: str

    @property
    def sql(self) -> str:
        return ".".join(map(quoted_name, (self.by, self.column)))


def proposed_two_ways(population: Population) -> Iterator[Proposal]:
    """Rows of which two others that they name tell something else, where those of nearly all rows tell the same."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    for one, other in list(_pairs(population))[:MOST_WAYS]:
        n, same, commonest = _counted(population, one, other)
        # What two ways tell alike by chance is what nearly all have.
        if n < LEAST_OF_RULE or not 0 < n - same <= few_of(n) or commonest >= COMMONEST * n:
            continue
        yield Proposal(
            f"{other.column} of {table.name} by {other.by} other than by {one.by}",
            settings_of(
                other=other.table.name, on=[quoted_name(other.by), one.sql],
                other_on=[quoted_name(other.key), quoted_name(other.column)],
            ),
            f"Rows whose {other.by} and {one.by} do not tell the same {other.column}.",
            f"both tell the same of {same:,} of {n:,} rows",
        )  # fmt: skip


def _pairs(population: Population) -> Iterator[tuple[_Way, _Way]]:
    """Columns of two rows that a row names that are linked with one and the same column, or are texts called alike."""
    table = population.table
    back = named_by_others(population, table)
    named = [
        (by, population.tables.get(link.table.name, link.table), link.key)
        for by, link in sorted(table.links.items())
        if link.table.name != table.name and by not in back
    ]
    for (by, one, key), (by_other, other, other_key) in combinations(named, 2):
        # Where one of them names the other it is asked of its own rows.
        if one.name == other.name or are_linked(one, other):
            continue
        for mine in one.columns:
            for theirs in other.columns:
                told = mine.name != key and theirs.name != other_key
                if told and _are_one_thing(one, mine.name, other, theirs.name):
                    yield (
                        _Way(by, mine.name, one, key),
                        _Way(by_other, theirs.name, other, other_key),
                    )


def _are_one_thing(one: Table, mine: str, other: Table, theirs: str) -> bool:
    link, their = one.links.get(mine), other.links.get(theirs)
    if link is not None and their is not None:
        return (link.table.name, link.key) == (their.table.name, their.key)
    own, there = one.column(mine), other.column(theirs)
    # The text of a row is its own, and so is its paper.
    apart = any(
        name in (t.roles.get("id"), t.roles.get("text"), t.roles.get("document"))
        for t, name in ((one, mine), (other, theirs))
    )
    alike = mine.casefold() == theirs.casefold() and own.type == there.type == "text"
    return alike and not own.is_place and not apart


def _counted(population: Population, one: _Way, other: _Way) -> tuple[int, int, int]:
    """How many rows have both, have the same of both, and have the commonest of it."""
    table = population.table
    trees = {"a": expressions.scalar(one.sql, table), "b": expressions.scalar(other.sql, table)}
    every = population.used(exp.select(*(exp.alias_(t, name) for name, t in trees.items())))
    stated = sql.both(exp.Not(this=sql.is_missing(sql.column(name, "r"))) for name in trees)
    same = exp.EQ(this=sql.column("a", "r"), expression=sql.column("b", "r"))
    each = exp.select(
        sql.column("a", "r"),
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.only(sql.count(), same), "same"),
    )
    each = each.from_(every.subquery("r")).where(stated).group_by(sql.column("a", "r"))
    rows = population.query(each).to_pydict()
    n, alike = rows["n"], rows["same"]
    return sum(n), sum(alike), max(n, default=0)
