"""Silences: how improbable the longest gap of somebody is at their own rate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sabueso.stats.parts import by_parts

BEFORE = 0.05
"""The chance of a gap at the rate of the days before it, below which it is unlikely."""


@dataclass(frozen=True)
class Silences:
    """The least probable gap of each of g payees: shape (g,). ``p`` is NaN where there were too few rows
    before any gap; ``at`` is the place of the row that ended it, -1 where there is none."""

    p: NDArray[np.float64]
    days: NDArray[np.int64]
    before: NDArray[np.int64]
    at: NDArray[np.int64]


def silences(
    starts: NDArray[np.int64],
    day: NDArray[np.int64],
    rows: NDArray[np.int64],
    *,
    least_days: int,
    least_before: int,
) -> Silences:
    """Judge each payee's gaps between days with rows, given sorted by payee and day.

    Of n days with rows, S days from the first to the last, those between fall anywhere at an even rate: that one gap has D
    days or more has the probability (1 - D/S)^(n - 2), given n and S, times the n - 1 gaps that it is the longest of (a
    bound of the law of the longest spacing: Fisher, R. A. 1929, Tests of significance in harmonic analysis, Proceedings of
    the Royal Society A 125, 54-59). A gap that is not unlikely by the days before it has the probability 1, that whoever
    is paid more often with time has none: of k days with rows in T days up to its end (1 - D/T)^(k - 1) is to be below
    ``BEFORE``.

    Parameters
    ----------
    starts : ndarray of int, shape (g,)
        Where each payee's days begin.
    day, rows : ndarray of int, shape (n,)
    least_days : int
        Days of silence below which a gap is not looked at.
    least_before : int
        Rows before a gap below which there is no rate.

    Examples
    --------
    >>> day = np.array([0, 10, 20, 30, 40, 440])
    >>> found = silences(np.array([0]), day, np.ones(6, dtype=int), least_days=90, least_before=5)
    >>> int(found.days[0]), float(found.p[0].round(6))
    (400, 0.000342)
    """

    def judge(own: NDArray[np.int64], part: slice) -> Silences:
        return _judged(own, day[part], rows[part], least_days, least_before, part.start)

    return by_parts(starts, len(day), judge, _none(0))


def _none(g: int) -> Silences:
    return Silences(
        np.full(g, np.nan), np.zeros(g, np.int64), np.zeros(g, np.int64), np.full(g, -1)
    )


def _judged(
    starts: NDArray[np.int64],
    day: NDArray[np.int64],
    rows: NDArray[np.int64],
    least_days: int,
    least_before: int,
    offset: int,
) -> Silences:
    n, g = len(day), len(starts)
    payee = np.zeros(n, dtype=np.int64)
    payee[starts[1:]] = 1
    payee = np.cumsum(payee)
    total = np.cumsum(rows)
    before = total - rows - (total[starts] - rows[starts])[payee]
    ends = np.append(starts[1:], n) - 1
    days, span = (ends - starts + 1)[payee], (day[ends] - day[starts])[payee]
    gap = np.diff(day, prepend=day[:1])
    gap[starts] = 0
    looked = (gap >= least_days) & (before >= least_before)
    p = np.full(n, np.inf)
    share = gap[looked] / np.maximum(span[looked], 1)
    p[looked] = np.minimum((1 - share) ** (days[looked] - 2) * (days[looked] - 1), 1.0)
    place, so_far = np.arange(n) - starts[payee], day - day[starts][payee]
    usual = (1 - gap / np.maximum(so_far, 1)) ** np.maximum(place - 1, 0) >= BEFORE
    p[looked & usual] = 1.0
    found = _none(g)
    least = np.minimum.reduceat(p, starts)
    for k in np.flatnonzero(np.isfinite(least)):
        end = starts[k + 1] if k + 1 < g else n
        at = int(starts[k] + np.argmin(p[starts[k] : end]))
        found.p[k], found.days[k], found.before[k] = p[at], gap[at], before[at]
        found.at[k] = at + offset
    return found
