"""How many items a sample needs, from the confidence wanted and the error that can be tolerated."""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import bdtr, gammaincc, gammaln, ndtri

MOST = 1_000_000
"""A sample larger than this is none."""
HYPERGEOMETRIC = 20_000
"""Populations up to this many items are judged by the exact law of drawing without replacement."""


def money_size(confidence: float, tolerable: float, expected: float = 0.0) -> int:
    """The size of a sample of money units.

    Parameters
    ----------
    confidence : float
        In (0, 1).
    tolerable, expected : float
        Errors as shares of the recorded amount, ``expected`` below ``tolerable``.

    Returns
    -------
    int
        The least n with P(X <= n·expected) <= 1 - confidence for X of the Poisson law with mean
        n·tolerable; between whole numbers of errors the law of the gamma function is taken, which the
        Poisson law is at whole ones.

    Raises
    ------
    ValueError
        If the shares do not fit, or more than a million items would be needed.

    References
    ----------
    Leslie, D. A., Teitlebaum, A. D. and Anderson, R. J. (1979), Dollar-Unit Sampling.

    Examples
    --------
    >>> money_size(0.95, 0.05), money_size(0.95, 0.05, 0.01)
    (60, 93)
    """
    _check(confidence, tolerable, expected)

    def enough(n: int) -> bool:
        return bool(gammaincc(n * expected + 1, n * tolerable) <= 1 - confidence)

    high = 1
    while not enough(high):
        high *= 2
        if high > 2 * MOST:
            raise ValueError(_too_many(tolerable, expected))
    low = high // 2
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return _allowed(high, tolerable, expected)


def attribute_size(
    confidence: float, tolerable: float, expected: float = 0.0, population: int | None = None
) -> int:
    """The size of a sample that is to show that no more than a share of items deviates.

    Parameters
    ----------
    confidence, tolerable, expected : float
        As for :func:`money_size`, of items in the place of money.
    population : int, optional
        How many items there are. Up to 20,000 the law is the hypergeometric one.

    Returns
    -------
    int
        The least n at which so many deviations as are expected, rounded up, would be found with a
        probability of 1 - confidence at most if the tolerable share deviated.

    Raises
    ------
    ValueError
        If the shares do not fit, or more than a million items would be needed.

    References
    ----------
    Cochran, W. G. (1977), Sampling Techniques, 3rd ed., section 3.6; the binomial and hypergeometric laws.

    Examples
    --------
    >>> attribute_size(0.95, 0.05), attribute_size(0.95, 0.05, population=500)
    (59, 56)
    """
    _check(confidence, tolerable, expected)
    small = population is not None and population <= HYPERGEOMETRIC
    most = population if small and population is not None else MOST
    step = 0
    while step < most:
        n = np.arange(step + 1, min(2 * step + 1_000, most) + 1)
        found = np.ceil(np.round(n * expected, 9))
        if small and population is not None:
            deviating = ceil(round(population * tolerable, 9))
            tail = _hypergeometric(found, population, deviating, n)
        else:
            tail = bdtr(found, n, tolerable)
        enough = np.flatnonzero(tail <= 1 - confidence)
        if enough.size:
            return int(n[enough[0]])
        step = int(n[-1])
    if small and population is not None:
        return population
    raise ValueError(_too_many(tolerable, expected))


def strata_size(
    confidence: float, tolerable: float, sizes: ArrayLike, deviations: ArrayLike
) -> int:
    """The size of a sample by strata that estimates a total so precisely, allocated by Neyman.

    Parameters
    ----------
    confidence : float
        In (0, 1); two-sided.
    tolerable : float
        Half the width of the interval, an amount.
    sizes, deviations : array_like, shape (strata,)
        Items of each stratum, and the standard deviation of their amounts.

    Returns
    -------
    int
        (Σ N S)² / ((tolerable/z)² + Σ N S²), rounded up, two for each stratum at least.

    Raises
    ------
    ValueError
        If ``tolerable`` is not above 0.

    References
    ----------
    Cochran, W. G. (1977), Sampling Techniques, 3rd ed., equations 5.25 and 5.29.

    Examples
    --------
    >>> strata_size(0.95, 100_000, [1000, 100], [50.0, 2000.0])
    21
    """
    if not (0 < confidence < 1 and tolerable > 0):
        raise ValueError("the confidence must lie between 0 and 1, and the tolerable error above 0")
    n, s = np.asarray(sizes, np.float64), np.asarray(deviations, np.float64)
    z = float(ndtri((1 + confidence) / 2))
    size = ceil(float((n * s).sum()) ** 2 / ((tolerable / z) ** 2 + float((n * s**2).sum())))
    return int(min(max(size, 2 * np.count_nonzero(n)), n.sum()))


