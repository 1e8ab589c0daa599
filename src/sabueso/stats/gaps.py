"""How likely a gap is among numbers of which each is there or not by chance."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike


def gap_probability(missing: ArrayLike, present: int, span: int) -> np.ndarray:
    """P that so many numbers in a row are missing after one that is there, of independent presence.

    The share of numbers that are there is taken without the gap itself, which would make it likely:
    d = present / (span - missing), and P = (1 - d)^missing.

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
    >>> gap_probability([3], present=97, span=100)
    array([0.])
    >>> gap_probability([1, 2], present=50, span=101).round(4)
    array([0.5  , 0.245])
    """
    length = np.asarray(missing, dtype=np.float64)
    if present > span:
        raise ValueError("there are more numbers than the span holds")
    density = np.minimum(present / np.maximum(span - length, 1.0), 1.0)
    return np.asarray((1.0 - density) ** length)
