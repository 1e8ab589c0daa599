"""Leading-digit tests: expected proportions, class tests and measures of fit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import bdtr, bdtrik, betainc, chdtrc, erf, gammaln, ndtr, xlog1py, xlogy

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
RANGES = ("close", "acceptable", "marginal", "nonconforming")

NO_DEPARTURE, SLIGHT, DEPARTING, NONCONFORMING = VERDICTS = (
    "no departure shown", "departs slightly", "departs", "nonconforming",
)  # fmt: skip
"""What is concluded of a group, from its flags, its chi-square and its excess deviation together."""

# 95th percentiles of sqrt(n)·D under the discrete law of each class set, by simulation of the Brownian
# bridge at its cumulative shares (bench/calibration.py --ks; seed 20, 200,000 draws or more).
KS_LIMIT: dict[str, float] = {
    "first": 1.149,
    "second": 1.175,
    "first-two": 1.288,
    "first-three": 1.335,
    "last-two": 1.300,
}


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
    mad_error: NDArray[np.float64]
    mad_range: list[str | None]
    verdict: list[str]
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
        a conforming population in at least 1 - alpha of cases.
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
    p is that of the exact binomial law, twice the smaller tail, and the band runs between binomial
    quantiles at the level of Šidák (1967) for all classes together; both hold where few are expected too.
    z = (|po - pe| - c) / sqrt(pe (1 - pe) / n) with the continuity correction c = 1/(2n) where it is smaller
    than |po - pe| (Fleiss, J. L. 1981, Statistical Methods for Rates and Proportions), with the sign of
    po - pe. The mean absolute deviation that chance alone gives is that of the binomial law, by de Moivre's
    closed form (Diaconis, P. and Zabell, S. 1991, Statistical Science 6, 284-302); its excess over that is
    judged by :func:`deviation_error` (Barney, B. J. and Schulzke, K. S. 2016, Journal of Forensic Accounting
    Research 1, A66-A90). The Kolmogorov-Smirnov limit is that of the discrete law.
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
    p = binomial_p(table, size, pe)
    p_adjusted = adjust(p.ravel(), adjustment).reshape(p.shape)
    if tolerance is None:
        low, high = (ends / size for ends in binomial_band(size, pe, alpha))
    else:
        width = np.broadcast_to(pe * tolerance / 100, po.shape)
        low, high = np.maximum(pe - width, 0.0), np.minimum(pe + width, 1.0)
    flagged = ((po < low) | (po > high)) & (p_adjusted < alpha)
    if z_limit is not None:
        flagged &= np.abs(z) > z_limit
    chi_square = (size * (po - pe) ** 2 / pe).sum(axis=1)
    chi_square_p = chdtrc(labels.size - 1, chi_square)
    mad = difference.mean(axis=1)
    by_chance = expected_deviation(n, test)
    shown = flagged.any(axis=1) | (chi_square_p < alpha)
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
        chi_square_p=chi_square_p,
        mad=mad,
        mad_expected=by_chance,
        mad_error=deviation_error(po, pe, n),
        mad_range=[published_range(test, float(value)) for value in mad],
        verdict=[
            concluded(test, float(excess), shown=bool(each))
            for excess, each in zip(mad - by_chance, shown, strict=True)
        ],
        ks=np.abs(np.cumsum(po - pe, axis=1)).max(axis=1),
        ks_limit=KS_LIMIT[test] / np.sqrt(n),
    )


def binomial_p(counts: ArrayLike, n: ArrayLike, share: ArrayLike) -> NDArray[np.float64]:
    """Exact two-sided p of counts: twice the smaller tail of the binomial law, at most 1.

    Parameters
    ----------
    counts, n, share : array_like
        Counts out of n where each of n has probability ``share``; shapes broadcast.

    Examples
    --------
    >>> binomial_p(9, 10, 0.5).round(6).tolist()
    0.021484
    """
    k, size, q = (np.asarray(v, dtype=np.float64) for v in np.broadcast_arrays(counts, n, share))
    # I_q(k, n-k+1) is P(X >= k) and I_{1-q}(n-k, k+1) is P(X <= k); at the ends they are 1.
    above = np.where(k > 0, betainc(np.maximum(k, 1), size - k + 1, q), 1.0)
    below = np.where(k < size, betainc(np.maximum(size - k, 1), k + 1, 1 - q), 1.0)
    return np.asarray(np.minimum(2 * np.minimum(above, below), 1.0))


def binomial_band(
    n: ArrayLike, shares: NDArray[np.float64], alpha: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The counts between which all K classes lie in at least 1 - alpha of conforming populations.

    Parameters
    ----------
    n : array_like, shape (G, 1)
        Sizes of the groups.
    shares : array, shape (K,)
        Expected proportions.

    Returns
    -------
    (low, high)
        Counts, shape (G, K).

    References
    ----------
    Šidák, Z. (1967), Journal of the American Statistical Association 62, 626-633.
    """
    each = (1 - (1 - alpha) ** (1 / shares.size)) / 2
    size, q = np.broadcast_arrays(np.asarray(n, dtype=np.float64), shares)
    whole = size.astype(np.int64)

    def least(level: float) -> NDArray[np.float64]:
        """The least k with P(X <= k) >= level."""
        k = np.clip(np.ceil(bdtrik(level, size, q)), 0, size)
        k = np.where(np.isfinite(k), k, 0.0)
        # The inverse is of a continuous function; a step either way sets it right.
        k = np.where((k > 0) & (bdtr(k - 1, whole, q) >= level), k - 1, k)
        return np.where(bdtr(k, whole, q) < level, k + 1, k)

    return least(each), least(1 - each)


