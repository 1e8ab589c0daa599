"""Is a value over-represented in a class? The upper tail of the hypergeometric law."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import gammaln


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
    if count <= max(0, drawn + marked - population):
        return 1.0
    k = np.arange(count, min(marked, drawn) + 1, dtype=np.float64)
    if not k.size:
        return 0.0
    log_p = (
        _log_choose(marked, k)
        + _log_choose(population - marked, drawn - k)
        - _log_choose(population, np.float64(drawn))
    )
    return float(min(np.exp(log_p).sum(), 1.0))


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
    tail = np.zeros(count.shape)
    whole = _log_choose(population, n)
    most = np.minimum(of, n)
    for step in range(int(max((most - count).max(initial=-1.0), -1.0)) + 1):
        k = count + step
        # Fewer than are not marked must be left for the others; gammaln has poles below.
        fits = (k <= most) & (n - k <= population - of)
        k, rest = np.where(fits, k, 0.0), np.where(fits, n - k, 0.0)
        ways = _log_choose(of, k) + _log_choose(population - of, rest) - whole
        tail += np.where(fits, np.exp(ways), 0.0)
    certain = count <= np.maximum(0.0, n + of - population)
    return np.where(certain, 1.0, np.minimum(tail, 1.0))


def _log_choose(n: int | np.ndarray, k: np.ndarray | np.float64) -> np.ndarray:
    return np.asarray(gammaln(n + 1) - gammaln(k + 1) - gammaln(n - k + 1))
