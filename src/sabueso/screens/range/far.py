"""Numbers far above all others of their column: an allowance of 300 where no other is above 50, a load no container takes."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, LEAST_ROWS, Proposal, is_budget, settings_of

MOST_SEEN, MOST_COLUMNS = 5_000, 10
"""Rows by which it is judged what may be looked at, and columns that are."""
FEW, MOST, LISTED = 5, 0.01, 25
"""Rows that may be far above, however few there are, their share of all with some, and how many however many."""
TIMES, STEEP_TIMES = 1.5, 2.0
"""How many times the greatest of all others the least of those far above is; more where numbers have a long upper end, of which
the largest lie apart by chance."""
FENCE, STEEP_FENCE, STEEP = 1.5, 2.0, 0.15
"""Quartile distances beyond the upper quartile that it is too, on the scale of logarithms where the quartiles lie as unevenly
about the median as this: there is a long upper end."""
NEAR_TIMES, EVEN_FENCE, GAP = 1.15, 3.0, 1.5
"""The same where both quartiles lie as far from the median: by how many times, how many quartile distances beyond the upper
quartile, and how many above all others."""
ALIKE = 0.6
"""Correlation of the logarithms with those of the amounts from which a number is large with them."""
SEVERAL = 3
"""Different numbers that there must be."""
_NONE: tuple[Role, ...] = ("id", "document", "amount", "debit", "credit", "price")


class Far(NamedTuple):
    """How many rows are far above, the least of them, the greatest of all others, and how many have some."""

    rows: int
    first: Decimal
    rest: Decimal
    n: int


def proposed_far(population: Population) -> Iterator[Proposal]:
    """Numbers of a row, but its amounts and prices, which limits on them look at; of rows too few for these the amount."""
    table = population.table
    rows = population.account(None).used
    # Of a list of flats one is the largest, and nothing happened.
    if table.dated() is None or is_budget(table) or rows < LEAST_OF_RULE:
        return
    amount, few = table.role("amount"), rows < LEAST_ROWS
    alone = [amount] if amount is not None and table.role("date") is not None else []
    for column in alone if few else _columns(population, table):
        found = far_above(population, sql.column(column.name), LEAST_OF_RULE if few else LEAST_ROWS)
        if found is not None:
            yield Proposal(
                f"{column.name} of {table.name} far above all others",
                settings_of(on=column.name, greatest=str(found.rest)),
                "What stands apart from all others of its kind.",
                f"{found.rows:,} of {found.n:,} rows with some are {_shown(found.first)} and more, and all others at most "
                f"{_shown(found.rest)}",
            )


def _shown(value: Decimal) -> str:
    return f"{value.normalize():,f}"


def _columns(population: Population, table: Table) -> list[Column]:
    """Numbers of several values that are not large where the amounts are."""
    none = {table.roles.get(role) for role in _NONE}
    found = table.numbers
    found = [c for c in found if c.name not in none][:MOST_COLUMNS]
    amount = table.role("amount")
    if not found:
        return []
    trees: dict[str, Tree] = {c.name: sql.column(c.name) for c in found}
    if amount is not None:
        trees[amount.name] = sql.column(amount.name)
    seen = first_numbers(population, trees, MOST_SEEN)
    sizes = None if amount is None else seen[amount.name]
    return [c for c in found if _may_be(seen[c.name], sizes, whole=c.scale == 0)]


def _may_be(values: np.ndarray, amounts: np.ndarray | None, *, whole: bool) -> bool:
    some = values[~np.isnan(values) & (values != 0)]
    if len(some) < LEAST_ROWS or some.min() < 0 or np.unique(some).size < SEVERAL:
        return False
    if whole and len(some) == np.unique(some).size:
        return False  # it numbers the rows
    if amounts is None:
        return True
    known = ~(np.isnan(values) | np.isnan(amounts)) & (values > 0) & (amounts != 0)
    if known.sum() < LEAST_ROWS:
        return True
    sides = np.log(values[known]), np.log(np.abs(amounts[known]))
    if min(side.std() for side in sides) == 0:
        return True
    return bool(abs(np.corrcoef(*sides)[0, 1]) < ALIKE)


def far_above(population: Population, value: Tree, least: int = LEAST_ROWS) -> Far | None:
    """Those that stand apart at the upper end, no more than a few; None where nothing does, or fewer than ``least`` have
    some."""
    some = exp.GT(this=value.copy(), expression=sql.integer(0))
    own = population.used(exp.select(exp.alias_(value.copy(), "v"))).where(some)
    select = exp.select(exp.alias_(sql.count(), "n")).from_(own.subquery("s"))
    n = int(population.query(select).to_pylist()[0]["n"])
    few = max(FEW, min(LISTED, int(MOST * n)))
    top = exp.select(sql.column("v", "s")).from_(own.subquery("s"))
    top = top.order_by(sql.ordered(sql.column("v", "s"), descending=True)).limit(few + 1)
    greatest = [Decimal(str(v)) for v in population.query(top).column("v").to_pylist()]
    apart = [
        rows
        for rows in range(min(few, len(greatest) - 1), 0, -1)
        if float(greatest[rows - 1]) >= NEAR_TIMES * float(greatest[rows])
    ]
    if n < least or not apart:
        return None
    # The quartiles of all rows are worth their time only where something is apart.
    quartiles = sql.quantiles(sql.column("v", "s"), ["0.25", "0.5", "0.75"])
    asked = exp.select(exp.alias_(quartiles, "q")).from_(own.subquery("s"))
    low, middle, high = (float(q) for q in population.query(asked).to_pylist()[0]["q"])
    fence, times = _fence(low, middle, high)
    for rows in apart:
        first, rest = greatest[rows - 1], greatest[rows]
        if float(first) > fence and float(first) >= times * float(rest):
            return Far(rows, first, rest, n)
        gap, spread = float(first - rest), high - low
        if _is_even(low, middle, high) and gap >= GAP * spread and float(first) > high + EVEN_FENCE * spread:  # fmt: skip
            return Far(rows, first, rest, n)
    return None


def _is_even(low: float, middle: float, high: float) -> bool:
    """Whether both quartiles lie about as far from the median."""
    spread = high - low
    return spread > 0 and (high + low - 2 * middle) / spread <= STEEP


def _fence(low: float, middle: float, high: float) -> tuple[float, float]:
    """The fence beyond the upper quartile (Tukey, J. W. 1977, Exploratory Data Analysis, Addison-Wesley), of the logarithms
    where numbers have a long upper end; and how many times all others is far above them."""
    if _is_even(low, middle, high):
        return high + FENCE * (high - low), TIMES
    return float(high * (high / low) ** STEEP_FENCE), STEEP_TIMES
