"""Readings that never fall, such as of a meter: those that stand below the one before, or above the one after."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.in_order import InOrder, order_of, owners_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, settings_of
from sabueso.screens.range.broken import count_broken

MOST_READINGS = 5
"""Columns that are tried."""
RISES, MIXED = 0.5, 0.2
"""Share of the rows with a greater reading than the one before of the same owner, and share that falls if whose it is is left
out, from which readings are each owner's own."""
MOST_FALLING, FEW_FALLING = 0.01, 3
"""Share of the rows that fall up to which it is the exception, and how many may however few rows there are."""


class Falls(NamedTuple):
    """What a reading breaks, as a condition, and by how much: less than nothing where it is below the one before."""

    broken: Tree
    by: Tree


def falls(table: Table, column: str, per: Sequence[str]) -> Falls:
    """Rows whose reading is out of the line of those about it.

    Where a reading is below the one before, one of the two is wrong: the one before, if without it the others rise,
    else the lower one. Rows go by date, time of day and their place in the sources.
    """
    value = sql.column(column)
    keys = [expressions.scalar(text, table, "--per") for text in per]

    def about(name: str, steps: int) -> Tree:
        return exp.Window(
            this=sql.call(name, value.copy(), sql.integer(steps)),
            partition_by=[key.copy() for key in keys],
            order=exp.Order(expressions=order_of(table, timed=True)),
        )

    def below(less: Tree, more: Tree) -> Tree:
        return exp.LT(this=less, expression=more)

    def none_or(tree: Tree, condition: Tree) -> Tree:
        return exp.paren(exp.or_(sql.is_missing(tree), condition))

    before, earlier = about("LAG", 1), about("LAG", 2)
    after, later = about("LEAD", 1), about("LEAD", 2)
    alone = none_or(earlier, below(value.copy(), earlier.copy()))
    goes_on = exp.paren(
        exp.and_(
            exp.Not(this=sql.is_missing(after.copy())),
            exp.GTE(this=after.copy(), expression=before.copy()),
        )
    )
    low = exp.and_(below(value.copy(), before.copy()), exp.paren(exp.or_(alone, goes_on)))
    high = exp.and_(
        below(after.copy(), value.copy()),
        exp.Not(this=sql.is_missing(before.copy())),
        exp.LTE(this=before.copy(), expression=after.copy()),
        none_or(later, below(later.copy(), value.copy())),
    )
    by = (
        exp.Case()
        .when(low.copy(), exp.Sub(this=value.copy(), expression=before.copy()))
        .when(high.copy(), exp.Sub(this=value.copy(), expression=after.copy()))
    )
    return Falls(exp.Not(this=sql.is_missing(by)), by.copy())


def proposed_readings(population: Population) -> Iterator[Proposal]:
    """Numbers that hardly ever fall from one row of an owner to the next, and would if they were not its own."""
    table = population.table
    taken = set(table.roles.values())
    tried = [c for c in table.columns if c.type == "number" and c.name not in taken]
    tried = [c for c in tried if not c.is_place][:MOST_READINGS]
    owners = owners_of(table)
    if table.dated() is None or not tried or not owners:
        return
    if population.account(None).used < LEAST_OF_RULE:
        return
    seen = InOrder.of(population, tried, owners, timed=True)
    for column in tried:
        owner = _owner(seen, column.name)
        if owner is None:
            continue
        per = [quoted_name(owner)]
        broken = falls(table, column.name, per).broken
        n, out = count_broken(population, column.name, broken)
        if 0 < out <= max(FEW_FALLING, MOST_FALLING * n):
            yield Proposal(
                f"{column.name} of {table.name} falling",
                settings_of(rising=column.name, per=per),
                "A reading that is below the one before it: a wrong one, or one turned back.",
                f"by {owner} it falls in {out:,} of {n:,} rows",
            )


def _owner(seen: InOrder, column: str) -> str | None:
    """Whose readings hardly ever fall, where those of all together do: the first that holds."""
    shares: dict[tuple[str, ...], float] = {}
    for way in seen.ways():
        steps, _ = seen.steps(column, way)
        known = steps[~np.isnan(steps)]
        if len(known) < LEAST_OF_RULE:
            continue
        shares[way.owners] = float((known < 0).mean())
        few = max(2 * MOST_FALLING * len(known), FEW_FALLING)
        own = bool(way.owners) and shares.get((), 0.0) >= MIXED
        if own and (known > 0).mean() >= RISES and (known < 0).sum() <= few:
            return way.owners[0]
    return None
