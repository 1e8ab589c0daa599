"""The sequential deviate test of groups: sums and a few extreme values of each are enough."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from sabueso.report import numbers as num
from sabueso.screens.finding import NotTested
from sabueso.screens.limits.scales import Scale
from sabueso.screens.limits.table import INT64
from sabueso.screens.worths import Worths
from sabueso.screens.zscore.deviates import DeviateGroup, Tested
from sabueso.screens.zscore.result import Step
from sabueso.stats.moments import moments
from sabueso.stats.sequential import SequentialTest, sequential_deviates

LEAST_ROWS = 5
GOOD_FROM = 25  # rows from which the published limits hold well
A_STEP = 8
"""Rows of a smaller group for each of its steps: of ten steps among twelve rows chance passes one of four groups."""


def sequential_limits(
    worths: Worths, scale: Scale, found: Sequence[DeviateGroup], most: int, alpha: float
) -> tuple[list[Tested], list[NotTested], list[SequentialTest]]:
    """Limits that leave out each group's outliers, the groups that cannot be tested, and the tests.

    At most half of a group's rows are looked at as outliers, of a small one an eighth, one at least.
    """
    ends = _extremes(worths, scale, most)
    tested, flat, tests = [], [], []
    for g in found:
        sd = moments(g.n, g.total, g.squares).sd
        if g.n < LEAST_ROWS:
            flat.append(NotTested(g.key, num.too_few(g.n, LEAST_ROWS), g.n))
            continue
        if not sd:
            flat.append(NotTested(g.key, f"zero_spread: all {g.n:,} amounts are the same", g.n))
            continue
        low, high = ends[g.place]
        test = sequential_deviates(g.n, g.total, g.squares, low, high, _steps(g.n, most), alpha)
        least, greatest = test.bounds()
        tested.append(
            Tested(
                g,
                int(INT64.min) if least is None else least,
                int(INT64.max) if greatest is None else greatest,
                g.total / g.n,
                sd,
            )
        )
        tests.append(test)
    return tested, flat, tests


def _steps(n: int, most: int) -> int:
    return min(most, n // 2 if n >= GOOD_FROM else max(1, n // A_STEP))


def steps_of(test: SequentialTest, amount: Callable[[float], float | None]) -> list[Step]:
    """The steps of a test; ``amount`` puts a value of the scale as an amount."""
    return [
        Step(amount(step.value), step.statistic, step.limit, place < test.outliers)
        for place, step in enumerate(test.steps)
    ]


def _extremes(worths: Worths, scale: Scale, most: int) -> list[tuple[list[int], list[int]]]:
    """Of each group the ``most`` least values ascending and the ``most`` greatest descending."""
    found = []
    for part, worth in worths.slices():
        units = scale.arranged(part, worth)
        for place in range(len(units.sizes)):
            values = units.group(place)
            found.append((values[:most].tolist(), values[::-1][:most].tolist()))
    return found
