"""Many groups of rows, some of them at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")
AT_ONCE = 500_000
"""Rows that are looked at together."""


def in_parts(
    starts: NDArray[np.int64], rows: int, at_once: int | None = None
) -> Iterator[tuple[NDArray[np.int64], slice]]:
    """Whole groups whose rows, one group's after another's, are so many together; or one that has more.

    Yields
    ------
    (starts, slice)
        Where each of these groups begins among the rows of the slice.

    Examples
    --------
    >>> [(own.tolist(), part) for own, part in in_parts(np.array([0, 3, 4, 9]), 10, 4)]
    [([0, 3], slice(0, 4, None)), ([0], slice(4, 9, None)), ([0], slice(9, 10, None))]
    """
    edges = np.append(starts, rows)
    at, most = 0, at_once or AT_ONCE
    while at < len(starts):
        end = max(int(np.searchsorted(edges, edges[at] + most, side="right")) - 1, at + 1)
        yield edges[at:end] - edges[at], slice(int(edges[at]), int(edges[end]))
        at = end


def by_parts(
    starts: NDArray[np.int64],
    rows: int,
    judge: Callable[[NDArray[np.int64], slice], T],
    none: T,
) -> T:
    """What is judged of each part of the groups, as one: the arrays of its fields one after another.

    Parameters
    ----------
    judge : callable
        Called with what :func:`in_parts` yields.
    none : dataclass of arrays
        What is judged of no groups.
    """
    found = [none, *(judge(own, part) for own, part in in_parts(starts, rows))]
    fields = zip(*(vars(each).values() for each in found), strict=True)
    return type(none)(*map(np.concatenate, fields))
