"""How a row, or an entity, stands among its own kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from math import log10
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column

BARS = 24
DECIMALS = 4
FAR = 3
"""How many times the distance of the quartiles lies beyond them what stands far outside (Tukey 1977)."""
SHIFTS = (10, 100, 1000)
"""Factors by which a decimal mark in the wrong place makes an amount too large."""


@dataclass(frozen=True)
class Peers:
    """A row among those that share a value with it.

    ``quartiles`` are the first, second and third; ``larger`` how many are larger by size; ``share`` its
    part of the sum of their sizes; ``bars`` how many of them lie in each of ``BARS`` equal steps of the
    logarithm of their size, and ``at`` the step that the row is in.
    """

    column: str
    value: Any
    n: int
    median: float
    larger: int
    share: float | None
    quartiles: tuple[float, float, float] = (0.0, 0.0, 0.0)
    bars: tuple[int, ...] = ()
    at: int = 0

    @property
    def enough(self) -> bool:
        """Whether there are enough to say what is usual among them."""
        return self.n >= 8

    def stands(self, amount: Decimal) -> str:
        """``far`` outside the quartiles of its peers, ``beyond`` most of them, or ``ordinary``."""
        low, _, high = self.quartiles
        value, room = float(amount), FAR * (high - low)
        if value > high + room or value < low - room:
            return "far"
        return "ordinary" if low - room / 2 <= value <= high + room / 2 else "beyond"

    def shifted(self, amount: Decimal) -> int | None:
        """The factor that, taken out of an amount that stands far outside, puts it between the quartiles."""
        low, _, high = self.quartiles
        if self.stands(amount) != "far":
            return None
        fitting = [f for f in SHIFTS if low <= float(amount) / f <= high]
        return fitting[0] if fitting else None


def peers_of(
    population: Population, wanted: Sequence[tuple[Column, Any]], amount: Decimal, measure: Column
) -> list[Peers]:
    """How a row's amount stands among the rows with the same value of each of some columns.

    Two questions for all of them together: a question of a usual table costs more than its rows.
    """
    if not wanted:
        return []
    own = int(amount.scaleb(measure.scale))
    bases = [_same(population, column, value, measure) for column, value in wanted]
    found = sorted(_together(population, [_figures(b, own) for b in bases]), key=_of)
    ends = {row[OF]: (row["low"], row["high"]) for row in found}
    spans = {of: (low, high) for of, (low, high) in ends.items() if low is not None and high > low}
    counts: dict[int, list[int]] = {of: [0] * BARS for of in spans}
    if spans:
        for row in _together(population, [_counted(bases[of], of, *spans[of]) for of in spans]):
            counts[row[OF]][int(row["place"])] += row["n"]
    scale, peers = 10**measure.scale, []
    for (column, value), row in zip(wanted, found, strict=True):
        size = int(row["size"] or 0)
        low, middle, high = (
            float(sql.exact_quantile(v, share)) / scale
            for v, share in zip(row["middle"], QUARTILES, strict=True)
        )
        bars, at = tuple(counts.get(row[OF], ())), 0
        if row[OF] in spans:
            first, last = spans[row[OF]]
            step = round(log10(1 + abs(own)) * 10**DECIMALS) - first
            at = min(max(int(step * BARS // (last - first + 1)), 0), BARS - 1)
        peers.append(
            Peers(
                column.name, value, row["n"], middle, row["larger"], abs(own) / size if size else None,
                (low, middle, high), bars, at,
            )
        )  # fmt: skip
    return peers


OF = "of"
QUARTILES = ("0.25", "0.5", "0.75")


def _of(row: Cells) -> int:
    return int(row[OF])


def _together(population: Population, selects: Sequence[exp.Select]) -> list[Cells]:
    """The rows of several questions asked as one, each with its number as ``of``."""
    parts = [
        select.select(exp.alias_(sql.integer(place), OF, quoted=True))
        if not any(each.alias_or_name == OF for each in select.selects)
        else select
        for place, select in enumerate(selects)
    ]
    whole: exp.Query = parts[0]
    for part in parts[1:]:
        whole = exp.union(whole, part, distinct=False, copy=False)
    return population.query(whole).to_pylist()


def _same(population: Population, column: Column, value: Any, measure: Column) -> exp.Select:
    """The minor units of the rows that have the value, and the logarithms of their size in whole steps,
    so that every engine counts alike."""
    units = sql.column("units", "b")
    base = population.base({"units": sql.minor_units(measure), "value": sql.column(column.name)})
    literal: Tree = exp.null() if value is None else sql.text(str(value))
    same = sql.same(sql.cast(sql.column("value", "b"), "VARCHAR"), literal)
    size = exp.alias_(sql.log_units(sql.magnitude(units.copy()), DECIMALS), "x", quoted=True)
    return exp.select(units, size).from_(base.subquery("b")).where(same)


def _figures(base: exp.Select, own: int) -> exp.Select:
    units, x = sql.column("units", "p"), sql.column("x", "p")
    larger = exp.GT(this=sql.magnitude(units.copy()), expression=sql.integer(abs(own)))
    return exp.select(
        exp.alias_(exp.Count(this=units), "n"),
        exp.alias_(sql.quantiles(units.copy(), QUARTILES), "middle"),
        exp.alias_(sql.only(sql.count(), larger), "larger"),
        exp.alias_(sql.exact_sum(sql.magnitude(units.copy())), "size"),
        exp.alias_(exp.Min(this=x), "low"),
        exp.alias_(exp.Max(this=x.copy()), "high"),
    ).from_(base.subquery("p"))


def _counted(base: exp.Select, of: int, low: int, high: int) -> exp.Select:
    """How many lie in each of equal steps from the smallest to the largest."""
    x = sql.column("x", "p")
    above = exp.paren(exp.Sub(this=x, expression=sql.integer(low)))
    scaled = exp.paren(exp.Mul(this=above, expression=sql.integer(BARS)))
    place = sql.whole_division(scaled, sql.integer(high - low + 1))
    counted = exp.select(
        exp.alias_(place, "place"),
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.integer(of), OF, quoted=True),
    )
    known = exp.Not(this=sql.is_missing(x.copy()))
    return counted.from_(base.copy().subquery("p")).where(known).group_by(place.copy())
