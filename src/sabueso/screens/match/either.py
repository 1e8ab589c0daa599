"""What rows of two tables name, and hardly ever both: a fine that is paid or annulled, an order that is shipped or
cancelled. The few that both name, as they are proposed to be looked for."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.screens.match.absent import asked_of, linked_tables
from sabueso.screens.proposal import LEAST_OF_RULE, LISTED, Proposal, is_budget

SELDOM = 0.05
"""Share of what fewer rows name that both may name, at most."""
MOST_HELD = 20_000
"""Different things up to which those that a table names are held, to be compared with those of each other table."""
TIMES = 5
"""How many times as many both would name if one said nothing of the other, at the least."""


def proposed_either(population: Population) -> Iterator[Proposal]:
    """What another table names as well, where hardly anything is named by both: told of the table that names fewer."""
    table = population.table
    if is_budget(table):
        return
    for of, mine in linked_tables(table):
        rows = population.beside(of).account(None).rows
        for name, other in sorted(population.tables.items()):
            theirs = _names(other, of, table.links[mine].key)
            if name in (table.name, of.name) or theirs is None or is_budget(other):
                continue
            own, its, both = _counted(population, other, (mine, theirs))
            if (own, table.name) > (its, name) or own < LEAST_OF_RULE:
                continue
            chance = own * its / max(rows, 1)
            if 0 < both <= min(LISTED, SELDOM * own) and TIMES * both <= chance:
                yield Proposal(
                    f"{mine} of {table.name} in {name} too",
                    asked_of(other, [(mine, theirs)], find="present"),
                    f"Rows of what {name} has as well, which hardly anything is.",
                    f"{both:,} of {own:,} are in both, where some {chance:,.0f} would be if one said nothing of the other",
                )


def _names(table: Table, of: Table, key: str) -> str | None:
    """The column by which rows of a table name those of another."""
    found = (c for c, link in table.links.items() if (link.table.name, link.key) == (of.name, key))
    return next(found, None)


def _distinct(population: Population, column: str) -> exp.Select:
    """The different things that rows name."""
    value = sql.column(column)
    named = population.used(exp.select(exp.alias_(value, "key"))).distinct()
    return named.where(exp.Not(this=sql.is_missing(value.copy())))


def _named(population: Population, column: str) -> frozenset[Any] | None:
    """The same, held here; None where they are many."""
    found = population.query(_distinct(population, column).limit(MOST_HELD + 1))
    return None if found.num_rows > MOST_HELD else frozenset(found.column("key").to_pylist())


def _counted(
    population: Population, other: Table, columns: tuple[str, str]
) -> tuple[int, int, int]:
    """How many different things two tables name, each and both."""
    sides = population, population.beside(other)
    held = [
        side.once(("names", column), partial(_named, side, column))
        for side, column in zip(sides, columns, strict=True)
    ]
    if held[0] is not None and held[1] is not None:
        return len(held[0]), len(held[1]), len(held[0] & held[1])
    each = [_distinct(*side).subquery("d") for side in zip(sides, columns, strict=True)]
    own, its = (sql.column("key", place) for place in "ab")
    mine, theirs = (side.copy().as_(place) for side, place in zip(each, "ab", strict=True))
    joined = exp.select(sql.count()).from_(mine).join(theirs, on=exp.EQ(this=own, expression=its))
    counts = [exp.select(sql.count()).from_(side.copy()) for side in each]
    select = exp.select(
        *(
            exp.alias_(exp.Subquery(this=count), f"n{place}")
            for place, count in enumerate([*counts, joined])
        )
    )
    (row,) = population.query(select).to_pylist()
    return row["n0"], row["n1"], row["n2"]
