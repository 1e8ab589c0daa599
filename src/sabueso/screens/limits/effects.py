"""What flagged rows do to their group: its amounts with and without them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from sabueso.population.table import money
from sabueso.screens.limits.result import Amounts
from sabueso.screens.limits.scales import WORTH
from sabueso.screens.worths import Worths
from sabueso.stats.arranged import Arranged
from sabueso.stats.moments import moments
from sabueso.stats.quartiles import in_units

MIDDLE = ("0.5", "0.95")
"""Shares of the order statistics of an effect."""


class Effect(NamedTuple):
    """n, Σ, Σ², median and 95th percentile of some amounts, in minor units."""

    n: int
    total: int
    squares: int
    median: Fraction
    p95: Fraction

    def amounts(self, scale: int) -> Amounts:
        unit = 10**scale
        m = moments(self.n, self.total, self.squares, scale)
        return Amounts(
            n=m.n,
            mean=m.mean,
            median=in_units(self.median, unit),
            sd=m.sd,
            sum=money(self.total, scale),
            p95=in_units(self.p95, unit),
        )


def effects_of(worth: Arranged) -> list[Effect]:
    """The figures of each group of some amounts."""
    middles = (worth.quantiles(share) for share in MIDDLE)
    figures = worth.sizes.tolist(), worth.totals(), worth.squares()
    return list(map(Effect, *figures, *middles))


@dataclass(frozen=True)
class FlaggedSums:
    """By group: how many rows were flagged, below and above its limits, Σ and Σ² of their amounts in minor
    units, exact."""

    n: list[int]
    total: list[int]
    squares: list[int]
    low: list[int]
    high: list[int]

    @classmethod
    def of(cls, found: pa.Table, groups: int) -> FlaggedSums:
        """From the rows of :func:`limits.rows_beyond`, their ``worth`` carried along."""
        n, total, square = ([0] * groups for _ in range(3))
        low, above = (np.zeros(groups, np.int64) for _ in range(2))
        if found.num_rows:
            position, units = (found.column(name).to_numpy() for name in ("position", WORTH))
            high = found.column("high").to_numpy(zero_copy_only=False).astype(bool)
            low = np.bincount(position[~high], minlength=groups)
            above = np.bincount(position[high], minlength=groups)
            if position.min() != position.max():
                order = np.argsort(position, kind="stable")
                position, units = position[order], units[order]
            places, starts = np.unique(position, return_index=True)
            sums = _exact_sums(units, starts)
            counts = np.diff([*starts, len(units)])
            for place, count, t, s in zip(places.tolist(), counts.tolist(), *sums, strict=True):
                n[place], total[place], square[place] = count, t, s
        return cls(n, total, square, low.tolist(), above.tolist())

    def rest(self, place: int, whole: Effect, middle: tuple[Fraction, ...] | None) -> Effect | None:
        """A group's amounts without its flagged rows, of which the median and the 95th percentile are
        given; None where all were flagged."""
        if middle is None:
            return None
        return Effect(
            whole.n - self.n[place],
            whole.total - self.total[place],
            whole.squares - self.squares[place],
            *middle,
        )


_HALF = 20


def _exact_sums(units: np.ndarray, starts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Σ and Σ² of whole numbers in runs that begin at ``starts``, as Python's whole numbers.

    Numbers below 2^40, and no more than 2^21 of them, are squared in two halves of 20 bits: no part
    of a sum passes 2^63, and it takes a tenth of the time that whole numbers without limit take.
    """
    bound = 1 << (2 * _HALF)
    if len(units) > 1 << 21 or units.min() <= -bound or units.max() >= bound:
        exact = units.astype(object)
        return np.add.reduceat(exact, starts), np.add.reduceat(exact * exact, starts)
    size = np.abs(units)
    high, low = size >> _HALF, size & ((1 << _HALF) - 1)
    parts = (
        np.add.reduceat(part, starts).astype(object)
        for part in (high * high, high * low, low * low)
    )
    squares = [
        part * 2**shift for part, shift in zip(parts, (2 * _HALF, _HALF + 1, 0), strict=True)
    ]
    return np.add.reduceat(units, starts).astype(object), sum(squares)


def without_flagged(
    worths: Worths, places: Sequence[int], wholes: Sequence[Effect], beyond: FlaggedSums
) -> list[Effect | None]:
    """Each group's amounts without its flagged rows, which are its least or its greatest ones; None where
    all were flagged.

    Parameters
    ----------
    places : sequence of int
        Where each of the groups is among those of ``worths``, ascending.
    """
    touched = {at: position for position, at in enumerate(places) if beyond.n[position]}
    rest: list[Effect | None] = list(wholes)
    for part, worth in worths.slices() if touched else ():
        here = [position for at, position in touched.items() if part.start <= at < part.stop]
        left = [position for position in here if wholes[position].n > beyond.n[position]]
        which = np.array([places[position] - part.start for position in left], dtype=np.int64)
        low, high = (
            np.array([side[position] for position in left], dtype=np.int64)
            for side in (beyond.low, beyond.high)
        )
        middles = (worth.quantiles(share, which, low, high) for share in MIDDLE)
        found = dict(zip(left, zip(*middles, strict=True), strict=True))
        for position in here:
            rest[position] = beyond.rest(position, wholes[position], found.get(position))
    return rest
