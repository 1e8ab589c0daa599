"""p of deviates, adjusted for how many were judged, and how many chance alone puts beyond a limit."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import numpy as np

from sabueso.screens.limits.scales import Scale
from sabueso.screens.worths import Worths
from sabueso.screens.zscore.deviates import (
    Tested,
)
from sabueso.screens.zscore.settings import ZScoreSettings
from sabueso.stats.adjust import adjust
from sabueso.stats.moments import (
    deviate_p,
    modified_p,
)


def p_of(
    strength: np.ndarray, at: np.ndarray, tested: Sequence[Tested], settings: ZScoreSettings
) -> np.ndarray:
    """p of deviates, of the groups at ``at``; NaN where no law holds.

    The modified deviate has no exact law: Student's is used where the middle of the group is
    normal, and none elsewhere. A test of one side has its p.
    """
    n = np.array([t.group.n for t in tested], dtype=np.float64)
    both = settings.side == "both"
    if settings.method == "plain":
        return deviate_p(strength, np.maximum(n, 3)[at], two_sided=both) if len(at) else strength
    normal = np.array([t.group.middle_normal for t in tested], dtype=bool)
    if not len(at):
        return strength
    return np.where(normal[at], modified_p(strength, n[at], two_sided=both), np.nan)


def by_chance(tested: Sequence[Tested], settings: ZScoreSettings, limit: Fraction) -> float | None:
    """How many rows of normal data of these sizes would be beyond the limit; of modified deviates those of
    groups whose rows have a p."""
    if settings.method == "sequential":
        # The level is that of finding any in a group that has none.
        return settings.alpha * len(tested)
    n = np.array([t.group.n for t in tested], dtype=np.float64)
    if settings.method == "modified":
        n = n[[bool(t.group.middle_normal) for t in tested]]
        if not len(n):
            return None
    return float((n * beyond_p(n, settings.method, settings.side, limit)).sum())


def beyond_p(n: np.ndarray, method: str, side: str, limit: Fraction) -> np.ndarray:
    """P that a row of normal data is beyond the limit, in groups of so many."""
    both = side == "both"
    if method == "modified":
        return modified_p(float(limit), n, two_sided=both)
    return deviate_p(float(limit), np.maximum(n, 3), two_sided=both)


def adjusted_p(
    worths: Worths, scale: Scale, tested: list[Tested], p: np.ndarray, settings: ZScoreSettings
) -> np.ndarray:
    """Adjusted p of the flagged rows. Holm and Bonferroni need those alone; the false discovery rate needs
    the rank of each p among all."""
    known = np.isfinite(p)
    found = np.full(len(p), np.nan)
    if not known.any():
        return found
    if settings.adjust != "bh":
        family = sum(t.group.n for t in tested)
        found[known] = adjust(p[known], settings.adjust, max(family, len(p)))
        return found
    position = np.full(len(worths.keys), -1)
    position[[t.group.place for t in tested]] = range(len(tested))
    centre, unit = np.array([t.centre for t in tested]), np.array([t.unit for t in tested])
    every = [np.empty(0)]
    for part, worth in worths.slices():
        for block in scale.arranged(part, worth).blocks(position[part]):
            at = block.of_rows[0][block.of_rows[0] >= 0]
            off = (block.values[block.of_rows[0] >= 0] - centre[at]) / unit[at]
            if settings.side == "both":
                every.append(p_of(np.abs(off), at, tested, settings))
            else:
                far = off if settings.side == "high" else -off
                tail = p_of(np.abs(off), at, tested, settings)
                every.append(np.where(far >= 0, tail, 1 - tail))
    all_p = np.concatenate(every)
    ranked = np.sort(all_p[np.isfinite(all_p)])
    stepped = adjust(ranked, "bh")
    # Equal p have one adjusted p, the largest of their ranks.
    place = np.searchsorted(ranked, p[known], side="right") - 1
    found[known] = stepped[np.maximum(place, 0)]
    return found
