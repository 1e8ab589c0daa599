"""Columns of numbers of which some added up, and others taken off, come to nothing: found though some rows are wrong."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product

import numpy as np

HOLDS = 0.9
"""Share of rows that must keep a relation."""
NEAR = 0.5 * 1.000001
"""Units of its last decimal by which an amount may be off where it was rounded: half of one, and what floats make of it."""
LEAST_ROWS = 30
"""Rows of fewer than which nothing is said."""
TRIALS, ENOUGH = 60, 8
"""How often some rows are drawn, since one in ten may be wrong, and how often where a relation has been found."""
PRIME = 2**31 - 1
"""Rows are solved by whole numbers modulo this prime, exactly."""
MOST_TOGETHER = 5
"""Other dependent columns with which one is tried."""


def relations(values: np.ndarray) -> list[tuple[int, ...]]:
    """Independent relations that at least nine in ten of the rows keep: some columns added up, others taken off, come
    to nothing.

    Parameters
    ----------
    values : array of int objects, shape (n, k)
        Minor units.

    Returns
    -------
    list of tuples of k numbers, each -1, 0 or 1
        The last column of each, in the order of the table, is what the others make of it: -1.

    Examples
    --------
    >>> rows = [[a, b, a + b, c, a + b - c] for a, b, c in ((7, 2, 1), (9, 5, 3), (8, 1, 6), (2, 11, 5), (4, 4, 4))]
    >>> relations(np.array(rows * 30, dtype=object))
    [(1, 1, -1, 0, 0), (0, 0, 1, -1, -1)]
    """
    n, k = values.shape
    used = [j for j in range(k) if any(values[:, j])]
    if n < LEAST_ROWS or len(used) < 3:
        return []
    own = values[:, used]
    # Rows that are alike tell no more than one of them.
    distinct = np.array(sorted(set(map(tuple, own.tolist()))), dtype=object)
    size = min(len(used) + 3, len(distinct))
    rng = np.random.default_rng(0)
    best: list[tuple[int, ...]] = []
    for trial in range(TRIALS):
        if best and trial >= ENOUGH:
            break
        drawn = distinct[rng.choice(len(distinct), size, replace=False)]
        found = [
            signs
            for signs in _kernel(drawn)
            if _held(own, signs) >= HOLDS * n and not _falls_apart(own, signs)
        ]
        if len(found) > len(best):
            best = found
    whole = []
    for signs in _sparse(best):
        every = [0] * k
        for place, sign in zip(used, signs, strict=True):
            every[place] = sign
        whole.append(tuple(every))
    return sorted(whole, key=lambda signs: (sum(map(abs, signs)), [-s for s in signs]))


def _sparse(found: Sequence[tuple[int, ...]]) -> list[tuple[int, ...]]:
    """The same relations by as few columns as they can be told with: net is gross less the deductions, and not the
    parts of gross less them."""
    shortest = list(found)
    for place, one in enumerate(shortest):
        for other in shortest[:place]:
            for sign in (1, -1):
                both = tuple(a + sign * b for a, b in zip(one, other, strict=True))
                if max(map(abs, both)) == 1 and 3 <= sum(map(abs, both)) < sum(map(abs, one)):
                    shortest[place] = one = both
    return shortest


def _held(values: np.ndarray, signs: Sequence[int]) -> int:
    """Rows that keep a relation, and of whose columns in it two or more are something."""
    places = [j for j, sign in enumerate(signs) if sign]
    some = values[:, places]
    total = sum(sign * values[:, j] for j, sign in enumerate(signs) if sign)
    return int(((total == 0) & ((some != 0).sum(axis=1) != 1)).sum())


def _falls_apart(values: np.ndarray, signs: Sequence[int]) -> bool:
    """Whether two columns of a relation are the same by themselves, so that it says nothing of them."""
    added = [j for j, sign in enumerate(signs) if sign > 0]
    taken = [j for j, sign in enumerate(signs) if sign < 0]
    return any(
        (values[:, i] == values[:, j]).sum() >= HOLDS * len(values) for i in added for j in taken
    )


def _kernel(rows: np.ndarray) -> list[tuple[int, ...]]:
    """What all of some rows keep: of each column that depends on those before it, how, where by -1, 0 and 1 alone and
    of two others or more."""
    work = np.array([[int(v) % PRIME for v in row] for row in rows], dtype=np.int64)
    n, k = work.shape
    pivots: list[int] = []
    free: list[int] = []
    for j in range(k):
        at = len(pivots)
        below = np.flatnonzero(work[at:, j]) if at < n else np.array([], dtype=np.int64)
        if not len(below):
            free.append(j)
            continue
        work[[at, at + below[0]]] = work[[at + below[0], at]]
        work[at] = work[at] * pow(int(work[at, j]), -1, PRIME) % PRIME
        factors = work[:, j].copy()
        factors[at] = 0
        work = (work - factors[:, np.newaxis] * work[at] % PRIME) % PRIME
        pivots.append(j)
    found: list[tuple[int, ...]] = []
    made: list[np.ndarray] = []
    for j in free:
        own = np.zeros(k, dtype=np.int64)
        own[pivots] = work[: len(pivots), j]
        own[j] = PRIME - 1
        # Where others are parts of one another too, such as a contribution that is a fifth of every wage, what this
        # one is made of is told with them.
        ways = product((0, 1, -1), repeat=len(made)) if len(made) <= MOST_TOGETHER else [()]
        best: tuple[int, ...] | None = None
        for way in ways:
            whole = own.copy()
            for times, other in zip(way, made, strict=False):
                whole = (whole + times * other) % PRIME
            signs = tuple(np.where(whole > PRIME // 2, whole - PRIME, whole).tolist())
            shorter = best is None or sum(map(bool, signs)) < sum(map(bool, best))
            if max(map(abs, signs)) == 1 and sum(map(bool, signs)) >= 3 and shorter:
                best = signs
        made.append(own)
        if best is not None:
            found.append(best)
    return found


def same_but_rounded(own: np.ndarray, made: np.ndarray, scale: int) -> np.ndarray:
    """Which amounts, of so many decimals, are what they are made of, rounded; not where either is no number.

    Examples
    --------
    >>> same_but_rounded(np.array([1.24, 1.26]), np.array([1.235, 1.25]), 2).tolist()
    [True, False]
    """
    found: np.ndarray = np.abs(own - made) <= NEAR * 10.0**-scale
    return found
