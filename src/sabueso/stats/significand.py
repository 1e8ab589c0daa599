"""Tests of the significand: the mantissa arc, and the share of each class in the sum of significands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import ndtr

from sabueso.stats.digit_law import DigitTest, class_labels


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