def expected_deviation(n: ArrayLike, test: DigitTest) -> NDArray[np.float64]:
    """Mean absolute deviation that a conforming population of n shows on average, exact.

    The mean of E|X - n p|/n over the classes, by de Moivre: E|X - n p| = 2 k C(n, k) p^k q^(n - k + 1)
    with k = floor(n p) + 1.

    Examples
    --------
    >>> expected_deviation([300], "first").round(5).tolist()
    [0.01357]
    """
    size = np.asarray(n, dtype=np.float64)[:, None]
    p = expected_shares(test)
    k = np.minimum(np.floor(size * p) + 1, size)
    log = np.log(2 * k) + gammaln(size + 1) - gammaln(k + 1) - gammaln(size - k + 1)
    log = log + xlogy(k, p) + xlog1py(size - k + 1, -p)
    return np.asarray((np.exp(log) / size).mean(axis=1))


def deviation_error(
    share: NDArray[np.float64], expected: NDArray[np.float64], n: ArrayLike
) -> NDArray[np.float64]:
    """Standard error of the mean absolute deviation by the multinomial variance, shape (G,).

    The deviations are jointly normal about those observed; each contributes the variance of a folded
    normal, two of them their covariance as far as their signs are settled.
    """
    size = np.asarray(n, dtype=np.float64)[:, None]
    gap, sigma = share - expected, np.sqrt(share * (1 - share) / size)
    # A class that is empty, or holds all, does not vary: its sign is settled.
    ratio = np.divide(gap, sigma, out=np.sign(gap) * 40, where=sigma > 0)
    sign = erf(ratio / np.sqrt(2))
    folded = sigma * np.sqrt(2 / np.pi) * np.exp(-(ratio**2) / 2) + gap * sign
    alone = gap**2 + sigma**2 - folded**2
    weight = sign * share
    together = -(weight.sum(axis=1) ** 2 - (weight**2).sum(axis=1)) / size[:, 0]
    variance = np.maximum(alone.sum(axis=1) + together, 0.0)
    return np.asarray(np.sqrt(variance) / share.shape[1])


def published_range(test: DigitTest, mad: float) -> str | None:
    """Published reading of a mean absolute deviation, or None where no range is published.

    It knows nothing of n: a conforming population of a few hundred is far from ``close``.

    Examples
    --------
    >>> published_range("first", 0.005), published_range("first", 0.02)
    ('close', 'nonconforming')
    """
    if test not in MAD_RANGES:
        return None
    return RANGES[int(np.searchsorted(MAD_RANGES[test], mad, side="right"))]


def concluded(test: DigitTest, excess: float, *, shown: bool) -> str:
    """One conclusion of a group.

    Parameters
    ----------
    excess : float
        Mean absolute deviation less the one that chance alone gives.
    shown : bool
        Whether a class is flagged or chi-square rejects the law.

    Notes
    -----
    Without either nothing is concluded, whatever the deviation. With either the excess is read by the
    published ranges: within ``close`` the departure is slight; beyond ``marginal`` nonconforming.
    """
    if not shown:
        return NO_DEPARTURE
    if test not in MAD_RANGES:
        return DEPARTING
    place = int(np.searchsorted(MAD_RANGES[test], excess, side="right"))
    return (SLIGHT, DEPARTING, DEPARTING, NONCONFORMING)[place]


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


SIGNIFICAND_TESTS: tuple[DigitTest, ...] = ("first", "first-two", "first-three")
"""Tests whose classes are ranges of the significand."""


@dataclass(frozen=True)
class SignificandFit:
    """Shares of K classes in the sum of the significands of n amounts; fields are (K,)."""

    share: NDArray[np.float64]
    expected: float
    z: NDArray[np.float64]
    p: NDArray[np.float64]


def significand_test(sums: ArrayLike, n: int, test: DigitTest) -> SignificandFit:
    """Sum of the significands in each class against its expectation.

    Of the amounts themselves no share is expected: they weigh by their order of magnitude. Of their
    significands S, in [1, 10), every class of equal width holds the same.

    Parameters
    ----------
    sums : array_like of float, shape (K,)
        Sum of the significands in each class.
    n : int
        Number of amounts.
    test : str
        One of ``SIGNIFICAND_TESTS``.

    Raises
    ------
    ValueError
        If there is no amount.

    Notes
    -----
    For a class [a, b) a row adds E = (b - a)/ln 10 on average, with the variance
    (b² - a²)/(2 ln 10) - E².

    References
    ----------
    Allaart, P. C. (1997), Journal of Applied Probability 34, 288-291.
    """
    x = np.asarray(sums, dtype=np.float64)
    if n < 1 or x.sum() <= 0:
        raise ValueError("sums that add up to nothing have no shares")
    labels = class_labels(test).astype(np.float64)
    width = 1 / 10 ** (len(str(int(labels[0]))) - 1)
    low, high = labels * width, (labels + 1) * width
    mean = width / np.log(10)
    sd = np.sqrt((high**2 - low**2) / (2 * np.log(10)) - mean**2)
    z = (x - n * mean) / (np.sqrt(n) * sd)
    return SignificandFit(
        x / x.sum(), 1 / x.size, z, np.asarray(np.minimum(2 * ndtr(-np.abs(z)), 1.0))
    )


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
