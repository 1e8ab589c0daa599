"""Bursts: the days in which somebody has more rows than at their own rate, before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc

from sabueso.stats.parts import by_parts

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
    a row's day, outside of the window). p is that of as many of all rows but the first, each as likely in the window as its
    days are of all (the binomial law, given the rows), times the windows that this is the fullest of: a bound of the law of
    the scan statistic (Naus, J. I. 1965, Journal of the American Statistical Association 60, 532-538).
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

    def judge(own: NDArray[np.int64], part: slice) -> Bursts:
        return _judged(own, day[part], rows[part], width, period, least_outside)

    return by_parts(starts, len(day), judge, _none(0))


def _none(g: int) -> Bursts:
    return Bursts(
        np.full(g, np.nan),
        np.zeros(g, np.int64),
        np.zeros(g, np.int64),
        np.zeros(g),
        np.zeros(g, np.bool_),
    )


def _judged(
    starts: NDArray[np.int64],
    day: NDArray[np.int64],
    rows: NDArray[np.int64],
    width: int,
    period: int,
    least_outside: int,
) -> Bursts:
    ends = np.append(starts[1:], len(day))
    g = len(starts)
    found = _none(g)
    begin, end = day[starts], day[ends - 1] + 1
    # Days of one payee stand so far from those of the next that no window reaches them.
    least = int(day.min()) - width - LOCAL
    apart = int(day.max()) + width + LOCAL + 1 - least
    who = np.repeat(np.arange(g), ends - starts)
    key = who * apart + (day - least)
    total, squared = (np.concatenate([[0], np.cumsum(x)]) for x in (rows, rows**2))
    stop = np.searchsorted(key, key + width, side="left")
    inside = total[stop] - total[:-1]
    most = np.maximum.reduceat(inside, starts)
    # The first of the fullest windows.
    place = np.where(inside == most[who], np.arange(len(day)), len(day))
    i = np.minimum.reduceat(place, starts)
    j, first, every = stop[i], day[i], total[ends] - total[starts]
    outside, days = every - most, ends - starts

    alone = (outside == 0) & (days > 1) & (period > width)
    if alone.any():
        found.first[alone], found.count[alone], found.alone[alone] = begin[alone], most[alone], True
        share = width / period
        found.expected[alone] = most[alone] * share
        found.p[alone] = np.minimum(days[alone] * share ** (days[alone] - 1.0), 1.0)

    some = np.flatnonzero((outside >= least_outside) & (days > 1))
    if not len(some):
        return found
    i, j, first, outside, most = i[some], j[some], first[some], outside[some], most[some]
    begin, end = begin[some], end[some]
    span = np.maximum(end - begin - width, 1)
    near = np.maximum(first - LOCAL, begin), np.minimum(first + width + LOCAL, end)
    at = [np.searchsorted(key, some * apart + (edge - least), side="left") for edge in near]
    beside = (total[i] - total[at[0]]) + (total[at[1]] - total[j])
    about = (first - near[0]) + np.maximum(near[1] - first - width, 0)
    rate = np.maximum(outside / span, np.where(about >= LOCAL, beside / np.maximum(about, 1), 0.0))
    a, b = starts[some], ends[some]
    squares = (squared[i] - squared[a]) + (squared[b] - squared[j])
    clump = np.maximum(squares / outside, 1.0)
    found.first[some], found.count[some], found.expected[some] = first, most, rate * width
    tail = _tail(most, outside, clump, width / (width + span))
    local = _tail(most, beside, clump, width / (width + about))
    tail = np.where(about >= LOCAL, np.maximum(tail, local), tail)
    found.p[some] = np.minimum(tail * days[some], 1.0)
    return found


def _tail(
    inside: NDArray[np.int64],
    outside: NDArray[np.int64],
    clump: NDArray[np.float64],
    share: NDArray[np.float64],
) -> NDArray[np.float64]:
    """P that of as many rows, the first in the window, as many of the others lie there, each with a chance: of so many
    fewer as come several a day."""
    others = inside / clump - 1.0
    some = others > 0
    tail = betainc(np.where(some, others, 1.0), outside / clump + 1.0, share)
    return np.where(some, tail, 1.0)
