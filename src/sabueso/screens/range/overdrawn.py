"""Sums of what came in and went out that are below nothing: money paid for somebody beyond what there was of theirs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.in_order import InOrder, order_of, owners_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of
from sabueso.screens.range.broken import count_broken

LEAST_OWNERS = 20
"""Owners with rows that come in and rows that go out, from which it is a rule that there is enough of each."""
MOST_SHORT, FEW_SHORT, LISTED = 0.02, 3, 50
"""Share of the rows that go out with not enough there, up to which it is the exception, how many may be however few rows
there are, and how many however many."""
OUTGOING = 0.1
"""Share of the rows that go out, from which it is of interest what they leave."""


class Overdrawn(NamedTuple):
    """Rows that take out what is not there, as a condition, and what is short after them."""

    broken: Tree
    short: Tree


def overdrawn(table: Table, column: Column, per: Sequence[str]) -> Overdrawn:
    """Rows below nothing after which the sum of their owner's rows, from the first on, is below nothing.

    Rows go by date; of one day what comes in comes first, so that nothing is short by the order of a day.
    """
    value = sql.column(column.name)
    keys = [expressions.scalar(text, table, "--per") for text in per]
    out = exp.LT(this=value.copy(), expression=sql.integer(0))
    date = table.dated()
    day = [] if date is None else [sql.ordered(sql.cast(sql.column(date.name), "DATE"))]
    goes = sql.ordered(exp.Case().when(out.copy(), sql.integer(1)).else_(sql.integer(0)))
    so_far = exp.Window(
        this=exp.Sum(this=sql.cast(value.copy(), f"DECIMAL(38,{column.scale})")),
        partition_by=keys,
        order=exp.Order(expressions=[*day, goes, *order_of(table, timed=True)]),
        spec=exp.WindowSpec(
            kind="ROWS", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW"
        ),
    )
    short = exp.LT(this=so_far, expression=sql.integer(0))
    return Overdrawn(exp.and_(out, short), exp.Neg(this=exp.paren(so_far.copy())))


def proposed_overdrawn(population: Population) -> Iterator[Proposal]:
    """Amounts, or quantities, of which nearly nobody is ever paid more than there is of theirs."""
    table = population.table
    measures = [c for role in ("amount", "quantity") if (c := table.role(role)) is not None]
    owners = owners_of(table)
    if not measures or not owners or table.dated() is None or is_budget(table):
        return
    if population.account(None).used < LEAST_OF_RULE:
        return
    seen = InOrder.of(population, measures, owners)
    for column in measures:
        owner = _owner(seen, column.name)
        if owner is None:
            continue
        per = [quoted_name(owner)]
        n, out = count_broken(population, column.name, overdrawn(table, column, per).broken)
        if 0 < out <= max(FEW_SHORT, min(LISTED, MOST_SHORT * n)):
            yield Proposal(
                f"{column.name} of {table.name} beyond what {owner} has",
                settings_of(not_overdrawn=column.name, per=per),
                f"More that went out of one {owner} than had come in by then.",
                f"{out:,} of {n:,} rows leave less than nothing",
            )


def _owner(seen: InOrder, column: str) -> str | None:
    """Of whom there is nearly always enough: the first that holds."""
    for way in seen.ways():
        if not way.owners:
            continue
        own, whose, so_far = seen.sums(column, way)
        if len(own) < LEAST_OF_RULE or (own < 0).mean() < OUTGOING:
            continue
        short = (own < 0) & (so_far < -0.5)
        both = np.intersect1d(whose[own > 0], whose[own < 0])
        if len(both) >= LEAST_OWNERS and short.sum() <= max(FEW_SHORT, MOST_SHORT * len(own)):
            return way.owners[0]
    return None
