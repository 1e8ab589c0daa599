"""How likely a gap is among numbers of which each is there or not by chance."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from sabueso.stats.hypergeometric import log_choose


def gap_probability(missing: ArrayLike, present: int, span: int) -> np.ndarray:
    """P that at least so many numbers in a row are missing after one that is there, of independent presence.

    Exact, given how many are there: with presence independent and equally likely for each number between the first and
    the last, which are there, every choice of the others is as likely as any, whatever the chance of each. So
    P = C(span - missing - 2, present - 2) / C(span - 2, present - 2): the conditional law of a run, as of runs of one kind
    given its total (Mood, A. M. 1940, The distribution theory of runs, Annals of Mathematical Statistics 11, 367-392).

    Parameters
    ----------
    missing : array of int
        Lengths of gaps, 1 or more.
    present, span : int
        Distinct numbers that are there, and the numbers from the first to the last of them.

    Raises
    ------
    ValueError
        If more numbers are there than the span holds.

    Examples
    --------
    >>> gap_probability([3], present=97, span=100) * 152_096  # one of C(98, 3) choices of what is missing
    array([1.])
    >>> gap_probability([1, 2], present=50, span=101).round(4)
    array([0.5152, 0.2628])
    """
    length = np.asarray(missing, dtype=np.float64)
    if present > span:
        raise ValueError("there are more numbers than the span holds")
    if present < 2:
        return np.ones_like(length)
    others, left = present - 2.0, span - 2.0 - length
    fits = left >= others
    left = np.where(fits, left, others)
    logs = log_choose(left, others) - log_choose(span - 2.0, others)
    return np.where(fits, np.exp(np.minimum(logs, 0.0)), 0.0)
