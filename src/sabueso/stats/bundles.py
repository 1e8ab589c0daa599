"""Bundles of amounts, each below a limit, that pass it together, and how many of them chance would make."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise, permutations
from math import factorial

import numpy as np

EXHAUSTIVE = 7
"""Rows up to which every order of their amounts is looked at."""
ORDERS = 400
MOST_CELLS = 4_000_000
"""Amounts of random orders that are held at once."""

Draw = Callable[[np.ndarray, int], Iterator[np.ndarray]]
"""Gives so many random orders of the amounts of some, all with equally many rows.

Called with their numbers, shape (m,), and how many orders; yields units of shape (part of the orders, m, n)."""


@dataclass(frozen=True, eq=False)
class Amounts:
    """Amounts of many, each below its limit: those of the i-th lie from ``starts[i]`` up to ``starts[i + 1]``,
    by day.

    Parameters
    ----------
    starts : array of int, shape (g + 1,)
    days, units : array of int, shape (n,)
        Days in order within each; units are minor units of money.
    limits : array of int, shape (g,)
    """

    starts: np.ndarray
    days: np.ndarray
    units: np.ndarray
    limits: np.ndarray

    @cached_property
    def sizes(self) -> np.ndarray:
        return np.diff(self.starts)

    def ends(self, within: int) -> np.ndarray:
        """Of each row the place after the last that is of the same and within so many days, shape (n,)."""
        if not len(self.days):
            return self.days
        whose = np.repeat(np.arange(len(self.sizes)), self.sizes)
        first = int(self.days.min())
        apart = int(self.days.max()) - first + within + 1
        key = whose * apart + (self.days - first)
        return np.searchsorted(key, key + within, side="right")

    def bundles(self, within: int) -> dict[int, list[tuple[int, int]]]:
        """Rows that together reach a limit, of whoever has some: places, both inclusive.

        From the first row on: the rows within so many days of it; where they are several and reach the
        limit they are a bundle, and the next begins after them.
        """
        ends = self.ends(within)
        sums = np.concatenate([[0], np.cumsum(self.units)])
        places = np.arange(len(ends))
        limits = np.repeat(self.limits, self.sizes)
        hits = np.flatnonzero((ends - places > 1) & (sums[ends] - sums[places] >= limits))
        whose = np.searchsorted(self.starts, hits, side="right") - 1
        found: dict[int, list[tuple[int, int]]] = {}
        free = 0  # no bundle reaches into the rows of the next
        for at, end, who in zip(hits.tolist(), ends[hits].tolist(), whose.tolist(), strict=True):
            if at >= free:
                free = end
                found.setdefault(who, []).append((at, end - 1))
        return found

    def expected(
        self, within: int, draw: Draw, orders: int = ORDERS, which: Sequence[int] | None = None
    ) -> np.ndarray:
        """How many bundles each would have if the same amounts fell on the same days in any order: the mean
        over all orders up to seven rows (five with few ``orders``), over so many random ones beyond.

        Parameters
        ----------
        draw : callable
            Gives random orders.
        which : sequence of int
            Whose; of all by default.

        Returns
        -------
        array of float, shape (len(which),)
        """
        asked = np.arange(len(self.sizes)) if which is None else np.asarray(which, dtype=np.int64)
        found = np.zeros(len(asked))
        ends = self.ends(within)
        able = self._may_reach(ends)[asked]
        by_size = np.flatnonzero(able)[np.argsort(self.sizes[asked[able]], kind="stable")]
        for chosen in _alike(by_size, self.sizes[asked[by_size]], orders):
            who = asked[chosen]
            size = int(self.sizes[who[0]])
            own = self.starts[who][:, None] + np.arange(size)
            reach = ends[own] - self.starts[who][:, None]
            every, seen = _every_order(size, orders), 0
            drawn = (
                draw(who, orders)
                if every is None
                else iter([self._units(who)[:, every].transpose(1, 0, 2)])
            )
            for part in drawn:
                found[chosen] += _count_bundles(part, reach, self.limits[who])
                seen += len(part)
            found[chosen] /= seen
        return found

    def _units(self, who: np.ndarray) -> np.ndarray:
        """Units of some who have equally many, shape (m, n)."""
        return self.units[self.starts[who][:, None] + np.arange(self.sizes[who[0]])]

    def _may_reach(self, ends: np.ndarray) -> np.ndarray:
        """Who has rows near one another enough, and amounts that could pass the limit there."""
        able = self.sizes > 1
        if not able.any():
            return able
        # Empty ones have no place to reduce from.
        begins = self.starts[:-1][self.sizes > 0]
        longest, largest = np.zeros_like(self.sizes), np.zeros_like(self.limits)
        longest[self.sizes > 0] = np.maximum.reduceat(ends - np.arange(len(ends)), begins)
        largest[self.sizes > 0] = np.maximum.reduceat(self.units, begins)
        return able & (longest > 1) & (longest * largest.astype(np.float64) >= self.limits)

    def own_streams(self, seed: int) -> Draw:
        """Random orders of which each has a stream of its own: what others have changes nothing for it."""

        def draw(who: np.ndarray, orders: int) -> Iterator[np.ndarray]:
            units = self._units(who)
            streams = [np.random.default_rng([seed, int(number)]) for number in who]
            for many in _parts(orders, units.size):
                drawn = np.empty((many, *units.shape), dtype=units.dtype)
                for place, (stream, own) in enumerate(zip(streams, units, strict=True)):
                    asked = np.broadcast_to(own, (many, len(own)))
                    drawn[:, place] = stream.permuted(asked, axis=1)
                yield drawn

        return draw

    def one_stream(self, seed: int) -> Draw:
        """Random orders of one stream for all: much faster where there are many."""
        stream = np.random.default_rng(seed)

        def draw(who: np.ndarray, orders: int) -> Iterator[np.ndarray]:
            units = self._units(who)
            for many in _parts(orders, units.size):
                drawn = np.repeat(units[None], many, axis=0)
                stream.permuted(drawn, axis=2, out=drawn)
                yield drawn

        return draw


def _parts(orders: int, cells: int) -> Iterator[int]:
    """Orders as many at a time as memory has room for."""
    most = max(MOST_CELLS // cells, 1)
    while orders > 0:
        yield min(most, orders)
        orders -= most


def _every_order(size: int, orders: int) -> np.ndarray | None:
    """All orders of few rows, shape (orders, size); None where they are too many."""
    if size > EXHAUSTIVE or factorial(size) > 13 * orders:
        return None
    return np.array(list(permutations(range(size))))


def _alike(places: np.ndarray, sizes: np.ndarray, orders: int) -> Iterator[np.ndarray]:
    """Places in runs of one size, as many at a time as memory has room for."""
    edges = [0, *(np.flatnonzero(np.diff(sizes)) + 1).tolist(), len(places)]
    for first, last in pairwise(edges):
        if first == last:
            continue
        run, size = places[first:last], int(sizes[first])
        most = max(MOST_CELLS // (max(orders, factorial(min(size, EXHAUSTIVE))) * size), 1)
        yield from (run[k : k + most] for k in range(0, len(run), most))


def _count_bundles(drawn: np.ndarray, reach: np.ndarray, limits: np.ndarray) -> np.ndarray:
    """The number of bundles in all orders together.

    Parameters
    ----------
    drawn : array of int, shape (orders, m, n)
    reach : array of int, shape (m, n)
        Of each row the place after the last that may be in a bundle with it.
    limits : array of int, shape (m,)
    """
    orders, many, size = drawn.shape
    places = np.arange(size, dtype=np.int32)
    most = int(drawn[0].sum(axis=1).max())
    sums = np.zeros((orders, many, size + 1), dtype=np.int32 if most < 2**31 else np.int64)
    np.cumsum(drawn, axis=2, out=sums[:, :, 1:])
    # The same places in every order.
    last = (np.arange(many)[:, None] * (size + 1) + reach).ravel()
    inside = np.take(sums.reshape(orders, -1), last, axis=1).reshape(drawn.shape)
    inside -= sums[:, :, :-1]
    hit = (inside >= limits[:, None]) & (reach - places > 1)
    # The place of the first hit from each place on, so that as many steps are taken as there are bundles.
    following = np.full((orders, many, size + 1), size, dtype=np.int32)
    following[:, :, :-1] = np.where(hit, places, np.int32(size))
    backwards = following[:, :, ::-1]
    np.minimum.accumulate(backwards, axis=2, out=backwards)
    first = following[:, :, 0]
    order, who = np.nonzero(first < size)
    at = first[order, who]
    count = np.zeros(many, dtype=np.int64)
    while len(at):
        count += np.bincount(who, minlength=many)
        at = following[order, who, reach[who, at]]
        going = at < size
        order, who, at = order[going], who[going], at[going]
    return count
