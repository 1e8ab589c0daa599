"""Distances of rows by the million: the classical fit on exact sums, the robust one on a stated sample, the
distances of all rows in the engine. Of the rows themselves only those that are far leave it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import partial
from typing import Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column
from sabueso.screens.distance.described import FURTHEST, MOST_POINTS
from sabueso.screens.distance.fitted import (
    MASKING_LEVEL,
    Floats,
    Result,
    left_out,
    normal_core,
)
from sabueso.screens.distance.fitted import Asked as Fit
from sabueso.screens.measured import Measured
from sabueso.stats import distance as dist
from sabueso.stats import distance_law as law
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.mcd import minimum_covariance_determinant

MANY = 500_000
"""Rows above which they stay in the engine."""
SAMPLE = 100_000
"""Rows of the robust fit, about."""
SPREAD, OF = 2_654_435_761, 2**32
"""A row is of the sample by its line times the first, of the second: no pattern of neighbours survives that,
and the same rows are chosen on every engine. Knuth, D. E. (1973), The Art of Computer Programming 3, 6.4."""


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
    table = population.table
    amount = table.role("amount")
    if population.account(amount).used <= MANY:  # asked once for all screens of a table
        return None
    columns = [table.number(name) for name in settings.measures]
    reasons = [Reason(f"missing_{c.name}", sql.is_missing(sql.column(c.name))) for c in columns]
    account = population.account(amount, reasons)
    if account.used <= MANY:
        return None
    rows = _Rows(population, columns, reasons, account.used)
    sample = rows.sample()
    x = np.column_stack([sample.column(f"m{j}").to_numpy() for j in range(len(columns))])
    kept, notes = left_out(x, settings.measures)
    if not kept:
        return OfMany(sample, account, "singular: " + "; ".join(notes))
    found = _fitted(rows, x[:, kept], kept, settings)
    if isinstance(found, str):
        return OfMany(sample, account, found)
    return _described(rows, sample, found, notes, settings, account)


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


@dataclass(frozen=True)
class _Rows:
    """The rows that have every measure."""

    population: Population
    columns: list[Column]
    reasons: list[Reason]
    n: int

    def sample(self) -> pa.Table:
        """Some of them with their place, in its order: about as many as a fit needs."""
        line = sql.cast(sql.column(LINE_COLUMN), "BIGINT")
        spread = exp.Mod(
            this=exp.paren(exp.Mul(this=line, expression=sql.integer(SPREAD))),
            expression=sql.integer(OF),
        )
        chosen = exp.LT(this=spread, expression=sql.integer(OF * SAMPLE // self.n))
        select = self.population.base(self._measures(), self.reasons, rows=True).where(chosen)
        return self.population.query(select.order_by(*sql.place()))

    def plain(self, kept: Sequence[int]) -> dist.Location:
        """Mean and covariance of all of them, from exact sums."""
        columns = [self.columns[j] for j in kept]
        values = {f"u{j}": sql.minor_units(c) for j, c in enumerate(columns)}
        pairs = [(i, j) for i in range(len(columns)) for j in range(i, len(columns))]
        fields: list[Tree] = [
            exp.alias_(sql.exact_sum(sql.column(f"u{j}", "b")), f"s{j}")
            for j in range(len(columns))
        ]
        fields += [
            exp.alias_(
                sql.exact_weighted_sum(sql.column(f"u{i}", "b"), sql.column(f"u{j}", "b")),
                f"s{i}_{j}",
            )
            for i, j in pairs
        ]
        base = self.population.base(values, self.reasons).subquery("b")
        (row,) = self.population.query(exp.select(*fields).from_(base)).to_pylist()
        sums = [int(row[f"s{j}"]) for j in range(len(columns))]
        units = [10**c.scale for c in columns]
        center = np.array(
            [float(Fraction(s, self.n * u)) for s, u in zip(sums, units, strict=True)]
        )
        covariance = np.empty((len(columns), len(columns)))
        for i, j in pairs:
            product = Fraction(int(row[f"s{i}_{j}"])) - Fraction(sums[i] * sums[j], self.n)
            covariance[i, j] = covariance[j, i] = float(
                product / ((self.n - 1) * units[i] * units[j])
            )
        return dist.Location(center, covariance)

    def everyone(self, d2: Tree) -> Floats:
        """The squared distance of each, in no order."""
        select = exp.select(exp.alias_(d2, "d2")).from_(self._based())
        batches = self.population.stream(select)
        return np.concatenate([batch.column(0).to_numpy() for batch in batches])

    def beyond(self, least: float, used: Tree, others: dict[str, Tree]) -> pa.Table:
        """Those whose distance is at least so large, the furthest first, with their place and measures."""
        names = [*self._measures(), FILE_COLUMN, LINE_COLUMN]
        fields: list[Tree] = [sql.column(name, "b") for name in names]
        fields += [exp.alias_(tree, name, quoted=True) for name, tree in others.items()]
        select = exp.select(*fields).from_(self._based(rows=True))
        select = select.where(exp.GTE(this=used.copy(), expression=_double(least)))
        order = [sql.ordered(used.copy(), descending=True), *sql.place()]
        return self.population.query(select.order_by(*order))

    def squared(self, at: dist.Location, kept: Sequence[int]) -> Tree:
        """The squared distance from a centre, as a sum of squares: never below 0."""
        turned = np.linalg.inv(np.linalg.cholesky(at.covariance))
        whole: Tree | None = None
        for weights in turned:
            side: Tree | None = None
            for j, weight, middle in zip(kept, weights, at.center, strict=True):
                if weight:
                    off = exp.paren(
                        exp.Sub(this=sql.column(f"m{j}", "b"), expression=_double(middle))
                    )
                    part = exp.Mul(this=_double(weight), expression=off)
                    side = part if side is None else exp.Add(this=side, expression=part)
            assert side is not None
            square = exp.Mul(this=exp.paren(side), expression=exp.paren(side.copy()))
            whole = square if whole is None else exp.Add(this=whole, expression=square)
        assert whole is not None
        return exp.paren(whole)

    def _measures(self) -> dict[str, Tree]:
        return {f"m{j}": sql.cast(sql.column(c.name), "DOUBLE") for j, c in enumerate(self.columns)}

    def _based(self, *, rows: bool = False) -> exp.Subquery:
        return self.population.base(self._measures(), self.reasons, rows=rows).subquery("b")


def _double(value: float) -> Tree:
    return sql.cast(sql.text(repr(float(value))), "DOUBLE")


def _fitted(rows: _Rows, x: Floats, kept: list[int], settings: Asked) -> _Fits | str:
    """Both fits, or the reason why there is none."""
    plain = rows.plain(kept)
    by_robust = settings.fit == "robust"
    robust, inside = None, np.ones(len(x), dtype=bool)
    try:
        np.linalg.cholesky(plain.covariance)
        fit = minimum_covariance_determinant(x, share=settings.share, seed=settings.seed)
        robust, inside = fit.location, fit.inside
    except (ValueError, np.linalg.LinAlgError) as error:
        if by_robust:
            return f"singular: {error}"
    return _Fits(kept, x, plain, robust, inside, by_robust)


def _described(
    rows: _Rows, sample: pa.Table, fits: _Fits, notes: list[str], settings: Asked, account: Account
) -> OfMany:
    """Limits, the rows beyond them, and some that are drawn beside these."""
    n, p = rows.n, len(fits.kept)
    trees = {"classical": rows.squared(fits.plain, fits.kept)}
    if fits.robust is not None:
        trees["robust"] = rows.squared(fits.robust, fits.kept)
    name = "robust" if fits.flags_by_robust else "classical"
    everyone = rows.everyone(trees[name].copy())
    robust_laws, plain_laws = _laws(fits, n, settings)
    tail, limit = robust_laws if fits.flags_by_robust else plain_laws
    level = None
    if settings.aim is not None:
        limit, last = _aimed(everyone, settings.aim)
        level = 0.0 if last is None else float(tail(np.array([last]))[0])
    least = min(limit, float(np.partition(everyone, n - FURTHEST)[n - FURTHEST]))
    far = rows.beyond(least, trees[name], trees)
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
    return OfMany(subjects, account, result, level)


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
