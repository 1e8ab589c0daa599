"""Parties that are paid about the same in even steps, such as wages: that one amount comes twice there is no finding."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import comb
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from sabueso.screens.repeats.clusters import Found

LEAST_STEPS, LEAST_OF_ALL = 3, 20
"""Steps from which a party has a rhythm, and those of all together from which one that has fewer shares theirs."""
EVEN = 0.8
"""Share of the steps that must be as long as their median, within a day or a tenth of it."""
STEADY = 0.25
"""Part of the median amount that the middle half of the amounts may spread over."""


@dataclass(frozen=True)
class Steps:
    """What a party's rows do: days from each to the next, 0 where none are known to be even, and whether its amounts
    are steady."""

    step: float
    steady: bool

    def explain(self, cluster: Found) -> bool:
        """Whether rows of one amount are no closer than any two that follow one another."""
        days = [row.day for row in cluster.rows]
        if not self.steady or not self.step or cluster.likeness is not None or None in days:
            return False
        apart = [(b - a).days for a, b in pairwise(days) if a and b]
        return all(each >= self.step - _slack(self.step) for each in apart)


def steps_of(
    rows: Mapping[tuple[Any, ...], tuple[ArrayLike, ArrayLike]],
) -> dict[tuple[Any, ...], Steps]:
    """The rhythm of each party.

    Parameters
    ----------
    rows : mapping
        By party, the days of its rows as numbers and their sizes in minor units.

    Examples
    --------
    >>> steps_of({("a",): ([0, 14, 28, 42], [500, 500, 540, 505]), ("b",): ([0, 3, 9, 40], [5, 50, 900, 7])})
    {('a',): Steps(step=14.0, steady=True), ('b',): Steps(step=0.0, steady=False)}
    """
    apart = {who: np.diff(np.unique(np.asarray(days))) for who, (days, _) in rows.items()}
    every = np.concatenate([*apart.values(), np.array([], dtype=np.int64)])
    shared = _even(every) if len(every) >= LEAST_OF_ALL else 0.0
    return {
        who: Steps(
            _even(apart[who]) if len(apart[who]) >= LEAST_STEPS else shared, _are_steady(sizes)
        )
        for who, (_, sizes) in rows.items()
    }


LEAST_DAYS, OFF, SURELY = 6.0, 0.25, 0.05
"""Days that a step has at least, the part of one that a row may lie off its place, and the chance that as many of any
days lie so near: below it rows come in steps, and one place that has two is beyond them."""


def step_beyond(days: Sequence[int], first: int, last: int) -> float | None:
    """The step in which rows of one amount come, where two of them alone are at one place of it: all others are whole
    steps apart.

    Parameters
    ----------
    days : sequence of int
        Of all rows of the amount, in order.
    first, last : int
        The days of the two.

    Examples
    --------
    >>> step_beyond([0, 30, 61, 91, 93, 122, 152, 183], 91, 93), step_beyond([0, 30, 61, 91, 122, 152, 183], 91, 122)
    (30.5, None)
    """
    places = np.unique(np.asarray(days, dtype=np.int64))
    if last != first:
        places = places[places != last]
    apart = np.diff(places)
    if not len(apart) or len(days) != len(places) + 1:
        return None
    step = float(np.median(apart))
    whole = np.rint(apart / step)
    near = int((np.abs(apart - whole * step) <= OFF * step).sum())
    if step < LEAST_DAYS or last - first > OFF * step or whole.min() < 1:
        return None
    n, p = len(apart), 2 * OFF
    by_chance = sum(comb(n, k) * p**k * (1 - p) ** (n - k) for k in range(near, n + 1))
    return step if by_chance < SURELY else None


def own_step(days: ArrayLike) -> float:
    """The step from one day with rows of a party to the next, whatever their amounts; 0 where most are not as long."""
    apart = np.diff(np.unique(np.asarray(days)))
    return _even(apart) if len(apart) >= LEAST_STEPS else 0.0


def makes_up(every: ArrayLike, step: float, first: int, last: int) -> bool:
    """Whether two rows at one place make up for none at the place before, or after: what was late, or early.

    Parameters
    ----------
    every : array of int
        Days of all rows of the party, of whatever amount.
    """
    days = np.asarray(every)
    for side, at in ((-1, first), (1, last)):
        beyond = days[days < first] if side < 0 else days[days > last]
        near = np.abs(beyond - (at + side * step)) <= 2 * OFF * step
        if len(beyond) and not near.any():
            return True
    return False


def _slack(step: float) -> float:
    return max(1.0, 0.1 * step)


def _even(apart: np.ndarray) -> float:
    """The step that most are as long as; 0 where there is none."""
    step = float(np.median(apart))
    near = np.abs(apart - step) <= _slack(step)
    return step if np.mean(near) >= EVEN else 0.0


def _are_steady(sizes: ArrayLike) -> bool:
    low, middle, high = np.percentile(np.asarray(sizes, dtype=np.float64), [25, 50, 75])
    return bool(high - low <= STEADY * middle)
