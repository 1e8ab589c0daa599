"""Whoever has more rows than all others would have of as many by chance."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc, gammainc

LEAST, MOST_SPREAD, TOP = 50, 2.0, 0.005
"""Subjects from which on it is asked; the variance of their counts, over the mean, up to which chance alone spreads them;
and the share of the largest counts that is left out of both."""
LEFT_OUT, ERRORS = 1.1, 2
"""Times by which the variance is larger with the counts that are left out, and standard errors that are added to it."""


def frequent(counts: NDArray[np.int64], of: int) -> tuple[NDArray[np.float64], float]:
    """The chance that a subject has as many rows as it has, where all have them at the rate of the others.

    Parameters
    ----------
    counts : array of int, shape (g,)
        Rows of each subject that has some.
    of : int
        Subjects in all, those without rows among them.

    Returns
    -------
    p : array of float, shape (g,)
        Upper tails at the mean of all others of the Poisson law, or where counts are spread by more of the negative
        binomial law of their variance (Greenwood, M. and Yule, G. U. 1920, Journal of the Royal Statistical Society 83,
        255-279), its own error added; NaN where they are spread by much more than chance, or subjects are few.
    mean : float
        Rows that a subject has on average, the largest counts left out.

    Examples
    --------
    >>> p, mean = frequent(np.array([1] * 300 + [2] * 80 + [3] * 10 + [18]), 900)
    >>> round(mean, 2), bool(p[-1] < 1e-12), bool(p[-2] > 0.01)
    (0.53, True, True)
    >>> bool(np.isnan(frequent(np.arange(1, 200), 200)[0]).all())
    True
    """
    none = np.full(len(counts), np.nan)
    if of < LEAST or len(counts) < 2 or of < len(counts):
        return none, float("nan")
    every = np.sort(np.concatenate([np.zeros(of - len(counts), dtype=np.int64), counts]))
    usual = every[: of - max(1, int(np.ceil(TOP * of)))]
    mean = float(usual.mean())
    if mean == 0 or float(usual.var()) > MOST_SPREAD * mean:
        return none, mean
    rest = (counts.sum() - counts) / (of - 1)
    rest = np.maximum(rest, mean)
    spread = LEFT_OUT * (1 + ERRORS * np.sqrt(2 / of)) * float(usual.var()) / mean
    if spread <= 1:
        return gammainc(counts, rest), mean
    return betainc(counts, rest / (spread - 1), (spread - 1) / spread), mean
