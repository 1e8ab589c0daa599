"""The classes of leading and last digits, and the proportion in which each is expected."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

DigitTest = Literal["first", "second", "first-two", "first-three", "last-two"]

DIGIT_TESTS: tuple[DigitTest, ...] = ("first", "second", "first-two", "first-three", "last-two")


# 95th percentiles of sqrt(n)·D under the discrete law of each class set, by simulation of the Brownian
# bridge at its cumulative shares (bench/calibration.py --ks; seed 20, 200,000 draws or more).
KS_LIMIT: dict[str, float] = {
    "first": 1.149,
    "second": 1.175,
    "first-two": 1.288,
    "first-three": 1.335,
    "last-two": 1.300,
}


def class_labels(test: DigitTest) -> NDArray[np.int64]:
    """The classes of a digit test, ascending: 1-9, 0-9, 10-99, 100-999 or 0-99."""
    first, last = {
        "first": (1, 9),
        "second": (0, 9),
        "first-two": (10, 99),
        "first-three": (100, 999),
        "last-two": (0, 99),
    }[test]
    return np.arange(first, last + 1)


def expected_shares(test: DigitTest) -> NDArray[np.float64]:
    """Expected proportion of each class, in the order of :func:`class_labels`; sums to 1.

    References
    ----------
    Benford, F. (1938), Proceedings of the American Philosophical Society 78, 551-572.
    Hill, T. P. (1995), American Mathematical Monthly 102, 322-327 (later digits).

    Examples
    --------
    >>> expected_shares("first").round(3).tolist()
    [0.301, 0.176, 0.125, 0.097, 0.079, 0.067, 0.058, 0.051, 0.046]
    """
    d = class_labels(test).astype(np.float64)
    if test == "second":
        leading = np.arange(1, 10)[:, None] * 10
        return np.asarray(np.log10(1 + 1 / (leading + d)).sum(axis=0))
    if test == "last-two":
        return np.full(100, 0.01)
    return np.asarray(np.log10(1 + 1 / d))
