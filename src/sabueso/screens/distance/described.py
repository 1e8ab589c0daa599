"""What is kept of a group's distances, for its table and its figures."""

from __future__ import annotations

from typing import Any

import numpy as np

from sabueso.base.plain import ByColumn
from sabueso.screens.distance.fitted import Result
from sabueso.screens.distance.result import DistanceGroup, Ellipse, Quantiles
from sabueso.stats import distance as dist

FURTHEST = 20
"""The furthest subjects, which every figure has all of."""
MOST_POINTS = 1_500
"""Subjects of all groups together that a figure draws."""


def described(key: ByColumn, r: Result, fit: str, flagged: int, share: float) -> DistanceGroup:
    """A group as it is recorded; ``share`` is its part of the subjects that figures draw."""
    return DistanceGroup(
        group=key,
        n=r.n,
        measures=r.measures,
        fit=fit,
        center=r.location.center.tolist(),
        covariance=r.location.covariance.tolist(),
        limit=r.limit,
        mardia_skewness_p=r.mardia.skewness_p if r.mardia else None,
        mardia_kurtosis_p=r.mardia.kurtosis_p if r.mardia else None,
        dropped=r.dropped,
        flagged=flagged,
        quantiles=_quantiles(r),
        **_drawn(r, round(MOST_POINTS * share)),
    )


def _quantiles(r: Result) -> Quantiles:
    """Ordered d² at up to 200 ranks against chi-square(p), for a figure."""
    used = np.sort(r.used if r.everyone is None else r.everyone)
    n = len(used)
    even = np.linspace(0, n - 1, min(n, 200)).round().astype(int)
    # The furthest are all there: they are what the figure is looked at for.
    ranks = np.unique(np.concatenate([even, np.arange(max(n - FURTHEST, 0), n)]))
    expected = [dist.chi_square_limit(float(1 - (k + 0.5) / n), len(r.measures)) for k in ranks]
    return Quantiles(expected, used[ranks].tolist())


def _drawn(r: Result, most: int) -> dict[str, Any]:
    """Subjects of a scatter of the two measures that vary most for the flagged, with both ellipses; and
    their two distances. All flagged ones, and an even choice of the others."""
    n, far = len(r.rows), np.argsort(-r.used)
    first = far[: max(FURTHEST, int((r.used > r.limit).sum()))][:most]
    rest = np.setdiff1d(np.arange(n), first, assume_unique=False)
    even = np.unique(
        np.linspace(0, max(len(rest) - 1, 0), max(min(len(rest), most - len(first)), 0))
        .round()
        .astype(int)
    )
    shown = np.concatenate([first, rest[even]]).astype(int) if len(rest) else first
    found: dict[str, Any] = {}
    if r.robust is not None:
        found["distances"] = np.column_stack([r.classical[shown], r.robust[shown]]).tolist()
    if len(r.measures) >= 2:
        i, j = _telling(r)
        found["axes"] = [r.measures[i], r.measures[j]]
        found["points"] = r.x[shown][:, [i, j]].tolist()
        found["ellipses"] = [
            Ellipse(
                name, fit.center[[i, j]].tolist(), fit.covariance[np.ix_([i, j], [i, j])].tolist()
            )
            for name, fit in (("classical", r.plain), ("robust", r.location))
            if name == "classical" or r.location is not r.plain
        ]
    return found


def _telling(r: Result) -> tuple[int, int]:
    """The measure that makes most of the distance of the flagged, and the one that goes with it most, in
    their order; the first two where none is flagged."""
    inside = np.flatnonzero(r.used > r.limit)
    if not len(inside) or len(r.measures) == 2:
        return 0, 1
    parts = dist.contributions(r.x[inside], r.location).sum(axis=0)
    foremost = int(np.argmax(parts))
    spread = np.sqrt(np.diag(r.location.covariance))
    together = np.abs(r.location.covariance[foremost]) / (spread * spread[foremost])
    together[foremost] = -1
    one, other = sorted((foremost, int(np.argmax(together))))
    return one, other
