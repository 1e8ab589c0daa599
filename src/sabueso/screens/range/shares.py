"""Numbers that are no more than a share of one that the row they name has, but for a few far above it, as they are proposed:
what is added to a contract, and its sum."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import ROUND_CEILING, Decimal
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import There, measures_of, measures_there
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.range.far import far_above
from sabueso.stats.moments import absolute_deviation

MOST_SEEN, MOST_NUMBERS, MOST_THERE = 5_000, 3, 8
LEAST, CLOSER = 0.01, 0.8
"""How much the logarithm of the share deviates at least, below which one is a multiple of the other, and of how much those of
the number do at most: a share tells more of it than its size."""
PROPOSED = 2


class _Share(NamedTuple):
    """A number and the one that it is a share of, and how much the logarithm of that deviates."""

    own: str
    of: There
    spread: float

    def value(self, table: Table) -> Tree:
        """The share, where there is one."""
        whole = sql.cast(expressions.scalar(self.of.sql, table, "--not-above"), "DOUBLE")
        part = sql.cast(sql.column(self.own), "DOUBLE")
        some = exp.GT(this=whole.copy(), expression=sql.integer(0))
        return exp.Case().when(some, exp.Div(this=part, expression=whole))


def proposed_shares(population: Population) -> Iterator[Proposal]:
    """The closest of each number, a few of a table; what is above the whole is told by the whole."""
    table = population.table
    if table.dated() is None or is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    told: set[str] = set()
    for share in sorted(_shares(population), key=lambda share: share.spread):
        if share.own in told or len(told) == PROPOSED:
            continue
        far = far_above(population, share.value(table))
        if far is None or far.rest <= 1 < far.first:
            continue
        most = _between(far.rest, far.first)
        told.add(share.own)
        yield Proposal(
            f"{share.own} of {table.name} above {most:f} times {share.of.told}",
            settings_of(on=share.own, not_above=f"{most:f} * {share.of.sql}"),
            "A larger share than nearly all others are.",
            f"{far.rows:,} of {far.n:,} rows with both are {_shown(far.first)} times it and more, and all others at most "
            f"{_shown(far.rest)}",
        )


def _shares(population: Population) -> Iterator[_Share]:
    table = population.table
    # The amount first.
    own = sorted(measures_of(table), key=lambda c: c.name != table.roles.get("amount"))[
        :MOST_NUMBERS
    ]
    there = list(measures_there(population))[:MOST_THERE]
    if not own or not there:
        return
    trees: dict[str, Tree] = {c.name: sql.column(c.name) for c in own}
    trees |= {t.sql: expressions.scalar(t.sql, table, "--not-above") for t in there}
    seen = first_numbers(population, trees, MOST_SEEN)
    for number in own:
        for other in there:
            part, whole = seen[number.name], seen[other.sql]
            both = (part > 0) & (whole > 0)
            if both.sum() < LEAST_ROWS:
                continue
            logs = np.log(part[both])
            spread = absolute_deviation(logs - np.log(whole[both]))
            if LEAST <= spread <= CLOSER * absolute_deviation(logs):
                yield _Share(number.name, other, spread)


def _between(rest: Decimal, first: Decimal) -> Decimal:
    """The number with the fewest figures that all others keep to and those far above do not."""
    for figures in range(8):
        place = Decimal(1).scaleb(rest.adjusted() - figures)
        found = (rest / place).to_integral_value(ROUND_CEILING) * place
        if found < first:
            return found.normalize()
    return rest


def _shown(value: Decimal) -> str:
    return f"{float(value):.3g}"
