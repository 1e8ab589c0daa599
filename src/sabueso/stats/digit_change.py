"""Leading digits of two sets of amounts compared with each other, not with expectation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import chdtrc, ndtr

from sabueso.stats.adjust import Method, adjust


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
