"""Sums, order statistics and spread of each group of a test by deviates, in passes over the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import log10
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import money
from sabueso.screens import grouping as grp
from sabueso.screens.finding import NotTested
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.result import Amounts
from sabueso.screens.limits.table import WORTH
from sabueso.stats.moments import moments
from sabueso.stats.quartiles import in_units

MIDDLE = ("0.5", "0.95")
"""Shares of the order statistics of an effect."""


class Effect(NamedTuple):
    """n, Σ, Σ², median and 95th percentile of some amounts, in minor units."""

    n: int
    total: int
    squares: int
    median: Fraction
    p95: Fraction

    @classmethod
    def of(cls, n: int, total: int, squares: int, middle: Sequence[float]) -> Effect:
        """From sums, and the median and 95th percentile as an engine gives them."""
        median, p95 = map(sql.exact_quantile, middle, MIDDLE)
        return cls(n, total, squares, median, p95)

    def amounts(self, scale: int) -> Amounts:
        unit = 10**scale
        m = moments(self.n, self.total, self.squares, scale)
        return Amounts(
            n=m.n,
            mean=m.mean,
            median=in_units(self.median, unit),
            sd=m.sd,
            sum=money(self.total, scale),
            p95=in_units(self.p95, unit),
        )


class DeviateGroup(NamedTuple):
    """One group's sums and order statistics, in minor units of the scale used.

    ``effect`` describes its amounts, whatever the scale. ``cubes`` and ``fourths`` are Σz³ and Σz⁴.
    """

    key: dict[str, Any]
    n: int
    total: int
    squares: int
    median: Fraction
    ends: list[int]
    effect: Effect
    mad: Fraction = Fraction(0)
    deviation2: int = 0
    cubes: float = 0.0
    fourths: float = 0.0


class Tested(NamedTuple):
    group: DeviateGroup
    least: int
    greatest: int
    centre: float
    unit: float

    @property
    def key(self) -> dict[str, Any]:
        return self.group.key


def group_figures(
    population: Population, base: exp.Select, groups: Grouping, kind: str, used: int
) -> list[DeviateGroup]:
    """Sums and order statistics of each group, in one pass."""
    units, worth = sql.column(UNITS, "b"), sql.column(WORTH, "b")
    shares = lim.ends_of(groups)
    fields = {
        "n": exp.Count(this=worth),
        "total": sql.exact_sum(worth),
        "squares": sql.exact_square_sum(worth),
        "middle": sql.quantiles(worth, (*MIDDLE, *shares)),
    }
    if kind == "log":
        fields |= {
            "log_total": sql.exact_sum(units),
            "log_squares": sql.exact_square_sum(units),
            "log_middle": sql.quantiles(units, ("0.5", *shares)),
        }
    result = grp.order_statistics(population, base, groups, fields, used)
    found = []
    for key, row in zip(groups.keys(result), result.to_pylist(), strict=True):
        if not row["n"]:
            continue
        middle, ends = row["middle"][: len(MIDDLE)], row["middle"][len(MIDDLE) :]
        effect = Effect.of(row["n"], int(row["total"]), int(row["squares"]), middle)
        median = effect.median
        total, squares = effect.total, effect.squares
        if kind == "log":
            log_median, *ends = row["log_middle"]
            median = sql.exact_quantile(log_median, "0.5")
            total, squares = int(row["log_total"]), int(row["log_squares"])
        found.append(
            DeviateGroup(key, effect.n, total, squares, median, list(map(round, ends)), effect)
        )
    return found


def testable(found: list[DeviateGroup], least: int) -> tuple[list[DeviateGroup], list[NotTested]]:
    small = [
        NotTested(
            g.key, f"only {g.n} row{'s' if g.n != 1 else ''}; at least {least} are needed", g.n
        )
        for g in found
        if g.n < least
    ]
    return [g for g in found if g.n >= least], small


def with_spread(
    population: Population, base: exp.Select, groups: Grouping, tested: list[Tested]
) -> list[Tested]:
    """Add the absolute deviations from the median, and the standardised third and fourth powers.

    The powers are rounded to steps so fine that it does not show and so coarse that the greatest
    fits 64 bits; their sums are then whole numbers and the same in any order of rows.
    """
    if not tested:
        return []
    found = [t.group for t in tested]
    fits = [moments(g.n, g.total, g.squares) for g in found]
    figures = grp.key_table(
        groups,
        found,
        {
            "position": pa.array(range(len(found)), pa.int64()),
            "median2": pa.array([int(2 * g.median) for g in found], pa.int64()),
            "mean": pa.array([m.mean for m in fits], pa.float64()),
            "sd": pa.array([m.sd or None for m in fits], pa.float64()),
            "step": pa.array([float(step_of(g.n)) for g in found], pa.float64()),
        },
    )
    units = sql.column(UNITS, "b")
    doubled = exp.Mul(this=sql.integer(2), expression=units)
    off = exp.Abs(this=exp.Sub(this=doubled, expression=sql.column("median2", "limits")))
    centred = exp.Sub(
        this=sql.cast(units.copy(), "DOUBLE"), expression=sql.column("mean", "limits")
    )
    z = exp.Div(this=exp.paren(centred), expression=sql.column("sd", "limits"))
    square = exp.paren(exp.Mul(this=sql.column("z"), expression=sql.column("z")))

    def power(rest: Tree) -> Tree:
        raised = exp.paren(exp.Mul(this=square.copy(), expression=rest))
        steps = exp.Mul(this=raised, expression=sql.column("step"))
        return sql.exact_sum(sql.cast(exp.Round(this=steps), "BIGINT"))

    values: dict[str, Tree] = {
        "deviation": off,
        "z": z,
        "step": sql.column("step", "limits"),
    }
    fields = {
        "middle": sql.quantiles(sql.column("deviation"), ["0.5"]),
        "deviations": sql.exact_sum(sql.column("deviation")),
        "cubes": power(sql.column("z")),
        "fourths": power(square.copy()),
    }
    used = sum(g.n for g in found)
    result = by_position(population, base, groups, figures, values, fields, used)
    spread = list(tested)
    for row in result.to_pylist():
        t = tested[row["g0"]]
        g = t.group._replace(
            mad=sql.exact_quantile(row["middle"][0], "0.5") / 2,
            deviation2=int(row["deviations"]),
            cubes=int(row["cubes"] or 0) / step_of(t.group.n),
            fourths=int(row["fourths"] or 0) / step_of(t.group.n),
        )
        spread[row["g0"]] = t._replace(group=g)
    return spread


def by_position(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    limits: pa.Table,
    values: dict[str, Tree],
    fields: dict[str, Tree],
    rows: int,
    where: Tree | None = None,
) -> pa.Table:
    """Aggregates over the rows of a base joined with ``limits``, a table of groups, by the
    ``position`` of the group in it, named g0: a whole number, which an engine groups by faster than
    by the keys themselves. ``values`` name what the ``fields`` are made of."""
    wanted = [exp.alias_(tree, name, quoted=True) for name, tree in values.items()]
    position = exp.alias_(sql.column("position", "limits"), "g0", quoted=True)
    inner = exp.select(position, *wanted).from_(base.subquery("b"))
    inner = inner.join("limits", on=groups.join("b", "limits"), join_type="inner")
    inner = inner if where is None else inner.where(where)
    place = Grouping(("position",), (sql.column("position"),))
    return grp.order_statistics(population, inner, place, fields, rows, limits=limits)


@dataclass(frozen=True)
class FlaggedSums:
    """By group: how many rows were flagged, Σ and Σ² of their amounts in minor units, exact."""

    n: list[int]
    total: list[int]
    squares: list[int]

    @classmethod
    def of(cls, found: pa.Table, groups: int) -> FlaggedSums:
        """From the rows of :func:`limits.rows_beyond`, their ``worth`` carried along."""
        n, total, square = ([0] * groups for _ in range(3))
        if found.num_rows:
            position, units = (found.column(name).to_numpy() for name in ("position", WORTH))
            if position.min() != position.max():
                order = np.argsort(position, kind="stable")
                position, units = position[order], units[order]
            places, starts = np.unique(position, return_index=True)
            sums = _exact_sums(units, starts)
            counts = np.diff([*starts, len(units)])
            for place, count, t, s in zip(places.tolist(), counts.tolist(), *sums, strict=True):
                n[place], total[place], square[place] = count, t, s
        return cls(n, total, square)

    def rest(self, place: int, whole: Effect, middle: list[float] | None) -> Effect | None:
        """A group's amounts without its flagged rows; None where all were flagged."""
        if not self.n[place]:
            return whole
        if middle is None or whole.n == self.n[place]:
            return None
        return Effect.of(
            whole.n - self.n[place],
            whole.total - self.total[place],
            whole.squares - self.squares[place],
            middle,
        )


