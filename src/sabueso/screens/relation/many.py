"""Relation of two measures of rows by the million: every figure is of all rows, from exact sums and one look at
each row in the engine; only the robust line and the points of a picture are of a stated sample. Of the rows
themselves only those that are named leave the engine, of the measures their ranks.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import sqrt
from typing import Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN
from sabueso.screens.many_rows import ManyRows, double, many_rows
from sabueso.screens.measured import Measured
from sabueso.screens.relation.parts import MOST_MOVERS, Line, Movers, Part, even_points, spread_of
from sabueso.stats import relation as rel
from sabueso.stats.adjust import Method

EXACT = 2**40
"""Terms of a sum in standard units are counted in parts of this: whole numbers add up to the same in any order."""


class Asked(Measured, Protocol):
    """Settings of a relation."""

    @property
    def chosen(self) -> str | None: ...
    @property
    def alpha(self) -> float: ...
    @property
    def adjust(self) -> Method: ...
    @property
    def seed(self) -> int: ...
    @property
    def steps(self) -> bool: ...


@dataclass(frozen=True)
class OfMany:
    """What was found of them; ``subjects`` are the rows that are off the line or are named."""

    subjects: pa.Table
    account: Account
    part: Part


def relation_of_many(population: Population, settings: Asked) -> OfMany | None:
    """The relation of two measures of a table's rows; None where they are few, or are asked for in groups or of
    entities, where the p of each is needed, or where a line that fits exactly leaves nothing to measure by."""
    if settings.per or settings.by or settings.chosen or settings.adjust == "bh":
        return None
    rows = many_rows(population, settings.measures)
    if rows is None:
        return None
    (x_mean, y_mean), ((sxx, sxy), (_, syy)) = rows.moments((0, 1))
    if sxx <= 0 or syy <= 0:
        return None
    left = syy - sxy * sxy / sxx
    sums = rel.Sums(rows.n, float(sxx), float(syy), float(sxy), float(left))
    means = float(x_mean), float(y_mean)
    if float(left / syy) < 1e-9 or float(sxy * sxy / (sxx * syy)) > 1 - 1e-9:
        return None
    trees = _Trees(sums, *means)
    if trees.greatest_leverage(rows) > 1 - 1e-9:
        return None
    return _found(rows, trees, sums, means, settings)


@dataclass(frozen=True)
class _Trees:
    """What a row does to the line and to r, as the engine computes it; the same as ``rel.influence``."""

    sums: rel.Sums
    x_mean: float
    y_mean: float

    @property
    def dx(self) -> Tree:
        return exp.paren(exp.Sub(this=sql.column("m0", "b"), expression=double(self.x_mean)))

    @property
    def dy(self) -> Tree:
        return exp.paren(exp.Sub(this=sql.column("m1", "b"), expression=double(self.y_mean)))

    @property
    def off(self) -> Tree:
        return exp.paren(exp.Sub(this=self.dy, expression=_times(double(self.sums.slope), self.dx)))

    @property
    def leverage(self) -> Tree:
        share = exp.Div(this=_times(self.dx, self.dx), expression=double(self.sums.sxx))
        return exp.paren(exp.Add(this=double(1 / self.sums.n), expression=share))

    @property
    def rest(self) -> Tree:
        return exp.paren(exp.Sub(this=double(1.0), expression=self.leverage))

    @property
    def square(self) -> Tree:
        """off²/(1 - h): of it and the squares that the line leaves follow all."""
        return exp.paren(exp.Div(this=_times(self.off, self.off), expression=self.rest))

    @property
    def cook(self) -> Tree:
        """Cook's distance, times what is the same for all."""
        return exp.Div(this=_times(self.square, self.leverage), expression=self.rest)

    def cook_of(self, limit: float) -> float:
        return limit * 2 * self.sums.squares / (self.sums.n - 2)

    @property
    def dfbetas(self) -> Tree:
        """The square of DFBETAS, times what is the same for all."""
        others = exp.paren(exp.Sub(this=double(self.sums.squares), expression=self.square))
        return exp.Div(
            this=_times(self.square, self.dx, self.dx), expression=_times(others, self.rest)
        )

    def dfbetas_of(self, limit: float) -> float:
        return limit * limit * self.sums.sxx / (self.sums.n - 3)

    def square_of(self, residual: float) -> float:
        """The square that a studentised residual has."""
        t = residual * residual
        return t * self.sums.squares / (self.sums.n - 3 + t)

    @property
    def change(self) -> Tree:
        """|r - r without the row|."""
        s, share = self.sums, double(self.sums.n / (self.sums.n - 1))

        def less(total: float, *factors: Tree) -> Tree:
            part = _times(share.copy(), *factors)
            return exp.paren(exp.Sub(this=double(total), expression=part))

        product = _times(less(s.sxx, self.dx, self.dx), less(s.syy, self.dy, self.dy))
        without = exp.Div(this=less(s.sxy, self.dx, self.dy), expression=exp.Sqrt(this=product))
        r = s.sxy / sqrt(s.sxx * s.syy)
        return exp.Abs(this=exp.paren(exp.Sub(this=double(r), expression=without)))

    def greatest_leverage(self, rows: ManyRows) -> float:
        far = exp.Max(this=self.leverage)
        (row,) = rows.population.query(
            exp.select(exp.alias_(far, "h")).from_(rows.based())
        ).to_pylist()
        return float(row["h"])


