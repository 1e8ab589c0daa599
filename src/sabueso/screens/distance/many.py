"""Distances of rows by the million: the classical fit on exact sums, the robust one on a stated sample, the
distances of all rows in the engine. Of the rows themselves only those that are far leave it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population
from sabueso.population.sql import Tree
from sabueso.screens.distance.described import FURTHEST, MOST_POINTS
from sabueso.screens.distance.fitted import (
    MASKING_LEVEL,
    Floats,
    Result,
    left_out,
    normal_core,
    without_spread,
)
from sabueso.screens.distance.fitted import Asked as Fit
from sabueso.screens.many_rows import ManyRows, double, many_rows
from sabueso.screens.measured import Measured
from sabueso.stats import distance as dist
from sabueso.stats import distance_law as law
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.mcd import minimum_covariance_determinant


class Asked(Fit, Measured, Protocol):
    """Settings of a distance."""

    @property
    def transform(self) -> str: ...
    @property
    def aim(self) -> int | None: ...
    @property
    def adjust(self) -> Method: ...


@dataclass(frozen=True)
class OfMany:
    """What was found of them: ``subjects`` are the rows that are far, and some that are drawn."""

    subjects: pa.Table
    account: Account
    result: Result | str
    level: float | None = None
    """The p of the last that is flagged, where as many were asked for as can be reviewed."""


def distances_of_many(population: Population, settings: Asked) -> OfMany | None:
    """Distances of a table's rows; None where they are few, or are asked for in groups, of entities, on
    another scale, or with an adjustment that needs the p of each."""
    if settings.per or settings.by or settings.transform != "none" or settings.adjust == "bh":
        return None
    rows = many_rows(population, settings.measures)
    if rows is None:
        return None
    sample = rows.sample()
    x = np.column_stack([sample.column(f"m{j}").to_numpy() for j in range(len(rows.columns))])
    kept, notes = left_out(x, settings.measures)
    if not kept:
        return OfMany(sample, rows.account, "singular: " + "; ".join(notes))
    found = _fitted(rows, x[:, kept], kept, settings)
    if isinstance(found, str):
        return OfMany(sample, rows.account, found)
    return _described(rows, sample, found, notes, settings)


@dataclass(frozen=True)
class _Fits:
    """Both fits and their laws."""

    kept: list[int]
    x: Floats
    plain: dist.Location
    robust: dist.Location | None
    inside: np.ndarray
    flags_by_robust: bool

    @property
    def flagging(self) -> dist.Location:
        return self.robust if self.flags_by_robust and self.robust is not None else self.plain


def _plain(rows: ManyRows, kept: Sequence[int]) -> dist.Location:
    """Mean and covariance of all rows, from exact sums."""
    means, products = rows.moments(kept)
    covariance = [[float(each / (rows.n - 1)) for each in row] for row in products]
    return dist.Location(np.array([float(mean) for mean in means]), np.array(covariance))


def _squared(at: dist.Location, kept: Sequence[int]) -> Tree:
    """The squared distance from a centre, as a sum of squares: never below 0."""
    turned = np.linalg.inv(np.linalg.cholesky(at.covariance))
    whole: Tree | None = None
    for weights in turned:
        side: Tree | None = None
        for j, weight, middle in zip(kept, weights, at.center, strict=True):
            if weight:
                off = exp.paren(exp.Sub(this=sql.column(f"m{j}", "b"), expression=double(middle)))
                part = exp.Mul(this=double(weight), expression=off)
                side = part if side is None else exp.Add(this=side, expression=part)
        assert side is not None
        square = exp.Mul(this=exp.paren(side), expression=exp.paren(side.copy()))
        whole = square if whole is None else exp.Add(this=whole, expression=square)
    assert whole is not None
    return exp.paren(whole)


def _fitted(rows: ManyRows, x: Floats, kept: list[int], settings: Asked) -> _Fits | str:
    """Both fits, or the reason why there is none."""
    plain = _plain(rows, kept)
    by_robust = settings.fit == "robust"
    robust, inside = None, np.ones(len(x), dtype=bool)
    try:
        np.linalg.cholesky(plain.covariance)
        fit = minimum_covariance_determinant(x, share=settings.share, seed=settings.seed)
        robust, inside = fit.location, fit.inside
    except (ValueError, np.linalg.LinAlgError) as error:
        if by_robust:
            return without_spread(error)
    return _Fits(kept, x, plain, robust, inside, by_robust)


def _described(
    rows: ManyRows, sample: pa.Table, fits: _Fits, notes: list[str], settings: Asked
) -> OfMany:
    """Limits, the rows beyond them, and some that are drawn beside these."""
    n, p = rows.n, len(fits.kept)
    trees = {"classical": _squared(fits.plain, fits.kept)}
    if fits.robust is not None:
        trees["robust"] = _squared(fits.robust, fits.kept)
    name = "robust" if fits.flags_by_robust else "classical"
    (everyone,) = rows.streamed({"d2": trees[name].copy()})
    robust_laws, plain_laws = _laws(fits, n, settings)
    tail, limit = robust_laws if fits.flags_by_robust else plain_laws
    level = None
    if settings.aim is not None:
        limit, last = _aimed(everyone, settings.aim)
        level = 0.0 if last is None else float(tail(np.array([last]))[0])
    least = min(limit, float(np.partition(everyone, n - FURTHEST)[n - FURTHEST]))
    far = rows.strongest(trees[name], least=least, also=trees)
    drawn = _drawn(sample, fits, least)
    measures = len(rows.columns)
    subjects = pa.concat_tables([far.select(drawn.column_names), drawn])
    near = np.column_stack([drawn.column(f"m{j}").to_numpy() for j in fits.kept])
    distances = {
        each: np.concatenate([
            far.column(each).to_numpy(),
            # Rounded otherwise here than there, they stay where they are: not beyond.
            np.minimum(dist.squared_distances(near, at), least),
        ])
        for each, at in (("classical", fits.plain), ("robust", fits.robust))
        if at is not None
    }  # fmt: skip
    used = distances[name]
    masked = 0
    if fits.robust is not None:
        away = distances["robust"][: len(far)]
        certain = adjust(robust_laws[0](away), "holm", n) < min(settings.alpha, MASKING_LEVEL)
        masked = int((certain & (distances["classical"][: len(far)] <= plain_laws[1])).sum())
        if masked and not normal_core(fits.x[fits.inside]):
            masked = 0
    x = np.column_stack([subjects.column(f"m{j}").to_numpy() for j in range(measures)])
    result = Result(
        rows=np.arange(subjects.num_rows),
        measures=[settings.measures[j] for j in fits.kept],
        columns=fits.kept,
        location=fits.flagging,
        classical=distances["classical"],
        robust=distances.get("robust"),
        p=tail(used),
        limit=limit,
        masked=masked,
        x=x[:, fits.kept],
        plain=fits.plain,
        mardia=dist.mardia(fits.x) if len(fits.x) > p + 1 else None,
        dropped=notes,
        flags_by_robust=fits.flags_by_robust,
        everyone=everyone,
        fitted_on=len(fits.x),
    )
    return OfMany(subjects, rows.account, result, level)


Law = tuple[Callable[[Floats], Floats], float]
"""The tail of a distance, and its limit."""


def _laws(fits: _Fits, n: int, settings: Asked) -> tuple[Law, Law]:
    """Of the robust and of the classical distance."""
    p, w, alpha = len(fits.kept), int(fits.inside.sum()), settings.alpha
    if settings.law == "chi-square":
        both = partial(dist.chi_square_tail, p=p), dist.chi_square_limit(alpha, p)
        return both, both
    return (
        (partial(law.outer_tail, w=w, p=p), law.outer_limit(alpha, w, p)),
        (partial(dist.beta_tail, n=n, p=p), dist.beta_limit(alpha, n, p)),
    )


def _aimed(everyone: Floats, capacity: int) -> tuple[float, float | None]:
    """The limit that so many lie beyond at most, equal ones all in or all out, and the last beyond it."""
    if capacity >= len(everyone):
        return 0.0, float(everyone.min())
    largest = np.sort(np.partition(everyone, len(everyone) - capacity - 1)[-capacity - 1 :])
    limit = float(largest[0])
    inside = largest[largest > limit]
    return limit, float(inside[0]) if len(inside) else None


def _drawn(sample: pa.Table, fits: _Fits, least: float) -> pa.Table:
    """An even choice of the sample's rows that are not far."""
    own = dist.squared_distances(fits.x, fits.flagging)
    near = np.flatnonzero(own < least)
    even = np.unique(np.linspace(0, max(len(near) - 1, 0), min(len(near), MOST_POINTS)).astype(int))
    return sample.take(pa.array(near[even] if len(near) else []))