_HALF = 20


def _exact_sums(units: np.ndarray, starts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Σ and Σ² of whole numbers in runs that begin at ``starts``, as Python's whole numbers.

    Numbers below 2^40, and no more than 2^21 of them, are squared in two halves of 20 bits: no part
    of a sum passes 2^63, and it takes a tenth of the time that whole numbers without limit take.
    """
    bound = 1 << (2 * _HALF)
    if len(units) > 1 << 21 or units.min() <= -bound or units.max() >= bound:
        exact = units.astype(object)
        return np.add.reduceat(exact, starts), np.add.reduceat(exact * exact, starts)
    size = np.abs(units)
    high, low = size >> _HALF, size & ((1 << _HALF) - 1)
    parts = (
        np.add.reduceat(part, starts).astype(object)
        for part in (high * high, high * low, low * low)
    )
    squares = [
        part * 2**shift for part, shift in zip(parts, (2 * _HALF, _HALF + 1, 0), strict=True)
    ]
    return np.add.reduceat(units, starts).astype(object), sum(squares)


def limits_of(groups: Grouping, tested: Sequence[Tested]) -> pa.Table:
    """The input table ``limits`` of groups with a centre and a unit."""
    return lim.limit_table(
        groups,
        tested,
        [(t.least, t.greatest) for t in tested],
        [(t.centre, t.centre, t.unit) for t in tested],
    )


def step_of(n: int) -> int:
    """Steps that 1 is cut into: a power of ten with n² steps, the bound of z⁴, within 64 bits."""
    return int(10 ** max(min(int(18.9 - 2 * log10(max(n, 2))), 12), 0))
