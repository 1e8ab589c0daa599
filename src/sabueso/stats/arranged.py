"""Whole numbers in ascending order within their groups: order statistics, sums and deviations of every
group, exact, a group being a run of one array."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]

BLOCK = 1 << 15
"""Values that are worked on at once: so many fit what is nearest to the processor."""
_HALF = 30


class Block(NamedTuple):
    """Some of the values in their order: the figures of the group of each, which groups they are of, and
    where those begin among them."""

    values: Ints
    of_rows: tuple[npt.NDArray[Any], ...]
    groups: slice
    begins: Ints


class Around(NamedTuple):
    """The values on both sides of a place in the order of each group, and how many parts of the way
    between them it lies, of how many."""

    lower: Ints
    upper: Ints
    parts: Ints
    of: int

    def between(self) -> list[Fraction]:
        """The value at the place, interpolated and exact."""
        of = self.of
        return [
            Fraction(a * of + part * (b - a), of)
            for a, b, part in zip(
                self.lower.tolist(), self.upper.tolist(), self.parts.tolist(), strict=True
            )
        ]


@dataclass(frozen=True)
class Arranged:
    """Groups of values, none of them empty.

    Attributes
    ----------
    starts : array of int64
        Where each group begins in ``values``, and after the last one its end.
    values : array of int64
        Below 2^61 in size; ascending within each group.
    """

    starts: Ints
    values: Ints

    @classmethod
    def gathered(
        cls, sizes: Ints, ends: tuple[int, int], parts: Iterable[tuple[Ints, Ints]]
    ) -> Arranged:
        """Values that come in any order, in parts.

        Parameters
        ----------
        sizes : array of int64
            How many values each group has.
        ends : (int, int)
            The least and the greatest value of all.
        parts : iterable of (groups, values)
            The number of the group of each value, from 0, and the value.

        Raises
        ------
        ValueError
            If there are not as many values as said.
        """
        starts = np.concatenate(([0], np.cumsum(sizes, dtype=np.int64)))
        count, (least, greatest) = int(starts[-1]), ends
        bits = (greatest - least).bit_length()
        # Group and value are one number where both fit: to sort it takes a third of the time.
        packs = bits + (len(sizes) - 1).bit_length() <= 62
        values = np.empty(count, np.int64)
        groups = np.empty(0 if packs else count, np.int64)
        place = 0
        for of_group, some in parts:
            here = slice(place, place + len(some))
            place += len(some)
            if place > count:
                break
            if packs:
                values[here] = (of_group.astype(np.int64) << bits) + (some - least)
            else:
                values[here], groups[here] = some, of_group
        if place != count:
            raise ValueError(f"{place} values or more where {count} were said")
        if packs:
            values.sort()
            values &= (1 << bits) - 1
            values += least
        else:
            values = values[np.lexsort((values, groups))]
        return cls(starts, values)

    @property
    def sizes(self) -> Ints:
        """n of each group."""
        return np.diff(self.starts)

    @property
    def least(self) -> Ints:
        return self.values[self.starts[:-1]]

    @property
    def greatest(self) -> Ints:
        return self.values[self.starts[1:] - 1]

    def group(self, place: int) -> Ints:
        """The values of one group."""
        return self.values[self.starts[place] : self.starts[place + 1]]

    def within(self, least: int | None, greatest: int | None) -> tuple[Arranged, Ints]:
        """The values from ``least`` to ``greatest``, and which groups have any."""
        kept = np.ones(len(self.values), bool)
        if least is not None:
            kept &= self.values >= least
        if greatest is not None:
            kept &= self.values <= greatest
        sizes = np.add.reduceat(kept, self.starts[:-1], dtype=np.int64)
        which = np.flatnonzero(sizes)
        starts = np.concatenate(([0], np.cumsum(sizes[which])))
        return Arranged(starts, self.values[kept]), which

    def at(self, ranks: Ints) -> Ints:
        """The value of each group at its rank, from 0."""
        return self.values[self.starts[:-1] + ranks]

    def quantiles(
        self, share: str, which: Ints | None = None, low: Ints | int = 0, high: Ints | int = 0
    ) -> list[Fraction]:
        """The order statistic at (n - 1)·share of each group, interpolated and exact: type 7 of Hyndman
        and Fan (1996).

        Parameters
        ----------
        which : array of int64, optional
            The groups that are asked for; all by default.
        low, high : int or array of int64
            So many of the least and of the greatest values of each are left out of account, and at least
            one is left in.

        Examples
        --------
        >>> four = Arranged(np.array([0, 4]), np.array([1, 2, 3, 10]))
        >>> four.quantiles("0.75")
        [Fraction(19, 4)]
        """
        return self.around(share, which, low, high).between()

    def quantile_floats(self, share: str) -> Floats:
        """The same as floats, for judging shapes."""
        lower, upper, parts, of = self.around(share)
        return lower + (upper - lower) * (parts / of)

    def around(
        self, share: str, which: Ints | None = None, low: Ints | int = 0, high: Ints | int = 0
    ) -> Around:
        """The values that (n - 1)·share of each group lies between."""
        exact = Fraction(share)
        first, end = self.starts[:-1], self.starts[1:]
        if which is not None:
            first, end = first[which], end[which]
        first = first + low
        last = end - high - first - 1
        reach = last * exact.numerator
        place, parts = reach // exact.denominator, reach % exact.denominator
        lower = self.values[first + place]
        upper = self.values[first + np.minimum(place + 1, last)]
        return Around(lower, upper, parts, exact.denominator)

    def nearest(self, doubled: Ints, ranks: Ints) -> Ints:
        """|2x - doubled| of the value of each group that has so many nearer ones, from 0.

        The nearest r + 1 values stand side by side in the order: the window of that length whose further
        end is nearest is found by halving, of all groups at once.
        """
        first = self.starts[:-1]
        low, high = np.zeros(len(first), np.int64), self.sizes - ranks - 1
        most = high.copy()

        def left(place: Ints) -> Ints:
            return doubled - 2 * self.values[first + place]

        def right(place: Ints) -> Ints:
            return 2 * self.values[first + place + ranks] - doubled

        # The first window whose right end is as far as its left one, or the last window.
        for _ in range(int(high.max(initial=0)).bit_length() + 1):
            middle = (low + high) // 2
            enough = right(middle) >= left(middle)
            going = low < high
            high = np.where(going & enough, middle, high)
            low = np.where(going & ~enough, middle + 1, low)
        here = np.maximum(left(low), right(low))
        before = np.maximum(low - 1, 0)
        found: Ints = np.minimum(here, np.maximum(left(before), right(before)))
        assert (low <= most).all()
        return found

    def median_deviations(self, doubled: Ints) -> list[Fraction]:
        """The median of |x - m| of each group, ``doubled`` being 2m."""
        n = self.sizes
        both = self.nearest(doubled, (n - 1) // 2), self.nearest(doubled, n // 2)
        return [Fraction(a + b, 4) for a, b in zip(*(d.tolist() for d in both), strict=True)]

    def deviations(self, doubled: Ints) -> list[int]:
        """Σ|2x - doubled| of each group."""
        if not self._sums_fit:
            (found,) = self._sums(lambda part, centre: (np.abs(2 * part - centre),), doubled)
            return found
        lesser = self.below(-(-doubled // 2))
        return [
            2 * (total - 2 * below) + centre * (2 * few - n)
            for total, below, centre, few, n in zip(
                self.totals(), self._least_sums(lesser), doubled.tolist(), lesser.tolist(),
                self.sizes.tolist(), strict=True,
            )
        ]  # fmt: skip

    def below(self, bounds: Ints) -> Ints:
        """How many values of each group lie below the bound of the group, found by halving."""
        first, last = self.starts[:-1], self.sizes - 1
        low, high = np.zeros(len(first), np.int64), self.sizes
        for _ in range(int(high.max(initial=0)).bit_length()):
            middle = (low + high) // 2
            less = self.values[first + np.minimum(middle, last)] < bounds
            going = low < high
            low = np.where(going & less, middle + 1, low)
            high = np.where(going & ~less, middle, high)
        return low

    def counts_of(self, value: int) -> Ints:
        """How often a value occurs in each group."""
        at = np.full(len(self.starts) - 1, value, np.int64)
        return self.below(at + 1) - self.below(at)

    def totals(self) -> list[int]:
        """Σ of each group."""
        if self._sums_fit:
            sums: list[int] = np.add.reduceat(self.values, self.starts[:-1]).tolist()
            return sums
        (found,) = self._sums(lambda part: (part,))
        return found

    @property
    def _sums_fit(self) -> bool:
        """Whether the sum of no group can pass 63 bits."""
        if not len(self.values):
            return True
        furthest = max(abs(int(self.least.min())), abs(int(self.greatest.max())))
        return furthest * int(self.sizes.max()) < 1 << 63

    def _least_sums(self, counts: Ints) -> list[int]:
        """Σ of so many of the least values of each group, where sums fit."""
        starts = self.starts[:-1]
        # Runs that end where the least ones do; a sum over no values is not one that NumPy knows.
        ends = (starts + counts)[counts < self.sizes]
        runs = np.unique(np.concatenate([starts, ends]))
        sums = np.add.reduceat(self.values, runs)[np.searchsorted(runs, starts)]
        least: list[int] = np.where(counts > 0, sums, 0).tolist()
        return least

    def squares(self) -> list[int]:
        """Σ² of each group."""
        if not len(self.values):
            return []
        if max(-int(self.least.min()), int(self.greatest.max())) < 1 << (_HALF + 1):
            (found,) = self._sums(lambda part: (part * part,))
            return found
        mask = (1 << _HALF) - 1

        def parts(part: Ints) -> tuple[Ints, ...]:
            high, low = part >> _HALF, part & mask
            return high * high, high * low, low * low

        return [
            (high << 2 * _HALF) + (cross << _HALF + 1) + low
            for high, cross, low in zip(*self._sums(parts), strict=True)
        ]

    def powers(self, mean: Floats, sd: Floats, steps: Floats) -> tuple[list[int], list[int]]:
        """Σ of z³ and of z⁴ of each group, z = (x - mean)/sd, each rounded to one of so many steps that 1
        is cut into: whole numbers, the same in any order of rows."""

        def terms(part: Ints, centre: Floats, unit: Floats, step: Floats) -> tuple[Ints, ...]:
            z = (part - centre) / unit
            square = z * z
            return tuple(np.rint(square * rest * step).astype(np.int64) for rest in (z, square))

        cubes, fourths = self._sums(terms, mean, sd, steps)
        return cubes, fourths

    def blocks(self, *by_group: npt.NDArray[Any]) -> Iterator[Block]:
        """The values block by block, with figures of their groups."""
        for start in range(0, len(self.values), BLOCK):
            part = self.values[start : start + BLOCK]
            first = int(np.searchsorted(self.starts, start, side="right")) - 1
            last = int(np.searchsorted(self.starts, start + len(part), side="left"))
            begins = np.maximum(self.starts[first:last], start) - start
            sizes = np.diff(np.append(begins, len(part)))
            of_rows = tuple(np.repeat(figures[first:last], sizes) for figures in by_group)
            yield Block(part, of_rows, slice(first, last), begins)

    def _sums(
        self, terms: Callable[..., tuple[Ints, ...]], *by_group: npt.NDArray[Any]
    ) -> list[list[int]]:
        """Σ of whole terms below 2^63 of each group, without limit.

        ``terms`` takes values, and for each the figures of its group. Sums are kept in two halves, so that
        none passes 64 bits.
        """
        none = terms(self.values[:0], *(figures[:0] for figures in by_group))
        count = len(self.starts) - 1
        sums = [(np.zeros(count, np.int64), np.zeros(count, np.int64)) for _ in none]
        for block in self.blocks(*by_group):
            found = terms(block.values, *block.of_rows)
            for (high, low), part in zip(sums, found, strict=True):
                high[block.groups] += np.add.reduceat(part >> 32, block.begins)
                low[block.groups] += np.add.reduceat(part & 0xFFFFFFFF, block.begins)
        return [
            [(h << 32) + rest for h, rest in zip(high.tolist(), low.tolist(), strict=True)]
            for high, low in sums
        ]
