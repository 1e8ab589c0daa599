"""What would be so if the pairs of two columns were mixed."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike


def share_above(values: ArrayLike, limits: ArrayLike) -> float:
    """Share of the values that are above a limit, each beside every one of the limits: what is so on average over all ways of
    mixing them.

    Examples
    --------
    >>> share_above([1.0, 5.0], [2.0, 2.0, 5.0])
    0.3333333333333333
    """
    ordered = np.sort(np.asarray(limits))
    return float(np.searchsorted(ordered, np.asarray(values)).mean() / len(ordered))
