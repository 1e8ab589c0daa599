"""Bursts: the days in which somebody has more rows than at their own rate, before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import gammainc

LOCAL = 90
"""Days on either side whose rate a window is held against, where it is above that of all days."""


@dataclass(frozen=True)
class Bursts:
    """The fullest window of each of g payees: shape (g,). ``p`` is NaN where too few rows lie outside it;
    ``first`` is the day that it begins with, ``count`` its rows, ``expected`` those at the payee's rate;
    ``alone`` says that no row lies outside, and the rate is that of rows spread over the whole period."""

    p: NDArray[np.float64]
    first: NDArray[np.int64]
    count: NDArray[np.int64]
    expected: NDArray[np.float64]
    alone: NDArray[np.bool_]


def bursts(
    starts: NDArray[np.int64],
    day: NDArray[np.int64],
    rows: NDArray[np.int64],
    *,
    width: int,
    period: int,
    least_outside: int = 5,
) -> Bursts:
    """Judge each payee's fullest window of ``width`` days, given days with rows sorted by payee and day.

    The rate is that of the days outside of the window, or of the 90 days on either side where these have
    more: a season is no burst. Rows that come several a day count as so many fewer (their mean number on
    a row's day, outside of the window). p is the Poisson tail times the windows that this is the fullest of.
    Where no row lies outside, m days with rows within the window out of a whole period: m (width/period)^(m - 1),
    that all of them fall within so many days of the first.

    Parameters
    ----------
    starts : ndarray of int, shape (g,)
        Where each payee's days begin.
    day, rows : ndarray of int, shape (n,)
    period : int
        Days of the whole population.
    least_outside : int
        Rows outside of the window below which there is no rate.

    Examples
    --------
    >>> day = np.array([0, 40, 80, 120, 160, 200, 203, 205, 206, 207, 240, 280])
    >>> found = bursts(np.array([0]), day, np.ones(12, dtype=int), width=10, period=730)
    >>> int(found.first[0]), int(found.count[0]), round(float(found.expected[0]), 2)
    (200, 5, 0.26)
    """
    g = len(starts)
    found = Bursts(
        np.full(g, np.nan),
        np.zeros(g, np.int64),
        np.zeros(g, np.int64),
        np.zeros(g),
        np.zeros(g, np.bool_),
    )
    ends = [*starts[1:].tolist(), len(day)]
    for k, (a, b) in enumerate(zip(starts.tolist(), ends, strict=True)):
        d, n = day[a:b], rows[a:b]
        total = np.concatenate([[0], np.cumsum(n)])
        stop = np.searchsorted(d, d + width, side="left")
        inside = total[stop] - total[:-1]
        i = int(np.argmax(inside))
        count, outside = int(inside[i]), int(total[-1] - inside[i])
        if not outside and len(d) > 1 and period > width:
            found.first[k], found.count[k], found.alone[k] = int(d[0]), count, True
            found.expected[k] = count * width / period
            found.p[k] = min(len(d) * (width / period) ** (len(d) - 1), 1.0)
        if outside < least_outside or len(d) < 2:
            continue
        first, j = int(d[i]), int(stop[i])
        begin, end = int(d[0]), int(d[-1]) + 1
        span = max(end - begin - width, 1)
        near = [max(first - LOCAL, begin), min(first + width + LOCAL, end)]
        left = total[i] - total[np.searchsorted(d, near[0], side="left")]
        right = total[np.searchsorted(d, near[1], side="left")] - total[j]
        about = (first - near[0]) + max(near[1] - first - width, 0)
        rate = max(outside / span, (left + right) / about if about >= LOCAL else 0.0)
        squares = int((n[:i] ** 2).sum() + (n[j:] ** 2).sum())
        clump = max(squares / outside, 1.0)
        found.first[k], found.count[k], found.expected[k] = first, count, rate * width
        tail = float(gammainc(count / clump, rate * width / clump))
        found.p[k] = min(tail * len(d), 1.0)
    return found
