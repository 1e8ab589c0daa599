"""Leading-digit tests: expected proportions, class tests and measures of fit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import chdtrc, ndtr, ndtri

from sabueso.stats.adjust import Method, adjust

DigitTest = Literal["first", "second", "first-two", "first-three", "last-two"]
DIGIT_TESTS: tuple[DigitTest, ...] = ("first", "second", "first-two", "first-three", "last-two")

# Upper ends of close, acceptable and marginal conformity of the mean absolute deviation
# (Nigrini, M. J. 2012, Benford's Law, table 7.1). None is published for the last two digits.
MAD_RANGES: dict[str, tuple[float, float, float]] = {
    "first": (0.006, 0.012, 0.015),
    "second": (0.008, 0.010, 0.012),
    "first-two": (0.0012, 0.0018, 0.0022),
    "first-three": (0.00036, 0.00044, 0.00050),
}
CONFORMITY = ("close", "acceptable", "marginal", "nonconforming")


def class_labels(test: DigitTest) -> NDArray[np.int64]:
    """The classes of a digit test, ascending: 1-9, 0-9, 10-99, 100-999 or 0-99."""
    first, last = {
        "first": (1, 9),
        "second": (0, 9),
        "first-two": (10, 99),
        "first-three": (100, 999),
        "last-two": (0, 99),
    }[test]
    return np.arange(first, last + 1)


def expected_shares(test: DigitTest) -> NDArray[np.float64]:
    """Expected proportion of each class, in the order of :func:`class_labels`; sums to 1.

    References
    ----------
    Benford, F. (1938), Proceedings of the American Philosophical Society 78, 551-572.
    Hill, T. P. (1995), American Mathematical Monthly 102, 322-327 (later digits).

    Examples
    --------
    >>> expected_shares("first").round(3).tolist()
    [0.301, 0.176, 0.125, 0.097, 0.079, 0.067, 0.058, 0.051, 0.046]
    """
    d = class_labels(test).astype(np.float64)
    if test == "second":
        leading = np.arange(1, 10)[:, None] * 10
        return np.asarray(np.log10(1 + 1 / (leading + d)).sum(axis=0))
    if test == "last-two":
        return np.full(100, 0.01)
    return np.asarray(np.log10(1 + 1 / d))


@dataclass(frozen=True)
class DigitFit:
    """Digit tests of G groups on K classes: 2-D fields are (G, K), 1-D ones (G,)."""

    test: DigitTest
    labels: NDArray[np.int64]
    expected: NDArray[np.float64]
    n: NDArray[np.int64]
    share: NDArray[np.float64]
    z: NDArray[np.float64]
    p: NDArray[np.float64]
    p_adjusted: NDArray[np.float64]
    band_low: NDArray[np.float64]
    band_high: NDArray[np.float64]
    flagged: NDArray[np.bool_]
    chi_square: NDArray[np.float64]
    chi_square_df: int
    chi_square_p: NDArray[np.float64]
    mad: NDArray[np.float64]
    mad_expected: NDArray[np.float64]
    conformity: list[str | None]
    ks: NDArray[np.float64]
    ks_limit: NDArray[np.float64]


def fit_digits(
    counts: ArrayLike,
    test: DigitTest,
    *,
    z_limit: float | None = None,
    alpha: float = 0.05,
    tolerance: float | None = None,
    adjustment: Method = "holm",
) -> DigitFit:
    """Test class counts against the expected proportions.

    Parameters
    ----------
    counts : array_like of int, shape (G, K)
        Number of amounts in each class, one row a group; every group holds at least one.
    test : str
        Which digits were counted.
    z_limit : float, optional
        If given, a flagged class must also pass this |z|.
    alpha : float
        A flagged class has an adjusted p below alpha, and the default band holds all classes of
        a conforming population in 1 - alpha of cases.
    tolerance : float, optional
        A fixed band of ± this percentage of the expected share instead of the default one.
    adjustment : str
        Adjustment of p over all classes of all groups.

    Returns
    -------
    DigitFit

    Raises
    ------
    ValueError
        If the counts do not have one column a class, or a group is empty.

    Notes
    -----
    z = (|po - pe| - c) / sqrt(pe (1 - pe) / n) with the continuity correction c = 1/(2n) where it
    is smaller than |po - pe| (Fleiss, J. L. 1981, Statistical Methods for Rates and Proportions).
    Its sign is that of po - pe. The mean absolute deviation that chance alone gives is the mean of
    sqrt(2 pe (1 - pe) / (π n)). The Kolmogorov-Smirnov limit 1.36/sqrt(n) is conservative for a
    discrete law.
    """
    table = np.atleast_2d(np.asarray(counts, dtype=np.int64))
    labels, pe = class_labels(test), expected_shares(test)
    if table.shape[1] != labels.size:
        raise ValueError(f"{test} needs {labels.size} classes, got {table.shape[1]}")
    n = table.sum(axis=1)
    if np.any(n < 1):
        raise ValueError("a group without amounts has no digits to test")
    size = n[:, None].astype(np.float64)
    po = table / size
    difference = np.abs(po - pe)
    sigma = np.sqrt(pe * (1 - pe) / size)
    half = 1 / (2 * size)
    z = np.sign(po - pe) * (difference - np.where(half < difference, half, 0.0)) / sigma
    p = np.minimum(2 * ndtr(-np.abs(z)), 1.0)
    p_adjusted = adjust(p.ravel(), adjustment).reshape(p.shape)
    if tolerance is None:
        width = ndtri(1 - alpha / (2 * labels.size)) * sigma
    else:
        width = np.broadcast_to(pe * tolerance / 100, po.shape)
    low, high = np.maximum(pe - width, 0.0), np.minimum(pe + width, 1.0)
    flagged = ((po < low) | (po > high)) & (p_adjusted < alpha)
    if z_limit is not None:
        flagged &= np.abs(z) > z_limit
    chi_square = (size * (po - pe) ** 2 / pe).sum(axis=1)
    mad = difference.mean(axis=1)
    return DigitFit(
        test=test,
        labels=labels,
        expected=pe,
        n=n,
        share=po,
        z=z,
        p=p,
        p_adjusted=p_adjusted,
        band_low=low,
        band_high=high,
        flagged=flagged,
        chi_square=chi_square,
        chi_square_df=labels.size - 1,
        chi_square_p=chdtrc(labels.size - 1, chi_square),
        mad=mad,
        mad_expected=np.sqrt(2 * pe * (1 - pe) / (np.pi * size)).mean(axis=1),
        conformity=[conformity(test, float(value)) for value in mad],
        ks=np.abs(np.cumsum(po - pe, axis=1)).max(axis=1),
        ks_limit=1.36 / np.sqrt(n),
    )


def conformity(test: DigitTest, mad: float) -> str | None:
    """Published reading of a mean absolute deviation, or None where no range is published.

    Examples
    --------
    >>> conformity("first", 0.005), conformity("first", 0.02)
    ('close', 'nonconforming')
    """
    if test not in MAD_RANGES:
        return None
    return CONFORMITY[int(np.searchsorted(MAD_RANGES[test], mad, side="right"))]


def mantissa_arc(n: int, cos_sum: float, sin_sum: float) -> tuple[float, float]:
    """Mantissa arc test: squared length of the mean vector, and its p.

    Parameters
    ----------
    n : int
        Number of amounts.
    cos_sum, sin_sum : float
        Sums of cos 2πm and sin 2πm, m the fractional part of log10|x|.

    Returns
    -------
    (l2, p)
        L² of the mean vector and p = exp(-n L²).

    References
    ----------
    Alexander, J. C. (2009), Remarks on the use of Benford's law, SSRN working paper 1505147.
    """
    if n < 1:
        raise ValueError("the mantissa test needs at least one amount")
    l2 = (cos_sum / n) ** 2 + (sin_sum / n) ** 2
    return float(l2), float(np.exp(-n * l2))


# Expected share of the sum of sizes: every leading-digit class holds the same (the integral of 10^m
# over the class's mantissas is its width), which is what the summation test looks at.
SUMMATION_TESTS: tuple[DigitTest, ...] = ("first", "first-two", "first-three")


def summation_mad(sizes: ArrayLike) -> float:
    """Mean absolute deviation of the shares of the sum from the equal share 1/K.

    Parameters
    ----------
    sizes : array_like of float, shape (K,)
        Sum of |x| in each leading-digit class.

    Raises
    ------
    ValueError
        If the sizes add up to nothing.

    References
    ----------
    Nigrini, M. J. (2012), Benford's Law, chapter 5 (summation test).
    """
    x = np.asarray(sizes, dtype=np.float64)
    if x.sum() <= 0:
        raise ValueError("sizes that add up to nothing have no shares")
    return float(np.abs(x / x.sum() - 1 / x.size).mean())


@dataclass(frozen=True)
class DigitChange:
    """How K classes differ between two sets of amounts; fields are (K,)."""

    before: NDArray[np.float64]
    after: NDArray[np.float64]
    z: NDArray[np.float64]
    p: NDArray[np.float64]
    p_adjusted: NDArray[np.float64]
    chi_square: float
    chi_square_df: int
    chi_square_p: float


def compare_digits(before: ArrayLike, after: ArrayLike, adjustment: Method = "holm") -> DigitChange:
    """Compare the class counts of two sets of amounts with each other, not with expectation.

    Parameters
    ----------
    before, after : array_like of int, shape (K,)
        Counts of each class.
    adjustment : str
        Adjustment of p over the classes.

    Raises
    ------
    ValueError
        If the shapes differ or a set is empty.

    Notes
    -----
    z of the difference of two proportions with the pooled variance; chi-square of homogeneity with one
    degree of freedom fewer than the classes that occur (Fleiss, J. L. 1981, Statistical Methods for Rates
    and Proportions). A class that occurs in neither has z = 0.
    """
    a, b = np.asarray(before, dtype=np.int64), np.asarray(after, dtype=np.int64)
    if a.shape != b.shape or a.sum() < 1 or b.sum() < 1:
        raise ValueError("two sets of counts of the same classes are needed, neither empty")
    na, nb = float(a.sum()), float(b.sum())
    pa_, pb_, pooled = a / na, b / nb, (a + b) / (na + nb)
    sigma = np.sqrt(pooled * (1 - pooled) * (1 / na + 1 / nb))
    z = np.divide(pb_ - pa_, sigma, out=np.zeros(a.size), where=sigma > 0)
    p = np.minimum(2 * ndtr(-np.abs(z)), 1.0)
    seen = pooled > 0
    chi_square = float(
        sum(n * ((s - pooled)[seen] ** 2 / pooled[seen]).sum() for n, s in ((na, pa_), (nb, pb_)))
    )
    df = max(int(seen.sum()) - 1, 1)
    return DigitChange(
        pa_, pb_, z, p, adjust(p, adjustment), chi_square, df, float(chdtrc(df, chi_square))
    )
