"""Is a value over-represented in a class? The upper tail of the hypergeometric law."""

from __future__ import annotations

import numpy as np
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


def _log_choose(n: int, k: np.ndarray | np.float64) -> np.ndarray:
    return np.asarray(gammaln(n + 1) - gammaln(k + 1) - gammaln(n - k + 1))