def neyman(size: int, sizes: ArrayLike, deviations: ArrayLike) -> NDArray[np.int64]:
    """So many items allocated to strata in proportion to N·S, two to each at least, none above N.

    Parameters
    ----------
    size : int
        Of the whole sample.
    sizes, deviations : array_like, shape (strata,)
        As for :func:`strata_size`. Where nothing varies, the allocation is in proportion to N.

    Returns
    -------
    ndarray, shape (strata,)
        Their sum is ``size``, unless two for each stratum are more or there are fewer items.

    References
    ----------
    Neyman, J. (1934), Journal of the Royal Statistical Society 97, 558-625.

    Examples
    --------
    >>> neyman(30, [1000, 100, 3], [50.0, 2000.0, 9000.0]).tolist()
    [5, 22, 3]
    """
    n = np.asarray(sizes, np.int64)
    product = np.asarray(n * np.asarray(deviations, np.float64), np.float64)
    # Where nothing varies two items tell all; what is left when the others are full goes there too.
    scaled = product / max(float(product.max(initial=0.0)), 1e-300)
    weight = scaled + 1e-12 * n / max(int(n.sum()), 1)
    least = np.minimum(2, n)
    if size >= n.sum() or size <= least.sum():
        return n if size >= n.sum() else least

    def given(rate: float) -> NDArray[np.float64]:
        return np.clip(rate * weight, least, n)

    # Shares in proportion, within what each may have: the rate at which they add to the size.
    low, high = 0.0, float(n.sum()) / float(weight[weight > 0].min())
    for _ in range(200):
        middle = (low + high) / 2
        low, high = (middle, high) if given(middle).sum() < size else (low, middle)
    return _rounded(given(high), size, n)


def root_edges(counts: ArrayLike, edges: ArrayLike, strata: int) -> NDArray[np.float64]:
    """Limits between strata by the cumulative square root of the frequency.

    Parameters
    ----------
    counts : array_like, shape (bins,)
        Items of each bin.
    edges : array_like, shape (bins + 1,)
        The bins' limits, ascending.
    strata : int
        How many are wanted.

    Returns
    -------
    ndarray, shape (at most strata - 1,)
        Edges of bins, ascending, each once.

    References
    ----------
    Dalenius, T. and Hodges, J. L. (1959), Journal of the American Statistical Association 54, 88-101.

    Examples
    --------
    >>> root_edges([400, 100, 25, 4], [0, 10, 20, 30, 40], 2).tolist()
    [10.0]
    """
    f, at = np.asarray(counts, np.float64), np.asarray(edges, np.float64)
    rising = np.cumsum(np.sqrt(f * np.diff(at)))
    aims = rising[-1] * np.arange(1, strata) / strata
    nearest = np.abs(rising[:, None] - aims[None, :]).argmin(axis=0)
    chosen = np.unique(nearest[nearest < f.size - 1])
    return at[chosen + 1]


def _rounded(share: NDArray[np.float64], total: int, most: NDArray[np.int64]) -> NDArray[np.int64]:
    """Whole numbers near some shares that add to their total: the largest remainders go up."""
    whole = np.minimum(np.floor(share + 1e-9), most).astype(np.int64)
    order = np.argsort(-np.where(whole < most, share - whole, -1.0), kind="stable")
    whole[order[: max(total - int(whole.sum()), 0)]] += 1
    return whole


def _hypergeometric(
    found: NDArray[np.float64], population: int, deviating: int, n: NDArray[np.int64]
) -> NDArray[np.float64]:
    """P(X <= found) of deviations among n drawn without replacement."""

    def choose(top: ArrayLike, bottom: ArrayLike) -> NDArray[np.float64]:
        high, low = np.asarray(top, np.float64), np.asarray(bottom, np.float64)
        with np.errstate(invalid="ignore", divide="ignore"):
            ways = gammaln(high + 1) - gammaln(low + 1) - gammaln(high - low + 1)
        possible = (low >= 0) & (low <= high)
        return np.where(possible, ways, -np.inf)

    tail = np.zeros(n.size)
    for k in range(int(found.max(initial=0)) + 1):
        ways = choose(deviating, k) + choose(population - deviating, n - k) - choose(population, n)
        tail += np.where(found >= k, np.exp(ways), 0.0)
    return tail


def _check(confidence: float, tolerable: float, expected: float) -> None:
    if not 0 < confidence < 1:
        raise ValueError("the confidence must lie between 0 and 1")
    if not 0 <= expected < tolerable < 1:
        raise ValueError(
            "the tolerable error must be a share between 0 and 1, and the expected one below it"
        )


def _allowed(size: int, tolerable: float, expected: float) -> int:
    if size > MOST:
        raise ValueError(_too_many(tolerable, expected))
    return size


def _too_many(tolerable: float, expected: float) -> str:
    return (
        f"more than {MOST:,} items would be needed to tell {expected:.4g} from {tolerable:.4g}: the "
        "expected error lies too near the tolerable one"
    )
