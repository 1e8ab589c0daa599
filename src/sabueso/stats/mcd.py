"""Robust centre and covariance: the minimum covariance determinant by FAST-MCD."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp, floor, log

import numpy as np
from numpy.typing import ArrayLike
from scipy.special import chdtr, chdtri

from sabueso.stats.distance import Floats, Location, as_measures, squared_distances

STARTS = 500  # random (p + 1)-subsets
KEPT = 10  # best candidates carried to convergence
NESTED_ABOVE = 600  # above this n the starts are made within subsets
SUBSETS, SUBSET_SIZE = 5, 300
LARGE = 50_000  # above this n only the best candidate is taken on to all subjects
LAST_STEPS = 5  # concentration steps on all of a large population
REWEIGHT = 0.975


@dataclass(frozen=True)
class RobustFit:
    """Reweighted MCD estimate.

    ``raw`` is the consistent estimate before reweighting, ``h`` the size of the subset,
    ``used`` the number of subjects with weight one.
    """

    location: Location
    raw: Location
    h: int
    used: int


def minimum_covariance_determinant(
    x: ArrayLike, *, share: float | None = None, seed: int = 0
) -> RobustFit:
    """Robust location and scatter of x, shape (n, p).

    Parameters
    ----------
    x : array_like
        n subjects, p measures.
    share : float, optional
        Share of the subjects in the subset, from 0.5 to 1; default h = floor((n + p + 1)/2).
    seed : int
        Seed of the random starts: the same seed gives the same estimate.

    Raises
    ------
    ValueError
        If n <= 2p, or the measures are collinear in the subset found.

    References
    ----------
    Rousseeuw, P. J. and Van Driessen, K. (1999), Technometrics 41, 212-223 (algorithm).
    Croux, C. and Haesbroeck, G. (1999), Journal of Multivariate Analysis 71, 161-190 (consistency).
    Pison, G., Van Aelst, S. and Willems, G. (2002), Metrika 55, 111-123 (small samples).

    Examples
    --------
    >>> import numpy as np
    >>> x = np.append(np.linspace(-1, 1, 40), [50.0, 60.0])[:, None]
    >>> fit = minimum_covariance_determinant(x)
    >>> abs(float(fit.raw.center[0])) < 0.5
    True
    """
    values = as_measures(x)
    n, p = values.shape
    if n <= 2 * p:
        raise ValueError(f"{n} subjects are too few for a robust fit of {p} measures")
    if share is not None and not 0.5 <= share <= 1:
        raise ValueError("the share of the subset must lie between 0.5 and 1")
    smallest = (n + p + 1) // 2
    h = smallest if share is None else min(n, max(smallest, floor(share * n)))
    # Columns are scaled by their own spread first: the determinant's minimum does not move, and
    # measures of very different size do not spoil the factorisation.
    unit = values.std(axis=0)
    unit[unit == 0] = 1.0
    scaled = (values - values.mean(axis=0)) / unit
    best = _search(scaled, h, np.random.default_rng(seed))
    factor = _consistency(h / n, p) * _RAW.factor(n, p, h / n)
    raw = Location(best.center, best.covariance * factor)
    inside = squared_distances(scaled, raw) <= float(chdtri(p, 1 - REWEIGHT))
    used = int(inside.sum())
    if used <= p:
        raise ValueError("too few subjects lie near the robust centre")
    chosen = scaled[inside]
    # The factor goes by the share kept, as the published small-sample corrections suppose.
    again = _consistency(used / n, p) * _REWEIGHTED.factor(n, p, h / n)
    location = Location(chosen.mean(axis=0), np.atleast_2d(np.cov(chosen, rowvar=False)) * again)
    return RobustFit(_unscaled(location, values, unit), _unscaled(raw, values, unit), h, used)


def _unscaled(at: Location, values: Floats, unit: Floats) -> Location:
    return Location(at.center * unit + values.mean(axis=0), at.covariance * np.outer(unit, unit))


def _consistency(share: float, p: int) -> float:
    """Factor that makes the covariance of the nearest ``share`` of a normal population unbiased."""
    if share >= 1:
        return 1.0
    return share / float(chdtr(p + 2, chdtri(p, 1 - share)))


def _moments(x: Floats) -> Location:
    """Mean and maximum-likelihood covariance, without the checks of :func:`classical`."""
    center = x.mean(axis=0)
    off = x - center
    return Location(center, off.T @ off / x.shape[0])


def _nearest(x: Floats, at: Location, h: int) -> Floats | None:
    """The h subjects nearest to a centre, or None where the covariance is singular."""
    try:
        d2 = squared_distances(x, at)
    except ValueError:
        return None
    if h == x.shape[0]:
        return x
    return np.asarray(x[np.argpartition(d2, h - 1)[:h]])


def _concentrate(x: Floats, at: Location, h: int, steps: int) -> tuple[float, Location] | None:
    """Up to ``steps`` concentration steps; the log determinant reached and its estimate."""
    previous = np.inf
    value = np.inf
    for _ in range(steps):
        near = _nearest(x, at, h)
        if near is None:
            return None
        at = _moments(near)
        sign, value = np.linalg.slogdet(at.covariance)
        if sign <= 0:
            return None
        if previous - value < 1e-10:
            break
        previous = value
    return float(value), at


def _starts(
    x: Floats, h: int, count: int, rng: np.random.Generator
) -> list[tuple[float, Location]]:
    """Best candidates after two steps from random (p + 1)-subsets, best first."""
    n, p = x.shape
    found = []
    for _ in range(count):
        order = rng.permutation(n)
        size = p + 1
        at = _moments(x[order[:size]])
        # A flat start is grown one subject at a time until it spans all measures.
        while size < n and np.linalg.slogdet(at.covariance)[1] < -60:
            size += 1
            at = _moments(x[order[:size]])
        reached = _concentrate(x, at, h, 2)
        if reached is not None:
            found.append(reached)
    return sorted(found, key=lambda pair: pair[0])[:KEPT]


def _search(x: Floats, h: int, rng: np.random.Generator) -> Location:
    """The location with the least determinant over h subjects that the starts lead to."""
    n, p = x.shape
    if h == n:
        return _moments(x)
    if p == 1:
        return _shortest_variance(x[:, 0], h)
    if n <= NESTED_ABOVE:
        candidates = _starts(x, h, STARTS, rng)
    else:
        groups = min(SUBSETS, n // SUBSET_SIZE)
        chosen = rng.permutation(n)[: groups * SUBSET_SIZE]
        merged = x[chosen]
        pool = []
        for part in np.split(merged, groups):
            part_h = max(p + 1, round(SUBSET_SIZE * h / n))
            pool += _starts(part, part_h, STARTS // groups, rng)
        merged_h = max(p + 1, round(merged.shape[0] * h / n))
        reached = (_concentrate(merged, at, merged_h, 2) for _, at in pool)
        candidates = sorted((r for r in reached if r), key=lambda pair: pair[0])[:KEPT]
        if n > LARGE:
            # On a large population the candidates agree already: the best is taken to its end on
            # a middling subset, from where all subjects are a few steps away.
            middle = x[rng.permutation(n)[:LARGE]]
            middle_h = round(LARGE * h / n)
            ends = (_concentrate(middle, at, middle_h, 200) for _, at in candidates[:2])
            candidates = sorted((r for r in ends if r), key=lambda pair: pair[0])[:1]
    last = LAST_STEPS if n > LARGE else 200
    finished = [r for _, at in candidates if (r := _concentrate(x, at, h, last)) is not None]
    if not finished:
        raise ValueError("more than half of the subjects lie on one line: the fit is singular")
    return min(finished, key=lambda pair: pair[0])[1]


def _shortest_variance(x: Floats, h: int) -> Location:
    """One measure: the window of h sorted values with the least variance, found exactly."""
    ordered = np.sort(x)
    sums = np.concatenate(([0.0], np.cumsum(ordered)))
    squares = np.concatenate(([0.0], np.cumsum(ordered**2)))
    total = sums[h:] - sums[:-h]
    variance = (squares[h:] - squares[:-h]) / h - (total / h) ** 2
    start = int(np.argmin(variance))
    at = _moments(ordered[start : start + h, None])
    if at.covariance[0, 0] <= 0:
        raise ValueError("more than half of the subjects share one value: the fit is singular")
    return at


# Pison et al. (2002): 1/f corrects the scatter of n normal subjects, f = 1 - exp(a)/n^b. For one
# and two measures a and b are given; for more they follow from f at n = 2p² and n = 3p², which is
# 1 - c/p^e there. One row a coverage: 50 % and 87.5 %; f is interpolated between, and to 1 at 100 %.
@dataclass(frozen=True)
class _Correction:
    low: dict[int, tuple[tuple[float, float], tuple[float, float]]]
    high: tuple[tuple[tuple[float, float], tuple[float, float]], ...]

    def factor(self, n: int, p: int, share: float) -> float:
        half, most = (1 - self._shortfall(n, p, row) for row in (0, 1))
        if share <= 0.875:
            f = half + (most - half) * (share - 0.5) / 0.375
        else:
            f = most + (1 - most) * (share - 0.875) / 0.125
        return 1 / f

    def _shortfall(self, n: int, p: int, row: int) -> float:
        if p in self.low:
            a, b = self.low[p][row]
            return exp(a) / n**b
        (c2, e2), (c3, e3) = self.high[row]
        at2, at3 = log(c2 / p**e2), log(c3 / p**e3)
        b = (at2 - at3) / (log(3 * p * p) - log(2 * p * p))
        return exp(at2 + b * log(2 * p * p)) / n**b


_RAW = _Correction(
    low={
        1: ((0.262024211897096, 0.604756680630497), (-0.351584646688712, 1.01646567502486)),
        2: ((0.673292623522027, 0.691365864961895), (0.446537815635445, 1.06690782995919)),
    },
    high=(
        ((1.42764571687802, 1.26263336932151), (1.06141115981725, 1.28907991440387)),
        ((0.455179464070565, 1.11192541278794), (0.294241208320834, 1.09649329149811)),
    ),
)
_REWEIGHTED = _Correction(
    low={
        1: ((1.11098143415027, 1.5182890270453), (-0.66046776772861, 0.88939595831888)),
        2: ((3.11101712909049, 1.91401056721863), (0.79473550581058, 1.10081930350091)),
    },
    high=(
        ((1.02842572725793, 1.67659883081926), (0.26800273450853, 1.35968562893582)),
        ((0.544482443573914, 1.25994483222292), (0.343791072183285, 1.25159004257133)),
    ),
)
