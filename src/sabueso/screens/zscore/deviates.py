"""Sums, order statistics and spread of each group of a test by deviates."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from itertools import repeat
from math import log10, sqrt
from typing import NamedTuple, Protocol

import numpy as np
import pyarrow as pa

from sabueso.base.plain import ByColumn
from sabueso.report import numbers as num
from sabueso.screens.finding import NotTested
from sabueso.screens.grouping import Grouping
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.effects import Effect, effects_of
from sabueso.screens.limits.histogram import ends_of
from sabueso.screens.limits.scales import Scale
from sabueso.screens.worths import Worths
from sabueso.stats.arranged import Arranged
from sabueso.stats.moments import moments

SHAPE = ("0.01", "0.1", "0.25", "0.5", "0.75", "0.9", "0.99")
"""Shares of the order statistics that tell whether the middle of a group is normal."""
NORMAL_TAIL = 1.9000  # (q90 - q10)/(q75 - q25) of a normal law
NORMAL_ENDS = 3.4490  # (q99 - q01)/(q75 - q25) of it
LEAST_WITH_ENDS = 1_000
"""Rows from which the hundredths tell."""
LEAST_JUDGED = 30


def normal_middle(n: int, quantiles: Sequence[float]) -> bool:
    """Whether the middle four fifths of a group look normal: as symmetric, and as wide at the tenths
    against the quarters, as chance leaves it to samples of n; of many rows at the hundredths too, since what
    has a normal middle may have wider ends."""
    q01, q10, q25, q50, q75, q90, q99 = quantiles
    width = q75 - q25
    if n < LEAST_JUDGED or width <= 0:
        return False
    leaning = abs(q75 + q25 - 2 * q50) / width
    tail = abs((q90 - q10) / width - NORMAL_TAIL)
    ends = abs((q99 - q01) / width - NORMAL_ENDS) if n >= LEAST_WITH_ENDS else 0.0
    allowed = 1 / sqrt(n)
    return (
        leaning <= 0.05 + 2.5 * allowed
        and tail <= 0.15 + 4 * allowed
        and ends <= 0.15 + 12 * allowed
    )


class Asked(Protocol):
    """What the settings of a test by deviates say about the figures of its groups."""

    @property
    def method(self) -> str: ...


class DeviateGroup(NamedTuple):
    """One group's sums and order statistics, in minor units of the scale used.

    ``place`` is where it stands among the groups of the amounts; ``effect`` describes its amounts,
    whatever the scale, ``least`` and ``greatest`` too. ``cubes`` and ``fourths`` are Σz³ and Σz⁴.
    ``middle_normal`` is judged where a modified deviate needs it.
    """

    place: int
    key: ByColumn
    n: int
    total: int
    squares: int
    median: Fraction
    ends: list[int]
    effect: Effect
    mad: Fraction
    deviation2: int
    cubes: float
    fourths: float
    least: int
    greatest: int
    middle_normal: bool


class Tested(NamedTuple):
    group: DeviateGroup
    least: int
    greatest: int
    centre: float
    unit: float

    @property
    def key(self) -> ByColumn:
        return self.group.key


def group_figures(worths: Worths, scale: Scale, asked: Asked) -> list[DeviateGroup]:
    """Sums, order statistics and spread of each group.

    The standardised powers are rounded to steps so fine that it does not show and so coarse that the
    greatest fits 64 bits; their sums are then whole numbers and the same in any order of rows.
    """
    found: list[DeviateGroup] = []
    for part, worth in worths.slices():
        units = scale.arranged(part, worth)
        effects = effects_of(worth)
        totals = units.totals() if scale.is_log else [e.total for e in effects]
        squares = units.squares() if scale.is_log else [e.squares for e in effects]
        medians = units.quantiles("0.5") if scale.is_log else [e.median for e in effects]
        ends = [list(map(round, units.quantiles(share))) for share in ends_of(worths.groups)]
        doubled = np.array([int(2 * median) for median in medians], dtype=np.int64)
        figures = zip(
            worths.keys[part], effects, totals, squares, medians, zip(*ends, strict=True) if ends else repeat(()),
            units.median_deviations(doubled), units.deviations(doubled),
            zip(*_powers(units, totals, squares), strict=True),
            worth.least.tolist(), worth.greatest.tolist(), _middles(units, asked), strict=False,
        )  # fmt: skip
        for place, (key, effect, *rest) in enumerate(figures, part.start):
            total, square, median, own_ends, mad, deviation2, powers, least, greatest, normal = rest
            cubes, fourths = (power / step_of(effect.n) for power in powers)
            found.append(
                DeviateGroup(
                    place, key, effect.n, total, square, median, list(own_ends), effect, mad,
                    deviation2, cubes, fourths, least, greatest, normal,
                )
            )  # fmt: skip
    return found


def _powers(
    units: Arranged, totals: Sequence[int], squares: Sequence[int]
) -> tuple[list[int], list[int]]:
    """Σz³ and Σz⁴ of each group in its steps; 0 where there is no spread."""
    fits = [moments(*three) for three in zip(units.sizes.tolist(), totals, squares, strict=True)]
    mean = np.array([fit.mean for fit in fits], dtype=np.float64)
    sd = np.array([fit.sd or np.inf for fit in fits], dtype=np.float64)
    step = np.array([step_of(fit.n) for fit in fits], dtype=np.float64)
    return units.powers(mean, sd, step)


def _middles(units: Arranged, asked: Asked) -> list[bool]:
    """Whether the middle of each group is normal, where a modified deviate needs it."""
    sizes = units.sizes.tolist()
    if asked.method != "modified":
        return [False] * len(sizes)
    shapes = np.stack([units.quantile_floats(share) for share in SHAPE], axis=1).tolist()
    return [normal_middle(n, shape) for n, shape in zip(sizes, shapes, strict=True)]


def testable(found: list[DeviateGroup], least: int) -> tuple[list[DeviateGroup], list[NotTested]]:
    small = [NotTested(g.key, num.too_few(g.n, least), g.n) for g in found if g.n < least]
    return [g for g in found if g.n >= least], small


def limits_of(groups: Grouping, tested: Sequence[Tested]) -> pa.Table:
    """The input table ``limits`` of groups with a centre and a unit."""
    return lim.limit_table(
        groups,
        tested,
        [(t.least, t.greatest) for t in tested],
        [(t.centre, t.centre, t.unit) for t in tested],
        [(t.group.least, t.group.greatest) for t in tested],
    )


def step_of(n: int) -> int:
    """Steps that 1 is cut into: a power of ten with n² steps, the bound of z⁴, within 64 bits."""
    return int(10 ** max(min(int(18.9 - 2 * log10(max(n, 2))), 12), 0))
