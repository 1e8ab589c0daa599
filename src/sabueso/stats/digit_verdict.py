"""What is concluded of a mean absolute deviation: published ranges, and one verdict of a group."""

from __future__ import annotations

import numpy as np

from sabueso.stats.digit_law import DigitTest

# Upper ends of close, acceptable and marginal conformity of the mean absolute deviation
# (Nigrini, M. J. 2012, Benford's Law, table 7.1). None is published for the last two digits.
MAD_RANGES: dict[str, tuple[float, float, float]] = {
    "first": (0.006, 0.012, 0.015),
    "second": (0.008, 0.010, 0.012),
    "first-two": (0.0012, 0.0018, 0.0022),
    "first-three": (0.00036, 0.00044, 0.00050),
}

RANGES = ("close", "acceptable", "marginal", "nonconforming")
NO_DEPARTURE, SLIGHT, DEPARTING, NONCONFORMING = (
    "no departure shown", "departs slightly", "departs", "nonconforming",
)  # fmt: skip
"""What is concluded of a group, from its flags, its chi-square and its excess deviation together."""


def published_range(test: DigitTest, mad: float) -> str | None:
    """Published reading of a mean absolute deviation, or None where no range is published.

    It knows nothing of n: a conforming population of a few hundred is far from ``close``.

    Examples
    --------
    >>> published_range("first", 0.005), published_range("first", 0.02)
    ('close', 'nonconforming')
    """
    if test not in MAD_RANGES:
        return None
    return RANGES[int(np.searchsorted(MAD_RANGES[test], mad, side="right"))]


def concluded(test: DigitTest, excess: float, *, shown: bool) -> str:
    """One conclusion of a group.

    Parameters
    ----------
    excess : float
        Mean absolute deviation less the one that chance alone gives.
    shown : bool
        Whether a class is flagged or chi-square rejects the law.

    Notes
    -----
    Without either nothing is concluded, whatever the deviation. With either the excess is read by the
    published ranges: within ``close`` the departure is slight; beyond ``marginal`` nonconforming.
    """
    if not shown:
        return NO_DEPARTURE
    if test not in MAD_RANGES:
        return DEPARTING
    place = int(np.searchsorted(MAD_RANGES[test], excess, side="right"))
    return (SLIGHT, DEPARTING, DEPARTING, NONCONFORMING)[place]
