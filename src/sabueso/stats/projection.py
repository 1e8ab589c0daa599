"""What a reviewed sample says of its population: projected errors, limits and intervals."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import betaincinv, gammaincinv, stdtrit

from sabueso.stats.hypergeometric import upper_tail


@dataclass(frozen=True)
class MoneyProjection:
    """Errors of a sample of money units, in the amounts' unit.

    ``precision`` is the upper limit of a sample without errors, ``allowance`` what the limit has beyond
    that and the projected error.
    """

    projected: float
    upper: float
    precision: float
    allowance: float


def poisson_factors(confidence: float, errors: int) -> NDArray[np.float64]:
    """Upper limits of a Poisson mean of which 0, 1, … events were seen, shape (errors + 1,).

    Half the chi-square quantile at 2j + 2 degrees of freedom.

    Examples
    --------
    >>> poisson_factors(0.95, 5).round(4).tolist()
    [2.9957, 4.7439, 6.2958, 7.7537, 9.1535, 10.513]
    """
    return np.asarray(gammaincinv(np.arange(errors + 1) + 1, confidence), np.float64)


def stringer(interval: float, taints: ArrayLike, confidence: float = 0.95) -> MoneyProjection:
    """The upper limit of the error in a population of which money units were drawn.

    Parameters
    ----------
    interval : float
        Money units from one drawn to the next.
    taints : array_like, shape (errors,)
        Errors as shares of their items' amounts, each above 0; of items without error there are none.
    confidence : float
        In (0, 1).

    Raises
    ------
    ValueError
        If a taint is not above 0, or the interval.

    References
    ----------
    Stringer, K. W. (1963), Proceedings of the Business and Economic Statistics Section, American
    Statistical Association, 405-411. Bickel, P. J. (1992), International Statistical Review 60, 197-209.

    Examples
    --------
    >>> found = stringer(10_000, [0.5, 0.2])
    >>> round(found.projected, 2), round(found.upper, 2)
    (7000.0, 41801.84)
    """
    t = np.sort(np.asarray(taints, np.float64))[::-1]
    if not interval > 0 or np.any(t <= 0):
        raise ValueError("the interval and every taint must be above 0")
    factors = poisson_factors(confidence, t.size)
    upper = interval * (factors[0] + float((np.diff(factors) * t).sum()))
    projected, basic = interval * float(t.sum()), interval * float(factors[0])
    return MoneyProjection(projected, float(upper), basic, float(upper) - projected - basic)


TIE = 1e-12
"""What a probability may be off that is the risk itself."""


@dataclass(frozen=True)
class Rate:
    """A share of items with its exact two-sided interval, and its one-sided upper limit."""

    rate: float
    low: float
    high: float
    upper: float


def exact_rate(
    deviations: int, n: int, confidence: float = 0.95, population: int | None = None
) -> Rate:
    """The share of a population that deviates, from a random sample of it.

    Parameters
    ----------
    deviations, n : int
        Items that deviate, of those drawn.
    confidence : float
        In (0, 1).
    population : int, optional
        How many items there are to draw from; the limits are then whole numbers of them, by the hypergeometric law.
        Without it there are so many that each drawn leaves the others as they were: the binomial one.

    References
    ----------
    Clopper, C. J. and Pearson, E. S. (1934), Biometrika 26, 404-413. Buonaccorsi, J. P. (1987), The American
    Statistician 41, 215-218, of a finite population.

    Examples
    --------
    >>> found = exact_rate(0, 59)
    >>> round(found.upper, 4), round(exact_rate(3, 100).high, 4)
    (0.0495, 0.0852)

    Of 500 items 56 without a deviation show that no more than 24 deviate:

    >>> round(500 * exact_rate(0, 56, population=500).upper)
    24
    """
    if not 0 <= deviations <= n or n < 1:
        raise ValueError("there must be one item at least, and no more deviations than items")
    half = (1 - confidence) / 2
    if population is not None:
        if population < n:
            raise ValueError("no more items can be drawn than there are")
        limits = (_least(deviations, n, population, half),
                  _most(deviations, n, population, half),
                  _most(deviations, n, population, 1 - confidence))  # fmt: skip
        low, high, upper = (limit / population for limit in limits)
        return Rate(deviations / n, low, high, upper)

    def limit(level: float) -> float:
        return 1.0 if deviations == n else float(betaincinv(deviations + 1, n - deviations, level))

    low = 0.0 if deviations == 0 else float(betaincinv(deviations, n - deviations + 1, half))
    return Rate(deviations / n, low, limit(1 - half), limit(confidence))


def _most(deviations: int, n: int, population: int, risk: float) -> int:
    """The most items that may deviate where so few of those drawn do with a probability above the risk."""
    # As many as were seen are there, and as many as were not drawn may be more.
    low, high = deviations, population - n + deviations
    while low < high:
        middle = (low + high + 1) // 2
        if 1.0 - upper_tail(deviations + 1, population, middle, n) > risk + TIE:
            low = middle
        else:
            high = middle - 1
    return low


def _least(deviations: int, n: int, population: int, risk: float) -> int:
    """The least items that deviate where so many of those drawn do with a probability above the risk."""
    low, high = deviations, population - n + deviations
    while low < high:
        middle = (low + high) // 2
        if upper_tail(deviations, population, middle, n) > risk + TIE:
            high = middle
        else:
            low = middle + 1
    return low


@dataclass(frozen=True)
class Stratum:
    """Reviewed items of a stratum of ``size``: what was recorded of each, and what should have been."""

    size: int
    recorded: NDArray[np.float64]
    right: NDArray[np.float64]


@dataclass(frozen=True)
class Estimate:
    """The error of a total by one estimator, with its two-sided interval; ``df`` degrees of freedom."""

    name: str
    error: float
    se: float
    low: float
    high: float
    df: float


def estimates(
    strata: Sequence[Stratum], recorded_total: float, confidence: float = 0.95
) -> list[Estimate]:
    """The error of a population's total by differences, by their ratio, and by the mean of what is right.

    Parameters
    ----------
    strata : sequence of Stratum
        One, where the sample was drawn from the whole. Those taken whole add their errors and no variance.
    recorded_total : float
        Of the whole population.
    confidence : float
        In (0, 1).

    Returns
    -------
    list of Estimate
        ``difference``, ``ratio`` (combined over the strata) where the amounts drawn do not add to 0, and
        ``mean``.

    Raises
    ------
    ValueError
        If a stratum that is not taken whole has fewer than two items.

    References
    ----------
    Cochran, W. G. (1977), Sampling Techniques, 3rd ed., sections 2.5, 5.3, 6.11 and 7.2.

    Examples
    --------
    >>> recorded = np.array([100.0, 200.0, 300.0, 400.0])
    >>> found = estimates([Stratum(40, recorded, recorded - [0, 20, 0, 20])], 10_000.0)
    >>> [(e.name, round(e.error, 2)) for e in found]
    [('difference', 400.0), ('ratio', 400.0), ('mean', 400.0)]
    """
    for s in strata:
        if s.recorded.size < 2 and s.recorded.size < s.size:
            raise ValueError("a stratum that is not taken whole needs two items at least")
    grown = [s.size / max(s.recorded.size, 1) for s in strata]
    book = sum(g * float(s.recorded.sum()) for g, s in zip(grown, strata, strict=True))
    right = sum(g * float(s.right.sum()) for g, s in zip(grown, strata, strict=True))
    found = [_estimate("difference", book - right, [s.recorded - s.right for s in strata], strata, confidence)]  # fmt: skip
    if book:
        ratio = right / book
        rest = [s.right - ratio * s.recorded for s in strata]
        grown_to = recorded_total / book
        error = recorded_total - ratio * recorded_total
        found.append(_estimate("ratio", error, rest, strata, confidence, abs(grown_to)))
    mean = recorded_total - right
    return [*found, _estimate("mean", mean, [s.right for s in strata], strata, confidence)]


def _estimate(
    name: str,
    error: float,
    values: Sequence[NDArray[np.float64]],
    strata: Sequence[Stratum],
    confidence: float,
    scale: float = 1.0,
) -> Estimate:
    """An estimate with its interval, from what varies within the strata."""
    parts, freedom = [], []
    for value, s in zip(values, strata, strict=True):
        n = value.size
        if n >= s.size or n < 2:
            continue
        parts.append(s.size * (s.size - n) / n * float(value.var(ddof=1)))
        freedom.append(n - 1)
    variance = sum(parts)
    df = float(sum(freedom))
    if variance > 0:
        df = variance**2 / sum(p**2 / f for p, f in zip(parts, freedom, strict=True))
    se = scale * variance**0.5
    half = float(stdtrit(df, (1 + confidence) / 2)) * se if se else 0.0
    return Estimate(name, error, se, error - half, error + half, df)
