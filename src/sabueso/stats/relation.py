"""How two measures go together: correlation, two lines, and what each subject does to them."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from math import atanh, isfinite, sqrt, tanh

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import fdtri, ndtr, ndtri, stdtr, stdtrit

Floats = NDArray[np.float64]
MOST_EXACT = 2000
"""Subjects up to which every pair of them gives a slope; of more, pairs are drawn."""
DRAWN = 2_000_000
_SINGULAR = 1e-13
"""Share of a sum of squares below which nothing is left of it."""
_ALONE = 1e-12
"""What a leverage leaves of 1 where the line goes through the subject, whatever it is."""


@dataclass(frozen=True)
class Correlation:
    """r of ``n`` subjects, its two-sided p, and its 95 % interval; None where n is too small for them."""

    n: int
    r: float
    p: float | None
    low: float | None
    high: float | None


@dataclass(frozen=True)
class Sums:
    """Of n pairs centred on their means the sums of squares and of products, and the ``squares`` that the
    least-squares line of y on x leaves."""

    n: int
    sxx: float
    syy: float
    sxy: float
    squares: float

    @property
    def slope(self) -> float:
        return self.sxy / self.sxx


@dataclass(frozen=True)
class Influence:
    """What each subject does to the line and to r. Arrays of one shape; ``residual`` is the external
    studentised residual, of n - 3 degrees of freedom; ``without`` is r of the others, NaN where it is not
    defined."""

    residual: Floats
    leverage: Floats
    cook: Floats
    dfbetas: Floats
    without: Floats


@dataclass(frozen=True)
class Fitted(Influence):
    """The least-squares line of y on x, and of each subject what it does to the line and to r."""

    slope: float
    intercept: float
    slope_error: float
    slope_error_hc3: float


def correlation(x: ArrayLike, y: ArrayLike) -> Correlation | None:
    """Pearson's r with p by t on n - 2, and the interval by Fisher's z.

    None where a measure does not vary, or there are fewer than two subjects.

    References
    ----------
    Fisher, R. A. (1921), Metron 1, 3-32.

    Examples
    --------
    >>> found = correlation([1, 2, 3, 4, 5], [2, 1, 4, 3, 5])
    >>> round(found.r, 4), round(found.p, 4), round(found.low, 4), round(found.high, 4)
    (0.8, 0.1041, -0.2796, 0.9862)
    """
    dx, dy = _centred(x), _centred(y)
    n = len(dx)
    sxx, syy = float(dx @ dx), float(dy @ dy)
    if n < 2 or sxx <= 0 or syy <= 0:
        return None
    return correlation_of(n, float(dx @ dy) / sqrt(sxx * syy))


def correlation_of(n: int, r: float) -> Correlation:
    """r of n subjects, however it was computed, with its p and interval."""
    r = _within(r)
    if n < 3:
        return Correlation(n, r, None, None, None)
    p = correlation_p(r, n)
    if n < 4 or abs(r) == 1:
        return Correlation(n, r, p, None, None)
    half = float(ndtri(0.975)) / sqrt(n - 3)
    return Correlation(n, r, p, tanh(atanh(r) - half), tanh(atanh(r) + half))


def correlation_p(r: float, n: int) -> float:
    """Two-sided p of a correlation of n independent normal pairs, by t on n - 2."""
    if abs(r) >= 1:
        return 0.0
    t = abs(r) * sqrt((n - 2) / (1 - r * r))
    return float(2 * stdtr(n - 2, -t))


def rank_correlation(x: ArrayLike, y: ArrayLike) -> Correlation | None:
    """Spearman's rho: r of the ranks, equal values sharing their mean rank; p by t on n - 2.

    References
    ----------
    Spearman, C. (1904), American Journal of Psychology 15, 72-101.
    """
    with ThreadPoolExecutor(2) as both:  # sorting leaves the interpreter's lock to the other
        dx, dy = both.map(mean_ranks, (x, y))
    n = len(dx)
    dx -= (n + 1) / 2
    dy -= (n + 1) / 2
    sxx, syy = float(dx @ dx), float(dy @ dy)
    if n < 2 or sxx <= 0 or syy <= 0:
        return None
    found = correlation_of(n, float(dx @ dy) / sqrt(sxx * syy))
    return Correlation(n, found.r, found.p, None, None)


def mean_ranks(values: ArrayLike) -> Floats:
    """Ranks from 1; equal values share the mean of theirs."""
    given = np.asarray(values)
    order = np.argsort(given)
    ascending = given[order]
    starts = np.flatnonzero(np.concatenate([[True], ascending[1:] != ascending[:-1]])[: len(given)])
    times = np.diff(np.append(starts, len(given)))
    found = np.empty(len(given), dtype=np.float64)
    found[order] = np.repeat(starts + (times + 1) / 2, times)
    return found


def fit(x: ArrayLike, y: ArrayLike) -> Fitted | None:
    """The least-squares line with its diagnostics; None where x does not vary or n < 4.

    References
    ----------
    Cook, R. D. (1977), Technometrics 19, 15-18. Belsley, D. A., Kuh, E. and Welsch, R. E. (1980),
    Regression Diagnostics. MacKinnon, J. G. and White, H. (1985), Journal of Econometrics 29, 305-325
    (HC3).
    """
    a, b = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    n = len(a)
    dx, dy = _centred(a), _centred(b)
    sxx, syy, sxy = float(dx @ dx), float(dy @ dy), float(dx @ dy)
    if n < 4 or sxx <= 0:
        return None
    off = _off(dx, dy, sxy / sxx, syy)
    sums = Sums(n, sxx, syy, sxy, float(off @ off))
    rest = 1 - (1 / n + dx * dx / sxx)
    safe = np.where(rest <= _ALONE, 1.0, rest)
    return Fitted(
        **vars(influence(dx, dy, sums)),
        slope=sums.slope,
        intercept=float(b.mean() - sums.slope * a.mean()),
        slope_error=sqrt(sums.squares / (n - 2) / sxx),
        slope_error_hc3=sqrt(float((dx * dx) @ (off / safe) ** 2)) / sxx,
    )


def influence(dx: Floats, dy: Floats, sums: Sums) -> Influence:
    """What subjects do to the line and to r.

    Parameters
    ----------
    dx, dy : array, shape (k,)
        Measures of the subjects less the means of all n.
    sums : Sums
        Of all n, which may be more than the k.
    """
    n, sxx, squares = sums.n, sums.sxx, sums.squares
    leverage = 1 / n + dx * dx / sxx
    rest = 1 - leverage
    off = _off(dx, dy, sums.slope, sums.syy)
    alone = rest <= _ALONE
    safe = np.where(alone, 1.0, rest)
    others = np.maximum(squares - off * off / safe, 0.0) / (n - 3)
    others[others <= _SINGULAR * squares / (n - 3)] = 0.0
    with np.errstate(divide="ignore", invalid="ignore"):
        residual = off / np.sqrt(others * safe)
        residual[off == 0] = 0.0
        residual[alone] = 0.0
        cook = off * off * leverage / (2 * squares / (n - 2) * safe * safe)
        dfbetas = residual * dx / np.sqrt(sxx * safe)
    cook[off == 0], dfbetas[off == 0] = 0.0, 0.0
    cook[alone], dfbetas[alone] = np.inf, np.inf
    return Influence(residual, leverage, cook, dfbetas, r_without(dx, dy, sums))


def _off(dx: Floats, dy: Floats, slope: float, syy: float) -> Floats:
    off = dy - slope * dx
    # What rounding leaves of a line that fits exactly is no deviation.
    off[np.abs(off) <= _SINGULAR * sqrt(syy)] = 0.0
    return off


def r_without(dx: Floats, dy: Floats, sums: Sums) -> Floats:
    """r of all but each subject, of measures centred on their means; NaN where it is not defined."""
    share = sums.n / (sums.n - 1)
    sxx, syy, sxy = sums.sxx, sums.syy, sums.sxy
    x_rest, y_rest = sxx - share * dx * dx, syy - share * dy * dy
    none = (x_rest <= _SINGULAR * sxx) | (y_rest <= _SINGULAR * syy)
    with np.errstate(divide="ignore", invalid="ignore"):
        found = (sxy - share * dx * dy) / np.sqrt(x_rest * y_rest)
    found[none] = np.nan
    return np.clip(found, -1.0, 1.0)


def residual_limit(alpha: float, n: int) -> float:
    """|studentised residual| that one of n is beyond with probability alpha at most (Bonferroni)."""
    return float(stdtrit(n - 3, 1 - alpha / (2 * n)))


def residual_p(residual: ArrayLike, n: int) -> Floats:
    """Two-sided p of external studentised residuals, by t on n - 3."""
    return np.asarray(2 * stdtr(n - 3, -np.abs(np.asarray(residual, dtype=np.float64))))


def cook_limit(n: int) -> float:
    """The middle of F(2, n - 2), beyond which a subject moves the line by itself."""
    return float(fdtri(2, n - 2, 0.5))


def dfbetas_limit(n: int) -> float:
    """2/√n, beyond which a subject moves the slope more than its part (Belsley, Kuh and Welsch 1980).

    Examples
    --------
    >>> dfbetas_limit(100)
    0.2
    """
    return 2 / sqrt(n)


def theil_sen(x: ArrayLike, y: ArrayLike, seed: int = 0) -> tuple[float, float, int] | None:
    """The median of the slopes between pairs of subjects, the intercept by the medians, and how many
    pairs were taken: all up to 2,000 subjects, else two million drawn. None where x does not vary.

    References
    ----------
    Theil, H. (1950), Proceedings of the Royal Netherlands Academy of Sciences 53, 386-392; Sen, P. K.
    (1968), Journal of the American Statistical Association 63, 1379-1389.

    Examples
    --------
    >>> theil_sen([0, 1, 2, 3, 4], [0, 2, 4, 60, 8])
    (2.0, 0.0, 10)
    """
    a, b = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
    n = len(a)
    if n <= MOST_EXACT:
        first, second = np.triu_indices(n, 1)
    else:
        draw = np.random.default_rng(seed)
        first = draw.integers(0, n, DRAWN)
        second = (first + draw.integers(1, n, DRAWN)) % n
    run = a[second] - a[first]
    apart = run != 0
    if not apart.any():
        return None
    slope = float(np.median((b[second] - b[first])[apart] / run[apart]))
    return slope, float(np.median(b) - slope * np.median(a)), int(apart.sum())


def bend(x: ArrayLike, y: ArrayLike) -> tuple[float, float] | None:
    """Whether a square of x says more than the line: p by t on n - 3, and the share of the variance of y
    that it adds. None where it cannot be told.

    Examples
    --------
    >>> p, added = bend([1, 2, 3, 4, 5, 6], [1, 4, 9, 16, 25, 36])
    >>> p < 1e-6, round(added, 4)
    (True, 0.0417)
    """
    dx, dy = _centred(x), _centred(y)
    n = len(dx)
    sxx, syy = float(dx @ dx), float(dy @ dy)
    if n < 5 or sxx <= 0 or syy <= 0:
        return None
    square = _centred(dx * dx)
    square = square - (float(square @ dx) / sxx) * dx
    off = dy - (float(dx @ dy) / sxx) * dx
    return bend_of(
        Sums(n, sxx, syy, float(dx @ dy), float(off @ off)),
        float(square @ square),
        float(square @ off),
    )


def bend_of(sums: Sums, size: float, product: float) -> tuple[float, float] | None:
    """The same of sums: ``size`` of the squares of what x² has beside x, ``product`` with y less the line."""
    if size <= _SINGULAR * sums.sxx * sums.sxx or sums.squares <= _SINGULAR * sums.syy:
        return None
    gained = product**2 / size
    left = sums.squares - gained
    if left <= _SINGULAR * sums.syy:
        return 0.0, gained / sums.syy
    t = sqrt(gained / (left / (sums.n - 3)))
    return float(2 * stdtr(sums.n - 3, -t)), gained / sums.syy


def difference_p(first: Correlation, second: Correlation) -> float | None:
    """Two-sided p that two independent correlations are of one relation, by Fisher's z.

    Examples
    --------
    >>> one, other = Correlation(103, 0.9, 0, 0, 0), Correlation(103, 0.8, 0, 0, 0)
    >>> round(difference_p(one, other), 5)
    0.00825
    """
    if min(first.n, second.n) < 4 or max(abs(first.r), abs(second.r)) >= 1:
        return None
    spread = sqrt(1 / (first.n - 3) + 1 / (second.n - 3))
    z = (atanh(first.r) - atanh(second.r)) / spread
    return float(2 * ndtr(-abs(z))) if isfinite(z) else None


def two_ways(x: ArrayLike, y: ArrayLike) -> tuple[float, float]:
    """r by centred products, and as the mean product of z-scores (by n - 1): they agree."""
    dx, dy = _centred(x), _centred(y)
    n = len(dx)
    products = float(dx @ dy) / sqrt(float(dx @ dx) * float(dy @ dy))
    scores = (dx / dx.std(ddof=1)) @ (dy / dy.std(ddof=1)) / (n - 1)
    return products, float(scores)


def _centred(values: ArrayLike) -> Floats:
    """Less the median, then less the mean: what is large and alike loses no digit of the rest."""
    found = np.asarray(values, dtype=np.float64)
    if not len(found):
        return found
    found = found - np.median(found)
    return np.asarray(found - found.mean())


def _within(r: float) -> float:
    return 1.0 if r > 1 - 1e-15 else -1.0 if r < -1 + 1e-15 else r
