"""What flagged rows do to their group: its amounts with and without them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import money
from sabueso.screens import grouping as grp
from sabueso.screens.grouping import Grouping
from sabueso.screens.limits import table as lim
from sabueso.screens.limits.result import Amounts
from sabueso.screens.limits.scales import WORTH
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


def without_flagged(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    wholes: Sequence[Effect],
    limits_at: Callable[[list[int]], pa.Table],
    beyond: FlaggedSums,
    side: str,
) -> list[Effect | None]:
    """Each group's amounts without its flagged rows: order statistics of those that have any.

    ``limits_at`` gives the limit table of some groups.
    """
    touched = [place for place, n in enumerate(beyond.n) if n]
    middles: dict[int, list[float] | None] = {}
    if touched:
        found = by_position(
            population,
            base,
            groups,
            limits_at(touched),
            {"worth": sql.column(WORTH, "b")},
            {"middle": sql.quantiles(sql.column("worth"), MIDDLE)},
            sum(wholes[place].n for place in touched),
            exp.Not(this=lim.beyond(side)),
        )
        middles = {touched[row["g0"]]: row["middle"] for row in found.to_pylist()}
    return [beyond.rest(place, whole, middles.get(place)) for place, whole in enumerate(wholes)]
