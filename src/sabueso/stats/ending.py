"""Where amounts end sharply: a limit that nearly all keep to, told by how close together the greatest of them are."""

from __future__ import annotations

from math import ceil, log10
from typing import NamedTuple

import numpy as np

LEAST = 300
"""Amounts of fewer than which no end is told."""
PART, LEAST_TOP, MOST_TOP = 10, 20, 60
"""Which part of the amounts are the greatest, and how few and how many these are at most."""
FLAT, FLAT_OF_FEW = 1.4, 1.25
"""How many times as far apart as the next ones the greatest may be, by their logarithms: those of a tail that goes on are two and
a half times and more."""
MANY = 40
"""Greatest amounts from which the former is asked, and not the latter."""
NEAR = 0.97
"""Share of the limit that the greatest of those that keep to it come to."""
APART = 6
"""How many times as far from them as they are from one another the first above the limit is: what keeps to the limit may by chance
leave a gap of two or three below it."""
DIGITS = 2
"""Digits of a limit that are not nought."""
GO_ON, LEAST_GO_ON = 0.05, 30
"""Share of the other amounts that are above the limit, and how many at the least."""


class End(NamedTuple):
    """A limit, and how many of the amounts are above it."""

    limit: float
    above: int


def sharp_end(own: np.ndarray, others: np.ndarray, few: int) -> End | None:
    """The limit that amounts of a kind end at, where those of other kinds go on.

    Parameters
    ----------
    own, others : array of float
        Amounts above nothing, of the kind and of all other kinds.
    few : int
        How many of the kind may be above the limit.

    Returns
    -------
    End or None
        A round limit that at least one amount of the kind is above, and no more than a few: the one where the greatest
        of those below it are closest together; None where they thin out as the others do.

    Notes
    -----
    The logarithms of the greatest k of n amounts whose tail is that of a Pareto or exponential law span about
    1 + 1/2 + … + 1/k of its scale, the next k about log 2 of it; of amounts that were cut off at a limit both span the same.

    References
    ----------
    Rényi, A. (1953), On the theory of order statistics, Acta Mathematica Hungarica 4, 191-231.

    Examples
    --------
    >>> own = np.append(np.linspace(20, 2990, 400), [4100.0, 5300.0])
    >>> sharp_end(own, np.linspace(20, 30_000, 400), 5)
    End(limit=3000.0, above=2)
    >>> exponential = -800 * np.log((np.arange(400) + 0.5) / 400)
    >>> sharp_end(exponential, np.linspace(20, 30_000, 400), 5) is None
    True
    """
    n = len(own)
    top = min(n // PART, MOST_TOP)
    if n < LEAST or top < LEAST_TOP:
        return None
    a = np.sort(own)[::-1]
    flat = FLAT if top >= MANY else FLAT_OF_FEW
    best: End | None = None
    for above in range(1, few + 1):
        limit = _round_between(float(a[above]), float(a[above - 1]))
        if limit is None or a[above + 2 * top] <= 0:
            continue
        first, second = np.log(a[above] / a[above + top]), np.log(a[above + top] / a[above + 2 * top])  # fmt: skip
        apart = np.log(a[above - 1] / a[above])
        beyond = int((others > limit).sum())
        goes_on = beyond >= max(LEAST_GO_ON, GO_ON * len(others))
        stand_out = apart >= APART * first / top
        if second > 0 and first <= flat * second and goes_on and stand_out:
            best, flat = End(limit, above), float(first / second)
    return best


def _round_between(greatest: float, next_one: float) -> float | None:
    """The limit with the fewest digits that one amount keeps to and the next does not, and that the former comes near to."""
    most = min(next_one, greatest / NEAR)
    size = int(np.floor(log10(greatest)))
    for digits in range(DIGITS):
        unit = 10.0 ** (size - digits)
        limit = round(ceil(round(greatest / unit, 9)) * unit, 6)
        if greatest <= limit <= most and limit < next_one:
            return limit
    return None
