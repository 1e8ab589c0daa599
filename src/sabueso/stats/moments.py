"""Moments from exact sums of integer minor units: no float is met before the last step."""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from math import isqrt, sqrt
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray


class Moments(NamedTuple):
    """Mean and standard deviation of n amounts.

    ``mean`` and ``sd`` are in units of the amount; each is the correctly rounded float of the
    exact rational (of its square root for ``sd``). ``sd`` is None below two amounts.
    """

    n: int
    mean: float
    sd: float | None


@lru_cache(maxsize=10_000)
def moments(n: int, total: int, squares: int, scale: int = 0) -> Moments:
    """Mean and sample standard deviation (n - 1) from n, Σx and Σx².

    Parameters
    ----------
    n : int
        Number of amounts, at least 1.
    total, squares : int
        Σx and Σx² of integer minor units.
    scale : int
        Decimals of the amount: 2 where a minor unit is 0.01.

    Raises
    ------
    ValueError
        If n < 1 or the sums cannot belong to n real amounts.

    Examples
    --------
    >>> m = moments(4, 1000, 300_000, scale=2)  # 1.00, 2.00, 3.00, 4.00
    >>> m.mean, round(m.sd, 4)
    (2.5, 1.291)
    """
    if n < 1:
        raise ValueError("moments need at least one amount")
    spread = n * squares - total * total
    if spread < 0:
        raise ValueError("the sum of squares is smaller than any amounts can give")
    unit = 10**scale
    sd = sqrt(spread / (n * (n - 1) * unit * unit)) if n > 1 else None
    return Moments(n=n, mean=total / (n * unit), sd=sd)


def deviate_limits(n: int, total: int, squares: int, limit: Fraction) -> tuple[int, int]:
    """Least and greatest integer minor units with |x - mean| <= limit · s, exactly.

    An amount is beyond the limit if and only if it is below the first or above the second. With
    S = Σx and V = n Σx² - S², |n x - S| <= limit · sqrt(n V / (n - 1)); the root is taken in
    integers, so that an amount exactly on the limit is never flagged by rounding.

    Raises
    ------
    ValueError
        If n < 2.
    """
    if n < 2:
        raise ValueError("a standard deviation needs at least two amounts")
    # Whole numbers throughout: fractions would say the same ten times as slowly.
    above = limit.numerator**2 * n * (n * squares - total * total)
    reach = isqrt(above // (limit.denominator**2 * (n - 1)))
    return -((reach - total) // n), (total + reach) // n


def greatest_deviate(n: int) -> float:
    """The largest |z| that any of n amounts can have, (n - 1)/sqrt(n).

    References
    ----------
    Shiffler, R. E. (1988), The American Statistician 42, 79-80.

    Examples
    --------
    >>> round(greatest_deviate(10), 4)
    2.846
    """
    return (n - 1) / sqrt(n)


def deviate_p(z: ArrayLike, n: ArrayLike, *, two_sided: bool = True) -> NDArray[np.float64]:
    """P of a deviate at least as far as |z| among n normal amounts whose mean and s were estimated.

    Parameters
    ----------
    z, n : array_like
        Deviates (x - mean)/s and the number of amounts that gave mean and s, at least 3; shapes
        broadcast.
    two_sided : bool
        If false, the p of the one side.

    Raises
    ------
    ValueError
        If there are fewer than three amounts.

    Notes
    -----
    n z²/(n - 1)² has the law Beta(1/2, (n - 2)/2), not the square of a normal one: with n = 15 no
    deviate passes 3.61, and one of 3.39 has p = 2·10⁻⁷ where the normal law has 7·10⁻⁴.

    References
    ----------
    Thompson, W. R. (1935), Annals of Mathematical Statistics 6, 214-219.

    Examples
    --------
    >>> float(f"{deviate_p(3.39, 15):.2g}")
    2.4e-07
    """
    from scipy.special import betainc  # a fifth of a second, which fences need not

    size = np.asarray(n, dtype=np.float64)
    if np.any(size < 3):
        raise ValueError("the law of a deviate needs at least three amounts")
    share = size * np.square(np.asarray(z, dtype=np.float64)) / np.square(size - 1)
    p = betainc((size - 2) / 2, 0.5, np.clip(1 - share, 0.0, 1.0))
    return np.asarray(p if two_sided else p / 2)


def absolute_deviation(values: NDArray[np.float64]) -> float:
    """The median absolute deviation from the median.

    Examples
    --------
    >>> absolute_deviation(np.array([1.0, 2.0, 4.0, 9.0, 9.0]))
    3.0
    """
    return float(np.median(np.abs(values - np.median(values))))


EFFICIENCY = 0.3675
"""Of the median absolute deviation beside the standard deviation of normal data."""


def modified_p(z: ArrayLike, n: ArrayLike, *, two_sided: bool = True) -> NDArray[np.float64]:
    """P that a modified deviate of a row of normal data lies as far, median and MAD being of the same n rows.

    There is no closed law. The median absolute deviation tells sigma as well as the standard deviation of 0.3675 times as
    many rows does (Hampel, F. R. 1974, Journal of the American Statistical Association 69, 383-393): that many are the
    degrees of freedom of Student's t, which holds within a factor of two and a half, on the side of a larger p, from six rows on.

    Examples
    --------
    >>> [float(f"{modified_p(3.5, n):.2g}") for n in (12, 50, 500)]
    [0.021, 0.0025, 0.00058]
    """
    from scipy.special import stdtr

    size = np.maximum(EFFICIENCY * np.asarray(n, dtype=np.float64), 1.0)
    tail = stdtr(size, -np.abs(np.asarray(z, dtype=np.float64)))
    return np.asarray(2 * tail if two_sided else tail)


class Shape(NamedTuple):
    """Bias-adjusted skewness G1 and excess kurtosis G2; None where n is too small or s is 0."""

    skewness: float | None
    kurtosis: float | None


@lru_cache(maxsize=10_000)
def shape(n: int, cubes: float, fourths: float) -> Shape:
    """G1 and G2 from sums of standardised deviations.

    Parameters
    ----------
    n : int
        Number of amounts.
    cubes, fourths : float
        Σz³ and Σz⁴ with z = (x - mean)/s, s with divisor n - 1.

    References
    ----------
    Joanes, D. N. and Gill, C. A. (1998), The Statistician 47, 183-189 (G1 and G2).
    """
    skewness = n * cubes / ((n - 1) * (n - 2)) if n > 2 else None
    kurtosis = None
    if n > 3:
        lead = n * (n + 1) / ((n - 1) * (n - 2) * (n - 3))
        kurtosis = lead * fourths - 3 * (n - 1) ** 2 / ((n - 2) * (n - 3))
    return Shape(skewness, kurtosis)
