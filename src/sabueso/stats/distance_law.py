"""The law of the robust distance: tabled by simulation for few subjects, published for many.

Below :data:`MANY` subjects d²/(a p) follows F(p, m) with a and m of ``distance_law.csv``, which
``bench/distance_law.py`` made once; from there on the laws of Hardin, J. and Rocke, D. M. (2005),
Journal of Computational and Graphical Statistics 14, 928-946, and Cerioli, A. (2010), Journal of the
American Statistical Association 105, 147-156, hold.
"""

from __future__ import annotations

import csv
from bisect import bisect_right
from functools import cache
from math import exp, log
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import betainc, chdtrc, chdtri, fdtrc, fdtri

from sabueso.stats.distance import Floats

MANY = 1_000
LEAST_RATIO = 3
"""Subjects for each measure below which nothing is known of the law."""
_TABLE = Path(__file__).with_name("distance_law.csv")


MOST_MEASURES, RATIO_OF_MORE = 8, 20
"""Measures up to which the table is sure of few subjects, and the subjects for each that more need."""


def least_subjects(p: int) -> int:
    """Subjects of p measures from which a law is known."""
    return max((RATIO_OF_MORE if p > MOST_MEASURES else LEAST_RATIO) * p, 2 * p + 3, 6)


def is_known(n: int, p: int) -> bool:
    """Whether a law is known for n subjects and p measures."""
    return n >= least_subjects(p)


def robust_tail(
    d2: ArrayLike, n: int, p: int, share: float | None, inside: NDArray[np.bool_]
) -> Floats:
    """P(D² > d²) for the reweighted robust distance of one of n normal subjects.

    Parameters
    ----------
    d2 : array_like, shape (n,)
        Squared distances.
    share : float or None
        The nominal share of the subset; None for the default, h = floor((n + p + 1)/2).
    inside : array of bool, shape (n,)
        The subjects with weight one.

    Raises
    ------
    ValueError
        If there are too few subjects for any law.
    """
    values = np.asarray(d2, dtype=np.float64)
    if n < MANY:
        scale, df = tabled(n, p, share)
        return np.asarray(fdtrc(p, df, values / (scale * p)))
    w = int(np.sum(inside))
    outer = outer_tail(values, w, p)
    ratio = np.clip(values * w / (w - 1) ** 2, 0.0, 1.0)
    inner = betainc((w - p - 1) / 2, p / 2, 1 - ratio)
    # A subject of weight one lies within the reweighting limit, and its law knows nothing beyond.
    return np.asarray(np.where(inside, np.maximum(inner, outer), outer))


def robust_limit(
    alpha: float, n: int, p: int, share: float | None, inside: NDArray[np.bool_]
) -> float:
    """The d² that a share alpha of normal subjects exceeds, by the law of :func:`robust_tail`."""
    if n < MANY:
        scale, df = tabled(n, p, share)
        return float(scale * p * fdtri(p, df, 1 - alpha))
    return outer_limit(alpha, int(np.sum(inside)), p)


def outer_tail(d2: ArrayLike, w: int, p: int) -> Floats:
    """P(D² > d²) of a normal subject that the fit, made of w others, did not use."""
    values = np.asarray(d2, dtype=np.float64)
    return np.asarray(fdtrc(p, w - p, values * w * (w - p) / ((w + 1) * (w - 1) * p)))


def outer_limit(alpha: float, w: int, p: int) -> float:
    """The d² that a share alpha of such subjects exceeds."""
    return float((w + 1) * (w - 1) * p / (w * (w - p)) * fdtri(p, w - p, 1 - alpha))


def tabled(n: int, p: int, share: float | None) -> tuple[float, float]:
    """(a, m) of the law d²/(a p) ~ F(p, m), interpolated between the sizes of the table.

    Raises
    ------
    ValueError
        If there are fewer subjects than the table begins with.
    """
    if not is_known(n, p):
        raise ValueError(f"no law is known of the robust distance of {n} subjects, {p} measures")
    wanted = 0.5 if share is None else share
    measures = sorted({key[1] for key in _cells()})
    # More measures than the table has: those of its last, at as many subjects for each of them.
    low = max((m for m in measures if m <= p), default=measures[0])
    high = min((m for m in measures if m >= p), default=measures[-1])
    at = 0.0 if high == low else (p - low) / (high - low)
    shares = sorted({key[0] for key in _cells()})
    below = max(s for s in shares if s <= wanted)
    above = min(s for s in shares if s >= wanted)
    between = 0.0 if above == below else (wanted - below) / (above - below)
    figures = np.zeros(2)
    for s, of_share in ((below, 1 - between), (above, between)):
        for m, of_measures in ((low, 1 - at), (high, at)):
            if of_share * of_measures:
                figures += of_share * of_measures * np.array(_at(s, m, n * m / p, (n + p + 1) % 2))
    return exp(figures[0]), 1 / max(figures[1], 1e-6)


def _at(share: float, p: int, n: float, odd: int) -> tuple[float, float]:
    """(log a, 1/m) of p measures of the table, linear in 1/n between sizes with the same rest of
    n + p + 1 by two, which decides the share in the subset."""
    sizes = _cells()[share, p, odd]
    x = [1 / size for size, *_ in sizes]
    place = bisect_right([-v for v in x], -1 / n)
    if place == 0:
        return sizes[0][1:]
    if place == len(sizes):
        # Beyond the last size of the table the law goes over to chi-square(p)/p: a = 1, 1/m = 0.
        part = (1 / n) / x[-1]
        return sizes[-1][1] * part, sizes[-1][2] * part
    (_, a0, i0), (_, a1, i1) = sizes[place - 1], sizes[place]
    part = (x[place - 1] - 1 / n) / (x[place - 1] - x[place])
    return a0 + (a1 - a0) * part, i0 + (i1 - i0) * part


@cache
def _cells() -> dict[tuple[float, int, int], list[tuple[int, float, float]]]:
    """(share, measures, rest) -> (subjects, log a, 1/m), ascending."""
    found: dict[tuple[float, int, int], list[tuple[int, float, float]]] = {}
    with _TABLE.open(newline="", encoding="ascii") as file:
        for row in csv.DictReader(file):
            n, p = int(row["subjects"]), int(row["measures"])
            key = float(row["share"]), p, (n + p + 1) % 2
            found.setdefault(key, []).append(
                (n, log(float(row["scale"])), float(row["inverse_df"]))
            )
    return {key: sorted(rows) for key, rows in found.items()}


def chi_square_law(d2: ArrayLike, p: int, alpha: float) -> tuple[Floats, float]:
    """Tail and limit by chi-square(p), which few subjects do not follow."""
    return np.asarray(chdtrc(p, np.asarray(d2, dtype=np.float64))), float(chdtri(p, alpha))
