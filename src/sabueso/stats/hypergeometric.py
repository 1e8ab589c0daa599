"""Is a value over-represented in a class? The upper tail of the hypergeometric law."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray


def upper_tail(count: int, population: int, marked: int, drawn: int) -> float:
    """P(X >= count) where ``drawn`` of ``population`` are drawn and ``marked`` are marked.

    Raises
    ------
    ValueError
        If the numbers cannot belong together.

    References
    ----------
    Fisher, R. A. (1935), The Design of Experiments, chapter 2.

    Examples
    --------
    At least 3 of 5 drawn are among the 10 marked of 50:

    >>> round(upper_tail(3, 50, 10, 5), 4)
    0.0483
    """
    if not (0 <= marked <= population and 0 <= drawn <= population and count >= 0):
        raise ValueError("counts must lie within the population")
    return float(upper_tails(count, population, marked, drawn))


def upper_tails(
    counts: ArrayLike, population: int, marked: ArrayLike, drawn: ArrayLike
) -> NDArray[np.float64]:
    """The same tail for many subjects of one population, shape (subjects,).

    Parameters
    ----------
    counts, marked, drawn : array_like
        Whole numbers, of one shape or single ones.

    Examples
    --------
    >>> upper_tails([3, 0], 50, 10, [5, 5]).round(4).tolist()
    [0.0483, 1.0]
    """
    count, of, n = (
        np.asarray(each, np.float64) for each in np.broadcast_arrays(counts, marked, drawn)
    )
    least, most = np.maximum(0.0, n + of - population), np.minimum(of, n)
    # From the count away from the middle every term is smaller than the one before: above it the tail is
    # summed, below it what is left of 1.
    above = count > n * of / population if population else np.ones(count.shape, dtype=bool)
    start = np.where(above, count, count - 1)
    inside = (start >= least) & (start <= most)
    k = np.where(inside, start, least)
    ways = log_choose(of, k) + log_choose(population - of, n - k) - log_choose(population, n)
    term = np.where(inside, np.exp(ways), 0.0).ravel()
    total = term.copy()
    at, up, of_, n_ = (np.ravel(each) for each in (k, above, of, n))
    left = np.flatnonzero(term > 0)
    while left.size:
        j, marks, draws, going_up = at[left], of_[left], n_[left], up[left]
        others = population - marks - draws
        ratio = np.where(
            going_up,
            (marks - j) * (draws - j) / ((j + 1) * (others + j + 1)),
            j * (others + j) / ((marks - j + 1) * (draws - j + 1)),
        )
        at[left] = np.where(going_up, j + 1, j - 1)
        term[left] *= ratio
        total[left] += term[left]
        left = left[term[left] > SMALL * total[left]]
    whole = np.reshape(total, count.shape)
    tail = np.where(above, whole, 1.0 - whole)
    return np.where(count <= least, 1.0, np.clip(tail, 0.0, 1.0))


SMALL = 1e-17
"""Share of a sum below which a term changes no digit of it."""


def log_choose(n: float | np.ndarray, k: float | np.ndarray) -> np.ndarray:
    """The logarithm of how many choices of k out of n there are."""
    from scipy.special import gammaln  # loaded slowly, and by few of those who load this module

    return np.asarray(gammaln(n + 1) - gammaln(k + 1) - gammaln(n - k + 1))
