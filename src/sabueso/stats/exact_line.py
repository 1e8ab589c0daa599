"""An amount that is a fixed part and so much for each of other numbers, exactly but for rounding: found though some rows are wrong."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from sabueso.stats.additive import HOLDS, same_but_rounded

LEAST = 100
"""Rows of fewer than which nothing is said."""
KEPT = 0.9
"""Share of the rows that the coefficients are solved by: those that are closest."""
STARTS, FIRST_STEPS, BEST, STEPS = 20, 2, 3, 30
"""How often the solution is begun from random rows, how often each is improved at first, how many of the best are to the end, and
how often at most."""
DECIMALS = 5
"""Decimals of a coefficient, at most."""
PASSES = 4
"""How often each coefficient is tried one step of its last decimal lower and higher."""
AS_GOOD = 0.002
"""Share of the rows by which fewer decimals may hold for less."""


class ExactLine(NamedTuple):
    """What each number is taken times, in their order, nothing for some; and the share of the rows that are so."""

    coefficients: tuple[float, ...]
    holds: float


def exact_line(own: np.ndarray, numbers: np.ndarray, scale: int) -> ExactLine | None:
    """The coefficients by which nearly all rows are what they are made of, with no more than five decimals.

    Parameters
    ----------
    own : array of float, shape (n,)
        Amounts of ``scale`` decimals, rounded to them.
    numbers : array of float, shape (n, k)
        Numbers of the rows; a column of ones stands for a fixed part.
    scale : int
        Decimals of the amounts.

    Returns
    -------
    ExactLine or None
        None where nine in ten rows are not so, or rows are too few to tell.

    Notes
    -----
    Least trimmed squares by concentration steps: the coefficients of the nine tenths of the rows that are closest to
    them, begun from few rows at random and from all, and rounded.

    References
    ----------
    Rousseeuw, P. J. and Van Driessen, K. (2006), Computing LTS regression for large data sets, Data Mining and Knowledge
    Discovery 12, 29-45.

    Examples
    --------
    >>> rng = np.random.default_rng(1)
    >>> km, minutes = rng.integers(1, 400, 300) / 10, rng.integers(2, 60, 300)
    >>> fares = np.round(3.5 + 1.15 * km + 0.4 * minutes, 2)
    >>> fares[:5] *= 2
    >>> exact_line(fares, np.column_stack([np.ones(300), km, minutes]), 2).coefficients
    (3.5, 1.15, 0.4)
    """
    known = ~(np.isnan(own) | np.isnan(numbers).any(axis=1))
    y, x = own[known], numbers[known]
    n, k = x.shape
    if n < max(LEAST, 10 * k):
        return None
    size = np.abs(x).max(axis=0)
    if not (size > 0).all():
        return None
    solved = _trimmed(y, x / size)
    solved = _of_those_within(y, x / size, solved, 10.0**-scale)
    exact = solved / size
    near = [_nearest(y, x, np.round(exact, d), 10.0**-d, scale) for d in range(DECIMALS + 1)]
    shares = [_share(y, x, each, scale) for each in near]
    most = max(shares)
    if most < HOLDS:
        return None
    decimals = next(d for d, share in enumerate(shares) if share >= most - AS_GOOD)
    found, exact = near[decimals], near[decimals]
    # Each as plain as it may be: a fixed part of 2.80 beside 1.234 for each kilometre.
    for place in range(k):
        for fewer in range(decimals):
            plainer = found.copy()
            plainer[place] = round(float(exact[place]), fewer)
            if _share(y, x, plainer, scale) >= most - AS_GOOD:
                found = plainer
                break
    return ExactLine(tuple(float(each) + 0.0 for each in found), _share(y, x, found, scale))


def _nearest(
    y: np.ndarray, x: np.ndarray, coefficients: np.ndarray, step: float, scale: int
) -> np.ndarray:
    """Coefficients of some decimals by which more rows are so than by those beside them: what they were solved for is told less
    closely than that where numbers go together."""
    best, most = coefficients, _share(y, x, coefficients, scale)
    for _ in range(PASSES):
        before = most
        for place in range(len(best)):
            for way in (-step, step):
                other = best.copy()
                other[place] = np.round(other[place] + way, DECIMALS)
                if (share := _share(y, x, other, scale)) > most:
                    best, most = other, share
        if most == before:
            break
    return best


def _share(y: np.ndarray, x: np.ndarray, coefficients: np.ndarray, scale: int) -> float:
    return float(same_but_rounded(y, x @ coefficients, scale).mean())


def _of_those_within(y: np.ndarray, x: np.ndarray, solved: np.ndarray, unit: float) -> np.ndarray:
    """The coefficients of all rows that are made so but for rounding: of more than were solved by, and told more closely."""
    near = np.abs(y - x @ solved) <= unit
    return (
        solved if near.sum() < KEPT * len(y) else np.linalg.lstsq(x[near], y[near], rcond=None)[0]
    )


def _trimmed(y: np.ndarray, x: np.ndarray) -> np.ndarray:
    """Coefficients of the rows that are closest to them."""
    n, k = x.shape
    kept = int(np.ceil(KEPT * n))
    rng = np.random.default_rng(0)
    begun = [np.arange(n), *(rng.choice(n, k + 1, replace=False) for _ in range(STARTS))]
    first = [_closer(y, x, _solved(y, x, rows), kept, FIRST_STEPS) for rows in begun]
    best = sorted(first, key=lambda solved: _off(y, x, solved, kept))[:BEST]
    ends = [_closer(y, x, solved, kept, STEPS) for solved in best]
    return min(ends, key=lambda solved: _off(y, x, solved, kept))


def _solved(y: np.ndarray, x: np.ndarray, rows: np.ndarray) -> np.ndarray:
    found: np.ndarray = np.linalg.lstsq(x[rows], y[rows], rcond=None)[0]
    return found


def _closer(y: np.ndarray, x: np.ndarray, solved: np.ndarray, kept: int, steps: int) -> np.ndarray:
    """The coefficients after some steps, each by the rows that are closest to the ones before."""
    for _ in range(steps):
        close = np.argpartition(np.abs(y - x @ solved), kept - 1)[:kept]
        again = _solved(y, x, close)
        if np.allclose(again, solved, rtol=1e-12, atol=1e-12):
            break
        solved = again
    return solved


def _off(y: np.ndarray, x: np.ndarray, solved: np.ndarray, kept: int) -> float:
    """How far the closest rows are from them, squared and added up."""
    off = np.sort(np.abs(y - x @ solved))[:kept]
    return float((off**2).sum())
