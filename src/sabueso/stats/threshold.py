"""How many amounts would lie just below a limit, and how many bundles of them would pass it together."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import permutations
from math import factorial

import numpy as np
from scipy.special import betainc, gammaincc

EXHAUSTIVE = 7
"""Rows up to which every order of their amounts is looked at."""
ORDERS = 400
MOST_STEPS = 60
MOST_CELLS = 4_000_000
"""Amounts of random orders that are held at once."""


@dataclass(frozen=True)
class Below:
    """Rows in the band below a limit: ``count``, what the bins around it lead to expect, the variance of
    a count about that (the fit's error and the spread of the bins in it), p of so many or more."""

    count: int
    expected: float
    variance: float
    p: float
    dispersion: float
    fitted: np.ndarray


def excess_below(counts: np.ndarray, band: np.ndarray, degree: int = 2) -> Below:
    """Compare the bins just below a limit with a curve through all others.

    The counts of bins of equal width follow a Poisson law whose log is a polynomial of their place,
    fitted without the band. Bins that spread wider than Poisson (round prices do) widen the law
    to a negative binomial of the same mean.

    Parameters
    ----------
    counts : array of int, shape (n,)
        Rows of each bin from well below to well above the limit.
    band : array of bool, shape (n,)
        The bins just below it.

    Raises
    ------
    ValueError
        If there are too few bins besides the band for the curve.

    References
    ----------
    McCrary, J. (2008). Manipulation of the running variable in the regression discontinuity design.
    Journal of Econometrics 142, 698-714.
    Kleven, H. J. (2016). Bunching. Annual Review of Economics 8, 435-464.
    """
    place = np.linspace(-1.0, 1.0, len(counts))
    design = np.vander(place, degree + 1, increasing=True)
    outside, y = design[~band], counts[~band].astype(np.float64)
    if len(y) < degree + 3:
        raise ValueError("too few bins for a curve")
    mean = np.maximum(y, 0.5)
    fitted = np.zeros(degree + 1)
    for _ in range(MOST_STEPS):
        working = np.log(mean) + (y - mean) / mean
        root = np.sqrt(mean)
        before = fitted
        fitted = np.linalg.lstsq(outside * root[:, None], working * root, rcond=None)[0]
        mean = np.exp(np.clip(outside @ fitted, -30, 30))
        if float(np.abs(fitted - before).max()) < 1e-10:
            break
    pearson = float(((y - mean) ** 2 / mean).sum()) / (len(y) - degree - 1)
    dispersion = max(1.0, pearson)
    inside = design[band]
    expected = np.exp(np.clip(inside @ fitted, -30, 30))
    total = float(expected.sum())
    information = outside.T @ (outside * mean[:, None])
    gradient = expected @ inside
    error = dispersion * float(gradient @ np.linalg.pinv(information) @ gradient)
    variance = dispersion * total + error
    count = int(counts[band].sum())
    return Below(
        count=count,
        expected=total,
        variance=variance,
        p=count_tail(count, total, variance),
        dispersion=dispersion,
        fitted=np.exp(np.clip(design @ fitted, -30, 30)),
    )


def count_tail(count: int, mean: float, variance: float) -> float:
    """P of so many or more: negative binomial of this mean and variance, Poisson where the variance is no
    larger than the mean.

    Examples
    --------
    >>> round(count_tail(3, 1.0, 1.0), 6), count_tail(0, 2.0, 5.0)
    (0.080301, 1.0)
    """
    if count <= 0:
        return 1.0
    if mean <= 0:
        return 0.0
    if variance <= mean * (1 + 1e-9):
        return float(1.0 - gammaincc(count, mean))
    size = mean * mean / (variance - mean)
    share = mean / variance
    return float(betainc(count, size, 1.0 - share))


@dataclass(frozen=True, eq=False)
class Amounts:
    """Somebody's amounts, each below a limit, by day: ``days`` in order, both of shape (n,), integers."""

    days: np.ndarray
    units: np.ndarray
    limit: int


def bundles(own: Amounts, within: int) -> list[tuple[int, int]]:
    """Rows that together reach a limit, each of them below it.

    From the first row on: the rows within so many days of it; where they are several and reach the
    limit they are a bundle, and the next begins after them.

    Returns
    -------
    list of (first, last)
        Places, both inclusive.
    """
    ends = np.searchsorted(own.days, own.days + within, side="right")
    sums = np.concatenate([[0], np.cumsum(own.units)])
    places = np.arange(len(own.days))
    hits = np.flatnonzero((ends - places > 1) & (sums[ends] - sums[places] >= own.limit))
    found, free = [], 0
    for at in hits.tolist():
        if at >= free:
            free = int(ends[at])
            found.append((at, free - 1))
    return found


def expected_bundles(
    whose: Sequence[Amounts],
    within: int,
    streams: Iterable[np.random.Generator],
    orders: int = ORDERS,
) -> list[float]:
    """How many bundles each would have if the same amounts fell on the same days in any order: the mean over
    all orders up to seven rows (five with few ``orders``), over so many random ones beyond.

    Parameters
    ----------
    streams : iterable of Generator
        One for each of ``whose``: what one has changes nothing for the others.
    """
    found = [0.0] * len(whose)
    some = [
        (place, each, stream)
        for place, (each, stream) in enumerate(zip(whose, streams, strict=True))
        if _may_reach(each, within)
    ]
    # Of like length together, so that little is looked at in vain; as many as memory has room for.
    some.sort(key=lambda one: len(one[1].days))
    at = 0
    while at < len(some):
        end, room = at, MOST_CELLS
        while (
            end < len(some) and (room := room - orders * len(some[end][1].days)) > 0
        ) or end == at:
            end += 1
        drawn = [_orders(each.units, stream, orders) for _, each, stream in some[at:end]]
        means = _means([each for _, each, _ in some[at:end]], drawn, within)
        for (place, _, _), mean in zip(some[at:end], means, strict=True):
            found[place] = mean
        at = end
    return found


def _may_reach(own: Amounts, within: int) -> bool:
    """Whether any order of the amounts can make a bundle."""
    if len(own.days) < 2:
        return False
    ends = np.searchsorted(own.days, own.days + within, side="right")
    most = int((ends - np.arange(len(ends))).max())
    return most > 1 and int(np.sort(own.units)[-most:].sum()) >= own.limit


def _orders(units: np.ndarray, stream: np.random.Generator, orders: int) -> np.ndarray:
    """Orders of amounts, one a column: all where they are few."""
    n = len(units)
    if n <= EXHAUSTIVE and factorial(n) <= 13 * orders:
        return units[np.array(list(permutations(range(n))))].T
    return stream.permuted(np.broadcast_to(units, (orders, n)), axis=1).T


def _means(whose: Sequence[Amounts], drawn: Sequence[np.ndarray], within: int) -> list[float]:
    """The mean number of bundles over the orders of each. The orders of all stand beside one another, so that
    a place in time is looked at once for all of them."""
    owner = np.repeat(np.arange(len(whose)), [each.shape[1] for each in drawn])
    longest = max(len(each.days) for each in whose)
    sums = np.zeros((longest + 1, len(owner)), dtype=np.int64)
    ends = np.zeros((longest, len(whose)), dtype=np.int64)
    first = 0
    for number, (each, orders) in enumerate(zip(whose, drawn, strict=True)):
        n, last = len(each.days), first + orders.shape[1]
        np.cumsum(orders, axis=0, out=sums[1 : n + 1, first:last])
        ends[:n, number] = np.searchsorted(each.days, each.days + within, side="right")
        first = last
    limits = np.array([each.limit for each in whose], dtype=np.int64)[owner]
    columns = np.arange(len(owner))
    free_from = np.zeros(len(owner), dtype=np.int64)
    count = np.zeros(len(owner), dtype=np.int64)
    for at in range(longest):
        wide = ends[at] - at > 1
        if not wide.any():
            continue
        end = ends[at][owner]
        inside = sums[end, columns] - sums[at]
        hit = wide[owner] & (free_from <= at) & (inside >= limits)
        count += hit
        free_from[hit] = end[hit]
    totals = np.bincount(owner, weights=count, minlength=len(whose))
    return [float(t / each.shape[1]) for t, each in zip(totals, drawn, strict=True)]
