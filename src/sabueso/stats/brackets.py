"""Amounts by brackets of another number: lines that hold one after the other, each between two limits."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_BRACKETS, MOST_TRIED = 6, 9
"""Brackets that there may be, and lines that are looked for: some are of exceptions."""
LEAST_EACH, DIFFERENT = 6, 4
"""Rows that a bracket is told by, and different numbers among them."""
APART = (32, 12, 6, 3)
"""By which part of the rows two of them are apart whose slope is taken."""
MOST_SLOPES = 8
"""Slopes that are tried, the most frequent first."""
OFTEN = 0.1
"""Share of the slopes that the most frequent ones must be."""
COARSE = 3
"""Significant digits by which slopes are the same, whatever rounding made of them."""
RATE_DECIMALS = 5
ASTRAY = 0.2
"""Share of the rows of a bracket that may be on the line of its neighbour: exceptions."""


class _Line(NamedTuple):
    """What amounts are by their number, and which rows are so."""

    rate: float
    low: float
    """Between which numbers the fixed part is: amounts were rounded."""
    high: float
    on: np.ndarray

    @property
    def fixed(self) -> float:
        return _plainest(self.low, self.high)


class Bracket(NamedTuple):
    """Up to which number an amount is ``rate`` times that and ``fixed``; the last has no limit."""

    rate: float
    fixed: float
    up_to: float


def brackets(own: np.ndarray, of: np.ndarray, scale: int) -> list[Bracket]:
    """Lines on which nearly all amounts are, one after the other along the number that they are of.

    Parameters
    ----------
    own, of : array of float, shape (n,)
        Amounts, of ``scale`` decimals and rounded to them, and what they may be of; not a number where there is none.
    scale : int
        Decimals of the amounts.

    Returns
    -------
    list of Bracket
        Two or more, the least first; none where there is no such order.

    Examples
    --------
    >>> of = np.arange(10.0, 2000.0, 10.0)
    >>> brackets(np.round(0.25 * np.minimum(of, 1500) + 0.2 * np.maximum(of - 1500, 0), 2), of, 2)
    [Bracket(rate=0.25, fixed=0.0, up_to=1500.0), Bracket(rate=0.2, fixed=75.0, up_to=inf)]
    """
    known = ~(np.isnan(own) | np.isnan(of)) & (of > 0)
    order = np.argsort(of[known], kind="stable")
    y, x = own[known][order], of[known][order]
    left = np.ones(len(x), dtype=bool)
    lines: list[_Line] = []
    for _ in range(MOST_TRIED):
        line = _line(y, x, left, scale) if left.sum() >= LEAST_EACH else None
        if line is None:
            break
        if not lines and line.on.sum() < len(x) / (2 * MOST_BRACKETS):
            return []
        left &= ~line.on
        # Exceptions may be on a line of their own, beside the others: that is no bracket.
        more = sorted([*lines, line], key=lambda each: float(np.median(x[each.on])))
        if _in_order(more, x) is not None:
            lines = more
    found = _in_order(lines, x) or []
    covered = np.any([line.on for line in lines], axis=0).sum() if lines else 0
    enough = covered >= HOLDS * len(x)
    return found if enough and 2 <= len(found) <= MOST_BRACKETS else []


def _in_order(lines: Sequence[_Line], x: np.ndarray) -> list[Bracket] | None:
    """The lines one after the other, each up to where the next begins; None where they do not follow one another."""
    found: list[Bracket] = []
    fixed = lines[0].fixed if lines else 0.0
    for first, second in pairwise(lines):
        ends = _next(fixed, first, second, x)
        if ends is None or (found and ends[0] <= found[-1].up_to):
            return None
        if first.rate == second.rate != 0:
            return None  # one line, whose rate is told too roughly
        found.append(Bracket(first.rate, fixed, ends[0]))
        fixed = ends[1]
    return [*found, Bracket(lines[-1].rate, fixed, np.inf)] if lines else None


def _line(y: np.ndarray, x: np.ndarray, left: np.ndarray, scale: int) -> _Line | None:
    """The rate and the fixed part that most of the rows that are left keep; of equally good ones the plainest rate."""
    own, of = y[left], x[left]
    best, most = None, LEAST_EACH - 1
    unit = 10.0**-scale
    for near in _slopes(own, of):
        for rate in {round(near, decimals): None for decimals in range(RATE_DECIMALS + 1)}:
            low, high = _fixed(own - rate * of, unit)
            on = same_but_rounded(own, rate * of + _plainest(low, high), scale)
            if on.sum() > most and np.unique(of[on]).size >= DIFFERENT:
                best, most = (rate, low, high), int(on.sum())
    if best is None:
        return None
    rate, low, high = best
    return _Line(rate, low, high, same_but_rounded(y, rate * x + _plainest(low, high), scale))


def _fixed(rest: np.ndarray, unit: float) -> tuple[float, float]:
    """Between which numbers that is which is left of most amounts, each of which was rounded to whole units."""
    rest, near = np.sort(rest), unit * 1e-6
    ends = np.searchsorted(rest, rest + unit - near, side="right")
    first = int((ends - np.arange(len(rest))).argmax())
    return float(rest[ends[first] - 1]) - unit / 2 - near, float(rest[first]) + unit / 2 + near


def _slopes(own: np.ndarray, of: np.ndarray) -> Iterator[float]:
    """How steeply amounts rise between rows some way apart, the most frequent first, each the median of those alike."""
    found = []
    for part in APART:
        step = max(len(of) // part, 1)
        run = of[step:] - of[:-step]
        rise = own[step:] - own[:-step]
        found.append(rise[run > 0] / run[run > 0])
    slopes = np.concatenate(found)
    sizes = 10.0 ** (COARSE - 1 - np.floor(np.log10(np.maximum(np.abs(slopes), 1e-9))))
    coarse = np.round(slopes * sizes) / sizes
    _, where, each = np.unique(coarse, return_inverse=True, return_counts=True)
    often = np.argsort(-each, kind="stable")[:MOST_SLOPES]
    if each[often].sum() < OFTEN * len(slopes):
        return  # of amounts that are no line of the number slopes are all different
    for kind in often:
        yield float(np.median(slopes[where == kind]))


def _next(fixed: float, first: _Line, second: _Line, x: np.ndarray) -> tuple[float, float] | None:
    """Where one line ends and the next begins, and the fixed part of that: where they cross, or else between the last row of one
    and the first of the other; None where rows of either are on both sides."""
    mine, theirs = x[first.on & ~second.on], x[second.on & ~first.on]
    if not (len(mine) and len(theirs)):
        return None
    if (less := first.rate - second.rate) != 0:
        low, high = sorted((each - fixed) / less for each in (second.low, second.high))
        if _parts(low, high, mine, theirs):
            limit = _plainest(low, high)
            return limit, round(fixed + less * limit, 9)
    every = np.sort(np.concatenate((mine, theirs)))
    wrong = np.searchsorted(np.sort(theirs), every, side="right") - np.searchsorted(
        np.sort(mine), every, side="right"
    )
    last = float(every[wrong.argmin()])
    after = every[every > last]
    if not len(after) or not _parts(last, float(after[0]), mine, theirs):
        return None
    # The first number of the next bracket is no part of this one.
    return _plainest(last, float(np.nextafter(after[0], 0))), second.fixed


def _parts(low: float, high: float, mine: np.ndarray, theirs: np.ndarray) -> bool:
    """Whether nearly all rows of one are up to a limit, and those of the other beyond it."""
    over, under = int((mine > high).sum()), int((theirs <= low).sum())
    return max(over, under) <= ASTRAY * min(len(mine), len(theirs))


def _plainest(low: float, high: float) -> float:
    """The number between two, both included, with the most noughts at its end: nothing, where that is one."""
    if low <= 0 <= high:
        return 0.0
    for decimals in range(-12, 9):
        near = round((low + high) / 2, decimals)
        for each in (near, near - 10.0**-decimals, near + 10.0**-decimals):
            if low <= each <= high:
                return float(round(each, max(decimals, 0)))
    return (low + high) / 2
