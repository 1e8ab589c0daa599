"""A window of days against all other days, days without anything being days with nothing."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

import numpy as np
from scipy.special import stdtr


@dataclass(frozen=True)
class Window:
    """What lies in a window of ``days`` days: its ``total``, what the other ``outside`` days lead to expect,
    its z, and the rank of it among all windows as long that do not touch it."""

    days: int
    outside: int
    total: float
    mean: float
    sd: float
    expected: float
    z: float | None
    rank_p: float | None


def window_z(total: float, days: int, outside: int, mean: float, sd: float) -> float | None:
    """(Σ window − L m)/(s sqrt(L (1 + L/n0))), m and s of the n0 other days; None where these do not vary.

    Examples
    --------
    >>> round(window_z(total=30.0, days=4, outside=100, mean=5.0, sd=2.0), 6)
    2.451452
    """
    if outside < 2 or sd <= 0:
        return None
    return (total - days * mean) / (sd * sqrt(days * (1 + days / outside)))


def look(daily: np.ndarray, start: int, days: int) -> Window:
    """Compare a window with the other days, and with all windows as long.

    Parameters
    ----------
    daily : array of float, shape (n,)
        The figure of every day, 0 where there is none.
    start, days : int
        The first day of the window, and how many it has.

    Raises
    ------
    ValueError
        If the window does not lie within the days.
    """
    n = len(daily)
    if days < 1 or start < 0 or start + days > n:
        raise ValueError("the window does not lie within the days")
    outside = np.concatenate([daily[:start], daily[start + days :]])
    total = float(daily[start : start + days].sum())
    mean = float(outside.mean()) if len(outside) else 0.0
    sd = float(outside.std(ddof=1)) if len(outside) > 1 else 0.0
    sums = np.concatenate([[0.0], np.cumsum(daily)])
    every = sums[days:] - sums[:-days]
    first = np.arange(len(every))
    apart = every[(first + days <= start) | (first >= start + days)]
    # Sums of the same amounts in another order are equal.
    slack = 1e-9 * max(1.0, float(np.abs(sums).max()))
    rank = (1 + int((apart >= total - slack).sum())) / (1 + len(apart)) if len(apart) else None
    return Window(
        days=days,
        outside=len(outside),
        total=total,
        mean=mean,
        sd=sd,
        expected=days * mean,
        z=window_z(total, days, len(outside), mean, sd),
        rank_p=rank,
    )


def day_tail(value: float, outside: int, mean: float, sd: float) -> float | None:
    """Upper tail of one new day by Student's t: (x − m)/(s sqrt(1 + 1/n0)) on n0 − 1; None where the other
    days do not vary."""
    if outside < 3 or sd <= 0:
        return None
    return float(stdtr(outside - 1, -(value - mean) / (sd * sqrt(1 + 1 / outside))))