def _found(
    rows: ManyRows, trees: _Trees, sums: rel.Sums, means: tuple[float, float], settings: Asked
) -> OfMany:
    n = rows.n
    cook, dfbetas = trees.cook_of(rel.cook_limit(n)), trees.dfbetas_of(rel.dfbetas_limit(n))
    pulls = exp.paren(
        exp.or_(
            exp.GT(this=trees.cook, expression=double(cook)),
            exp.GT(this=trees.leverage, expression=double(0.5)),
        )
    )
    moves = exp.GT(this=trees.dfbetas, expression=double(dfbetas))
    totals, counts = _totals(rows, trees, (pulls, moves))
    # Of those that Holm has left none has a limit beyond that of half of all, unless half are flagged.
    limit = rel.residual_limit(min(2 * settings.alpha, 1.0), n)
    # A little more than are flagged: which of these are is said by what follows.
    limit *= 1 - 1e-9
    off = rows.strongest(trees.square, least=trees.square_of(limit))
    one = rows.strongest(trees.change, most=1)
    line = rows.strongest(trees.cook, most=min(MOST_MOVERS, counts[0]), among=pulls)
    slope = rows.strongest(trees.dfbetas, most=min(MOST_MOVERS, counts[1]))
    named = pa.concat_tables([one, line, slope, off]).combine_chunks()
    subjects, places = _each_once(named)
    x, y = (subjects.column(f"m{j}").to_numpy() for j in (0, 1))
    ends = np.cumsum([one.num_rows, line.num_rows, slope.num_rows])
    sample = rows.sample()
    at = [sample.column(f"m{j}").to_numpy() for j in (0, 1)]
    z = sqrt(sums.sxx * sums.syy)
    every_x, every_y = rows.streamed({f"m{j}": sql.column(f"m{j}", "b") for j in (0, 1)})
    fitted = Line(
        sums.slope,
        means[1] - sums.slope * means[0],
        sqrt(sums.squares / (n - 2) / sums.sxx),
        sqrt(totals["hc3"] * sums.squares / sums.sxx) / n,
    )
    part = Part(
        key={},
        n=n,
        rows=np.arange(subjects.num_rows),
        x=x,
        y=y,
        found=rel.correlation_of(n, sums.sxy / z),
        ranks=rel.rank_correlation(every_x, every_y),
        line=fitted,
        spread=spread_of(every_x, every_y, fitted),
        influence=rel.influence(x - means[0], y - means[1], sums),
        robust=rel.theil_sen(at[0], at[1], settings.seed),
        bent=_bent(sums, totals),
        movers=Movers(
            int(places[0]),
            places[ends[0] : ends[1]].tolist(),
            counts[0],
            places[ends[1] : ends[2]].tolist(),
            counts[1],
        ),
        points=even_points(*at),
        two_ways=[sums.sxy / z, totals["xy"] / n] if settings.steps else None,
        fitted_on=sample.num_rows,
    )
    return OfMany(subjects, rows.account, part)


