"""Rows of which a day is far longer after another, or far sooner, than it is of all others."""

from __future__ import annotations

from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.screens.range.days import days_from

APART = ((14, 2), (5, 4))
"""Days by which those that are late are apart from the others, at the least, and how many times as long after as the
last of the others the first of them is: either will do."""
MOST_LAGS, ENDS, SHARP = 6, 0.01, 5
"""Numbers of days of which nearly all rows have one, share of the rows that may have more, and how many times as many have the
largest of these: what ends there, and does not only become rare."""
NEXT = 10
"""How many of those that are not early must be closer together than the first is to what is."""
MOST_LATE = 50
"""Rows that may be late however many there are: more are a habit."""


class Late(NamedTuple):
    """Days ``within`` which all others are, how many ``rows`` are not, after how many days the ``first`` of these is, and
    whether that is ``far`` from the others."""

    within: int
    rows: int
    first: int
    far: bool = True


def late_of(population: Population, order: tuple[str, str], few: int) -> Late | None:
    """Those that stand apart at the upper end, no more than a few; None where nothing does."""
    few = min(few, MOST_LATE)
    lags = _Lags.of(population, order)
    found = lags.first(few + 1, descending=True)
    for rows in range(len(found) - 1, 0, -1):
        first, within = found[rows - 1], found[rows]
        if any(first - within >= days and first >= times * within for days, times in APART):
            return Late(within, rows, first)
    return _beyond_few_lags(lags, few)


class Early(NamedTuple):
    """Days that all others are at ``least`` after, how many ``rows`` are not, and after how many days the ``last`` of these is."""

    least: int
    rows: int
    last: int


def early_of(population: Population, order: tuple[str, str], few: int) -> Early | None:
    """Those that stand apart at the lower end, no more than a few; None where nothing does."""
    few = min(few, MOST_LATE)
    found = _Lags.of(population, order).first(few + 1 + NEXT, descending=False)
    for rows in range(len(found) - 1 - NEXT, 0, -1):
        last, least = found[rows - 1], found[rows]
        if found[rows + NEXT] - least > least - last:
            continue  # which are as far from one another
        if any(least - last >= days and least >= times * max(last, 1) for days, times in APART):
            return Early(least, rows, last)
    return None


class _Lags(NamedTuple):
    """How many days each row's later day is after its earlier one, where it is not before."""

    population: Population
    each: exp.Subquery
    known: exp.Expr

    @classmethod
    def of(cls, population: Population, order: tuple[str, str]) -> _Lags:
        days = days_from(*order, population.table)
        each = population.used(exp.select(exp.alias_(days, "days"))).subquery("d")
        return cls(population, each, exp.GTE(this=sql.column("days"), expression=sql.integer(0)))

    def first(self, most: int, *, descending: bool) -> list[int]:
        """The longest, or the shortest."""
        select = exp.select(sql.column("days")).from_(self.each.copy()).where(self.known.copy())
        select = select.order_by(sql.ordered(sql.column("days"), descending=descending)).limit(most)
        return [int(days) for days in self.population.query(select).column("days").to_pylist()]

    def sizes(self, most: int) -> tuple[list[int], list[int]]:
        """The shortest that are different, and how many rows have each."""
        lag = sql.column("days")
        select = (
            exp.select(lag, exp.alias_(sql.count(), "n"))
            .from_(self.each.copy())
            .where(self.known.copy())
        )
        select = select.group_by(lag.copy()).order_by(sql.ordered(lag.copy())).limit(most)
        found = self.population.query(select).to_pydict()
        return found["days"], found["n"]


def _beyond_few_lags(of: _Lags, few: int) -> Late | None:
    """Those that are later than what nearly all others are by one of a few numbers of days, as what settles on the second
    working day, or the third."""
    lags, sizes = of.sizes(MOST_LAGS + few)
    n = sum(sizes)
    for place in range(min(len(lags), MOST_LAGS) - 1, 0, -1):
        rows = sum(sizes[place + 1 :])
        sharp = sizes[place] >= SHARP * rows
        if 0 < rows <= few and rows <= ENDS * n and sharp and len(lags) < MOST_LAGS + few:
            return Late(lags[place], rows, lags[place + 1], far=False)
    return None
