"""Leading-digit tests: expected proportions, class tests and measures of fit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import bdtr, bdtrik, betainc, chdtrc, erf, gammaln, xlog1py, xlogy

from sabueso.stats.adjust import Method, adjust
from sabueso.stats.digit_law import KS_LIMIT, DigitTest, class_labels, expected_shares
from sabueso.stats.digit_verdict import concluded, published_range


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
