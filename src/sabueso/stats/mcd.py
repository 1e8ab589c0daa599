"""Robust centre and covariance: the minimum covariance determinant by FAST-MCD."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp, floor, log

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import chdtr, chdtri

from sabueso.stats.distance import Floats, Location, as_measures, squared_distances

STARTS = 500  # random (p + 1)-subsets
SMALL, SMALL_STARTS = 150, 3_000  # up to this n more of them: they cost little, and decide much
KEPT = 10  # best candidates carried to convergence
AT_ONCE = 4_000_000  # distances of many starts that are held at once
NESTED_ABOVE = 600  # above this n the starts are made within subsets
SUBSETS, SUBSET_SIZE = 5, 300
LARGE = 50_000  # above this n only the best candidate is taken on to all subjects
LAST_STEPS = 5  # concentration steps on all of a large population
REWEIGHT = 0.975


@dataclass(frozen=True)
class RobustFit:
    """Reweighted MCD estimate.

    ``raw`` is the consistent estimate before reweighting, ``h`` the size of the subset, ``inside``
    (n,) tells the subjects with weight one, ``used`` is their number.
    """

    location: Location
    raw: Location
    h: int
    used: int
    inside: NDArray[np.bool_]


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
    # Columns are centred on their median and scaled by their spread first: the determinant's minimum
    # does not move, measures of very different size do not spoil the factorisation, and large ones
    # with small differences lose nothing in the sums.
    middle = np.median(values, axis=0)
    off = values - middle
    unit = np.median(np.abs(off), axis=0)
    unit = np.where(unit > 0, unit, np.maximum(off.std(axis=0), np.finfo(float).tiny))
    scaled = off / unit
    best = _search(scaled, h, np.random.default_rng(seed))
    # The published small-sample factors are functions of the nominal share, not of h/n.
    nominal = 0.5 if share is None else share
    factor = _consistency(h / n, p) * _RAW.factor(n, p, nominal)
    raw = Location(best.center, best.covariance * factor)
    inside = squared_distances(scaled, raw) <= float(chdtri(p, 1 - REWEIGHT))
    used = int(inside.sum())
    if used <= p:
        raise ValueError("too few subjects lie near the robust centre")
    chosen = scaled[inside]
    again = _consistency(used / n, p) * _REWEIGHTED.factor(n, p, nominal)
    location = Location(chosen.mean(axis=0), np.atleast_2d(np.cov(chosen, rowvar=False)) * again)
    return RobustFit(
        _unscaled(location, middle, unit), _unscaled(raw, middle, unit), h, used, inside
    )


def _unscaled(at: Location, middle: Floats, unit: Floats) -> Location:
    return Location(at.center * unit + middle, at.covariance * np.outer(unit, unit))


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
    found: list[tuple[float, Location]] = []
    part = max(1, AT_ONCE // (n * p))
    for start in range(0, count, part):
        order = np.argsort(rng.random((min(part, count - start), n)), axis=1)
        size = p + 1
        center, scatter = _moments_of(x[order[:, :size]])
        flat = _log_determinants(scatter) < FLAT
        # A flat start is grown until it spans all measures.
        while flat.any() and size < n:
            size = min(n, 2 * size)
            center[flat], scatter[flat] = _moments_of(x[order[flat, :size]])
            flat = _log_determinants(scatter) < FLAT
        order = order[~flat]
        center, scatter = center[~flat], scatter[~flat]
        for _ in range(2):
            if not len(center):
                break
            center, scatter = _moments_of(x[_nearest_of(x, center, scatter, h)])
            spans = _log_determinants(scatter) > FLAT
            center, scatter = center[spans], scatter[spans]
        values = _log_determinants(scatter)
        found += [
            (float(values[k]), Location(center[k], scatter[k])) for k in np.argsort(values)[:KEPT]
        ]
    return sorted(found, key=lambda pair: pair[0])[:KEPT]


FLAT = -60.0
"""A log determinant of scaled measures below this is that of a set on a plane."""


def _moments_of(x: Floats) -> tuple[Floats, Floats]:
    """Means (k, p) and maximum-likelihood covariances (k, p, p) of k sets of subjects (k, m, p)."""
    center = x.mean(axis=1)
    off = x - center[:, None, :]
    return center, np.matmul(off.transpose(0, 2, 1), off) / x.shape[1]


def _log_determinants(scatter: Floats) -> Floats:
    if not len(scatter):
        return np.empty(0)
    sign, value = np.linalg.slogdet(scatter)
    return np.where(sign > 0, value, -np.inf)


def _nearest_of(x: Floats, center: Floats, scatter: Floats, h: int) -> NDArray[np.intp]:
    """The h subjects nearest to each of k centres, (k, h)."""
    inverse = np.linalg.inv(scatter)
    off = x[None, :, :] - center[:, None, :]
    d2 = np.einsum("kni,kni->kn", np.matmul(off, inverse), off)
    return np.argpartition(d2, h - 1, axis=1)[:, :h]


def _exchanged(x: Floats, at: Location, h: int) -> tuple[float, Location]:
    """The end of exchanging one subject of the subset for another as long as the determinant falls.

    What an exchange does to it follows from distances alone (Hawkins, D. M. 1994, Computational
    Statistics & Data Analysis 17, 197-210).
    """
    d2 = squared_distances(x, at)
    inside = np.zeros(x.shape[0], dtype=bool)
    inside[np.argpartition(d2, h - 1)[:h]] = True
    at = _moments(x[inside])
    for _ in range(200):
        off = x - at.center
        inner = off @ np.linalg.solve(at.covariance * h, off.T)
        own = np.diag(inner)
        within, without = np.flatnonzero(inside), np.flatnonzero(~inside)
        # With subject u taken out and v put in: w is v less the mean of the others.
        uu = own[within][:, None]
        uw = inner[np.ix_(within, without)] + uu / (h - 1)
        ww = (
            own[without][None, :] + 2 * inner[np.ix_(within, without)] / (h - 1) + uu / (h - 1) ** 2
        )
        left = 1 - h / (h - 1) * uu
        with np.errstate(divide="ignore", invalid="ignore"):
            gained = 1 + (h - 1) / h * (ww + h / (h - 1) * uw**2 / left)
            ratio = np.where(left > 1e-12, left * gained, np.inf)
        out, into = np.unravel_index(int(np.argmin(ratio)), ratio.shape)
        if ratio[out, into] >= 1 - 1e-10:
            break
        inside[within[out]], inside[without[into]] = False, True
        at = _moments(x[inside])
    return float(np.linalg.slogdet(at.covariance)[1]), at


def _search(x: Floats, h: int, rng: np.random.Generator) -> Location:
    """The location with the least determinant over h subjects that the starts lead to."""
    n, p = x.shape
    if h == n:
        return _moments(x)
    if p == 1:
        return _shortest_variance(x[:, 0], h)
    if n <= NESTED_ABOVE:
        candidates = _starts(x, h, SMALL_STARTS if n <= SMALL else STARTS, rng)
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
    if n <= NESTED_ABOVE:
        # Few subjects: chance decides which of several near minima the starts meet.
        finished += [_exchanged(x, at, h) for _, at in sorted(finished, key=lambda r: r[0])]
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
