"""How a row, or an entity, stands among its own kind."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from math import log10
from typing import Any

import sqlglot.expressions as exp

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
    population: Population, column: Column, value: Any, amount: Decimal, measure: Column
) -> Peers:
    """How a row's amount stands among the rows with the same value of a column."""
    units = sql.column("units", "b")
    own = int(amount.scaleb(measure.scale))
    base = population.base({"units": sql.minor_units(measure), "value": sql.column(column.name)})
    literal: Tree = exp.null() if value is None else sql.text(str(value))
    same = sql.same(sql.cast(sql.column("value", "b"), "VARCHAR"), literal)
    larger = exp.GT(this=sql.magnitude(units.copy()), expression=sql.integer(abs(own)))
    select = exp.select(
        exp.alias_(exp.Count(this=units), "n"),
        exp.alias_(sql.quantiles(units.copy(), ["0.25", "0.5", "0.75"]), "middle"),
        exp.alias_(sql.only(sql.count(), larger), "larger"),
        exp.alias_(sql.exact_sum(sql.magnitude(units.copy())), "size"),
    ).from_(base.subquery("b"))
    row = population.query(select.where(same)).to_pylist()[0]
    size = int(row["size"] or 0)
    scale = 10**measure.scale
    shares = ("0.25", "0.5", "0.75")
    low, middle, high = (
        float(sql.exact_quantile(v, share)) / scale
        for v, share in zip(row["middle"], shares, strict=True)
    )
    bars, at = _bars(population, base, same, own)
    return Peers(
        column.name, value, row["n"], middle, row["larger"], abs(own) / size if size else None,
        (low, middle, high), bars, at,
    )  # fmt: skip


def _bars(
    population: Population, base: exp.Select, same: Tree, own: int
) -> tuple[tuple[int, ...], int]:
    """The peers by the logarithm of their size, in equal steps from the smallest to the largest.

    Logarithms are taken in whole steps, so that every engine counts alike.
    """
    units = sql.column("units", "b")
    size = sql.log_units(sql.magnitude(units), DECIMALS)
    known = exp.Not(this=sql.is_missing(units.copy()))
    logs = exp.select(exp.alias_(size, "x")).from_(base.subquery("b"))
    logs = logs.where(sql.both([same.copy(), known]))
    x = sql.column("x")
    ends = exp.select(
        exp.alias_(exp.Min(this=x), "low"), exp.alias_(exp.Max(this=x.copy()), "high")
    )
    row = population.query(ends.from_(logs.subquery("l"))).to_pylist()[0]
    low, high = row["low"], row["high"]
    if low is None or high <= low:
        return (), 0
    span = high - low + 1
    above = exp.paren(exp.Sub(this=x.copy(), expression=sql.integer(low)))
    scaled = exp.paren(exp.Mul(this=above, expression=sql.integer(BARS)))
    place = sql.whole_division(scaled, sql.integer(span))
    counted = exp.select(exp.alias_(place, "place"), exp.alias_(sql.count(), "n"))
    counted = counted.from_(logs.subquery("l")).group_by(place.copy())
    bars = [0] * BARS
    for found in population.query(counted).to_pylist():
        bars[int(found["place"])] += found["n"]
    at = int((round(log10(1 + abs(own)) * 10**DECIMALS) - low) * BARS // span)
    return tuple(bars), min(max(at, 0), BARS - 1)
