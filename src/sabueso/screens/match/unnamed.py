"""Rows that nearly all are named by another table, and a few are not: a shipment that nobody billed, a visit without a claim,
though its state is one of which nearly all have theirs."""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot.expressions as exp

from sabueso.base.words import either
from sabueso.population import sql
from sabueso.population.expressions import all_of, literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Role, Table
from sabueso.screens.match.absent import asked_of
from sabueso.screens.match.awaited import awaited
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    Proposal,
    few_of,
    is_budget,
    some_of,
    states_of,
    texts_without,
)

MOST_STATES, MOST_KINDS, NEVER = 8, 4, 0.9
"""States of one column, columns of other kinds that are tried, and share of the rows of a kind that the other table does not
name where that kind is none to be named."""
_NO_KINDS: tuple[Role, ...] = (
    "id",
    "document",
    "text",
    "party",
    "currency",
    "preparer",
    "approver",
)


def proposed_unnamed(population: Population) -> Iterator[Proposal]:
    """Rows of what happens that another table names nearly all of, or nearly all of some states."""
    table = population.table
    # Of a list of customers some never come; what happens is of somebody, or of something.
    happens = table.dated() is not None and (table.links or "amount" in table.roles)
    if not happens or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    for name, other in sorted(population.tables.items()):
        if name == table.name or is_budget(other) or other.dated() is None:
            continue
        for column, link in sorted(other.links.items()):
            if link.table.name == table.name:
                yield from _of(population, other, column, link.key)


def _of(population: Population, other: Table, column: str, key: str) -> Iterator[Proposal]:
    table = population.table
    states = states_of(table)
    kinds = [name for name in texts_without(table, _NO_KINDS) if name not in states][:MOST_KINDS]
    due = awaited(population, other, key, column)
    for state in (None, *states, *kinds):
        counts = _counted(due.rows, other, column, key, state)
        if state is not None and not 2 <= len(counts) <= MOST_STATES:
            continue
        kept = {
            value: (n, unnamed)
            for value, (n, unnamed) in counts.items()
            if n >= LEAST_OF_RULE and unnamed <= _few(n) and (state is None or value is not None)
        }
        n, unnamed = (sum(each[place] for each in kept.values()) for place in range(2))
        if not unnamed:
            continue
        # It is a matter of kinds where some of them hardly ever have one.
        if state in kinds and not any(
            m > NEVER * k for value, (k, m) in counts.items() if value not in kept
        ):
            continue
        values = sorted(str(value) for value in kept) if state is not None else []
        where = None
        if state is not None:
            where = f"{quoted_name(state)} in ({', '.join(map(literal, values))})"
        where = all_of(due.rows.where, where)
        told = f" whose {state} is {either(values)}" if state is not None else ""
        yield Proposal(
            f"{key} of {table.name} not in {other.name}{f', {state} {either(values)}' if told else ''}",
            asked_of(other, [(key, column)], where=where),
            f"Rows of which {other.name} has none, as it has of nearly all.",
            f"{unnamed:,} of {n:,} rows{told}{due.told} are not found there",
        )
        return


def _few(n: int) -> int:
    """How many rows may be named by nobody where nearly all are."""
    return max(few_of(n), some_of(n))


def _counted(
    population: Population, other: Table, column: str, key: str, state: str | None
) -> dict[str | None, tuple[int, int]]:
    """Rows, and those that the other table does not name, by their state."""
    beside = population.beside(other)
    value: Tree = sql.text("") if state is None else sql.column(state)
    mine = population.used(exp.select(exp.alias_(sql.column(key), "k"), exp.alias_(value, "state")))
    theirs = beside.used(exp.select(exp.alias_(sql.column(column), "k"))).distinct()
    same = exp.EQ(this=sql.column("k", "a"), expression=sql.column("k", "b"))
    empty = sql.is_missing(sql.column("k", "b"))
    fields = (exp.alias_(sql.count(), "n"), exp.alias_(sql.only(sql.count(), empty), "unnamed"))
    select = exp.select(sql.column("state", "a"), *fields).from_(mine.subquery("a"))
    select = select.join(theirs.subquery("b"), on=same, join_type="left")
    select = select.where(exp.Not(this=sql.is_missing(sql.column("k", "a"))))
    found = population.query(select.group_by(sql.column("state", "a")).limit(10 * MOST_STATES))
    return {row["state"]: (int(row["n"]), int(row["unnamed"])) for row in found.to_pylist()}