def _totals(
    rows: ManyRows, trees: _Trees, conditions: Sequence[Tree]
) -> tuple[dict[str, float], list[int]]:
    """Sums over all rows, of measures in standard units (by n), and how many meet each condition.

    The terms are rounded to parts of a whole, so that the sums are the same in whatever order they are taken.
    """
    s = trees.sums
    x = _times(trees.dx, double(sqrt(s.n / s.sxx)))
    y = _times(trees.dy, double(sqrt(s.n / s.syy)))
    per_rest = exp.Div(this=trees.off, expression=trees.rest)
    off = _times(exp.paren(per_rest), double(sqrt(s.n / s.squares)))
    terms = {
        "xy": _times(x, y),
        "xxx": _times(x, x, x),
        "xxxx": _times(x, x, x, x),
        "xxy": _times(x, x, y),
        "hc3": _times(x, x, off, off),
    }
    inner: list[Tree] = [
        exp.alias_(sql.cast(exp.Floor(this=_rounded(term)), "DECIMAL(38, 0)"), name, quoted=True)
        for name, term in terms.items()
    ]
    inner += [exp.alias_(each.copy(), f"c{j}") for j, each in enumerate(conditions)]
    outer: list[Tree] = [
        exp.alias_(exp.Sum(this=sql.column(name, "t")), name, quoted=True) for name in terms
    ]
    outer += [
        exp.alias_(sql.only(sql.count(), sql.column(f"c{j}", "t")), f"c{j}")
        for j in range(len(conditions))
    ]
    each = exp.select(*inner).from_(rows.based())
    (row,) = rows.population.query(exp.select(*outer).from_(each.subquery("t"))).to_pylist()
    totals = {name: float(Fraction(int(row[name]), EXACT)) for name in terms}
    return totals, [int(row[f"c{j}"]) for j in range(len(conditions))]


def _rounded(term: Tree) -> Tree:
    return exp.Add(this=_times(term, double(EXACT)), expression=double(0.5))


def _times(*factors: Tree) -> Tree:
    whole: Tree = factors[0].copy()
    for factor in factors[1:]:
        whole = exp.Mul(this=whole, expression=factor.copy())
    return exp.paren(whole)


def _bent(sums: rel.Sums, totals: dict[str, float]) -> tuple[float, float] | None:
    """Whether a curve says more, in standard units."""
    n = sums.n
    r = sums.sxy / sqrt(sums.sxx * sums.syy)
    unit = rel.Sums(n, n, n, n * r, sums.squares * n / sums.syy)
    size = totals["xxxx"] - n - totals["xxx"] ** 2 / n
    return rel.bend_of(unit, size, totals["xxy"] - r * totals["xxx"])


def _each_once(named: pa.Table) -> tuple[pa.Table, np.ndarray]:
    """Rows of which some stand twice, each once, and where each of them stands now."""
    keys = list(
        zip(
            named.column(FILE_COLUMN).to_pylist(),
            named.column(LINE_COLUMN).to_pylist(),
            strict=True,
        )
    )
    first: dict[tuple[object, object], int] = {}
    kept: list[int] = []
    for place, key in enumerate(keys):
        if key not in first:
            first[key] = len(kept)
            kept.append(place)
    return named.take(pa.array(kept)), np.array([first[key] for key in keys])
