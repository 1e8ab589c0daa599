"""p-values adjusted for the number of hypotheses tested."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

Method = Literal["holm", "bonferroni", "bh"]


def adjust(p: ArrayLike, method: Method = "holm", family: int | None = None) -> NDArray[np.float64]:
    """Adjust p-values for multiple testing.

    Parameters
    ----------
    p : array_like, shape (k,)
        Raw p-values in [0, 1]. For ``holm`` and ``bonferroni`` they may be only the k smallest of
        a larger family; ``bh`` needs the whole family.
    method : {"holm", "bonferroni", "bh"}
        Holm's step-down, Bonferroni's p·m, or the Benjamini-Hochberg false discovery rate.
    family : int, optional
        Number m of hypotheses tested; default k.

    Returns
    -------
    ndarray, shape (k,)
        Adjusted p-values in the order given, capped at 1.

    Raises
    ------
    ValueError
        If a p-value is outside [0, 1], or the family does not fit the p-values given.

    References
    ----------
    Holm, S. (1979), Scandinavian Journal of Statistics 6, 65-70.
    Benjamini, Y. and Hochberg, Y. (1995), Journal of the Royal Statistical Society B 57, 289-300.

    Examples
    --------
    >>> adjust([0.01, 0.04, 0.03], "bonferroni").round(4).tolist()
    [0.03, 0.12, 0.09]
    >>> adjust([0.01, 0.04, 0.03], "holm").round(4).tolist()
    [0.03, 0.06, 0.06]
    >>> adjust([0.01, 0.04, 0.03], "bh").round(4).tolist()
    [0.03, 0.04, 0.04]
    """
    values = np.asarray(p, dtype=np.float64)
    k = values.size
    m = k if family is None else family
    if k and not (np.all(values >= 0) and np.all(values <= 1)):
        raise ValueError("p-values must lie between 0 and 1")
    if m < k or (method == "bh" and m != k):
        raise ValueError(f"a family of {m} does not fit {k} p-values with method {method}")
    if method == "bonferroni":
        return np.minimum(values * m, 1.0)
    order = np.argsort(values, kind="stable")
    ranked = values[order]
    if method == "holm":
        stepped = np.maximum.accumulate(ranked * (m - np.arange(k)))
    elif method == "bh":
        stepped = np.minimum.accumulate((ranked * m / np.arange(1, k + 1))[::-1])[::-1]
    else:
        raise ValueError(f"unknown adjustment {method!r}")
    adjusted = np.empty(k)
    adjusted[order] = np.minimum(stepped, 1.0)
    return adjusted
