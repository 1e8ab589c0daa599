"""What hardly any row names: a visit that nobody came to, an order that was cancelled, a supplier that is blocked."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.base.words import either
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.report.numbers import verb
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    Proposal,
    few_of,
    is_budget,
    settings_of,
    states_of,
)

MOST_STATES = 8
"""Different states of a table, of which there are two at least."""
LEAST_EXPECTED, TIMES = 20, 10
"""Rows that would name one of a state if it had nothing to do with it, and how many times as many as do."""
MOST_OF_ALL = 0.5
"""Share of the rows of the other table that may be of such states: most are named."""


def proposed_states(population: Population) -> Iterator[Proposal]:
    """States of what rows name, of which hardly any row names one though there are many."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        if other.name == table.name:
            continue
        for state in states_of(other):
            yield from _of_state(population, other, column, state)


def _of_state(population: Population, other: Table, column: str, state: str) -> Iterator[Proposal]:
    """The states of one column of another table that rows are not to name."""
    table = population.table
    named = ".".join(map(quoted_name, (column, state)))
    there = counted(population.beside(other), sql.column(state))
    whole = sum(there.values())
    if whole < LEAST_OF_RULE or not 2 <= len(there) <= MOST_STATES:
        return
    here = counted(population, expressions.scalar(named, table, "--column"))
    n = sum(here.values())
    never = sorted(
        value
        for value, rows in there.items()
        if rows * n >= whole * max(LEAST_EXPECTED, TIMES * here.get(value, 0))
    )
    out = sum(here.get(value, 0) for value in never)
    some = [value for value in never if here.get(value)]
    held = sum(there[value] for value in some)
    if not some or held > MOST_OF_ALL * whole:
        return
    if out <= few_of(n):
        allowed = sorted({*there, *here} - set(some))
        yield Proposal(
            f"{table.name} whose {column}.{state} is {either(some)}",
            settings_of(column=named, allowed=allowed),
            "What nearly no other row is of.",
            f"{out:,} of {n:,} rows name one of {other.name} whose {state} is {either(some)}, of which there "
            f"{verb(held, 'is', 'are')} {held:,} of {whole:,}",
        )


def counted(population: Population, state: Tree) -> dict[str, int]:
    """Rows by state, of those that have one."""
    rows = population.used(exp.select(exp.alias_(state, "state"))).subquery("r")
    at = sql.column("state", "r")
    select = exp.select(at, exp.alias_(sql.count(), "n")).from_(rows)
    select = select.where(exp.Not(this=sql.is_missing(at.copy()))).group_by(at.copy())
    # More than that many are names, and no states.
    found = population.query(select.limit(10 * MOST_STATES)).to_pylist()
    return {str(row["state"]): int(row["n"]) for row in found}
