"""Draws that anyone can make again: random numbers from a seed, by a hash that every language has.

The j-th number of a seed is the SHA-256 of the text ``seed:j`` read as a whole number, over 2^256.
"""

from __future__ import annotations

import hashlib
from fractions import Fraction
from itertools import count

WHOLE = 1 << 256


def number(seed: str, j: int) -> int:
    """The j-th number of a seed, from 0 to 2^256 - 1.

    Examples
    --------
    >>> number("7", 0) == int(hashlib.sha256(b"7:0").hexdigest(), 16)
    True
    """
    return int.from_bytes(hashlib.sha256(f"{seed}:{j}".encode()).digest(), "big")


def drawn_places(seed: str, size: int, population: int) -> list[int]:
    """Places drawn at random without replacement: whole numbers from 1, ascending.

    The numbers of the seed in their order, each as a place (number · population / 2^256, rounded down, and
    1 added); a place that was drawn is passed over. Where more than half are wanted, those that are left
    out are drawn.

    Raises
    ------
    ValueError
        If more are wanted than there are.

    Examples
    --------
    >>> drawn_places("7", 3, 1000)
    [553, 843, 961]
    """
    if not 0 <= size <= population:
        raise ValueError(f"{size} cannot be drawn of {population}")
    if 2 * size > population:
        left = set(drawn_places(seed, population - size, population))
        return [place for place in range(1, population + 1) if place not in left]
    found: set[int] = set()
    for j in count():
        if len(found) == size:
            return sorted(found)
        found.add(number(seed, j) * population // WHOLE + 1)
    raise AssertionError


def spaced_places(seed: str, size: int, population: int) -> list[int]:
    """Places at equal intervals of population / size from a random start: whole numbers from 1, ascending.

    Raises
    ------
    ValueError
        If more are wanted than there are, or none.

    Examples
    --------
    >>> spaced_places("7", 4, 10)
    [3, 5, 8, 10]
    """
    if not 0 < size <= population:
        raise ValueError(f"{size} cannot be drawn of {population}")
    interval = Fraction(population, size)
    start = Fraction(number(seed, 0), WHOLE) * interval
    return [int(start + i * interval) + 1 for i in range(size)]


def random_start(seed: str, interval: int) -> int:
    """The first of the units drawn at an interval: a whole number from 0 to interval - 1."""
    return number(seed, 0) * interval // WHOLE
