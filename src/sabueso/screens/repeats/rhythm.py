"""Parties that are paid about the same in even steps, such as wages: that one amount comes twice there is no finding."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
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
