"""The scale a limit is set on: the amount itself, or its signed logarithm in units of the group."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from math import copysign, log10
from typing import Any, Literal, Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens import grouping as grp
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.worths import Worths
from sabueso.stats.arranged import Around, Arranged, Floats, Ints

Kind = Literal["amount", "log"]
LOG_DECIMALS = 9  # of log10 values, which are rounded to them so that their sums are exact
MEDIAN_PARTS = 100
WORTH = "worth"  # the amount itself in minor units, whatever the scale of the test
SCALES = "scales"

Key = tuple[Any, ...]


def signed_log(amount: float, unit: float) -> float:
    """sign(x)·log10(1 + |x|/unit)."""
    return copysign(log10(1 + abs(amount) / unit), amount)


class Ordered(Protocol):
    """Groups of values of which those of some ranks are wanted: see :class:`Arranged`."""

    @property
    def sizes(self) -> Ints: ...
    def group(self, place: int) -> Ints: ...
    def at(self, ranks: Ints) -> Ints: ...
    def around(self, share: str) -> Around: ...
    def quantiles(self, share: str) -> list[Fraction]: ...


@dataclass(frozen=True)
class _Logarithms:
    """Amounts on the log scale, on which their order is the same: only those asked for are computed."""

    worth: Arranged
    units: Floats
    steps: Callable[[Ints, Floats | float], Ints]

    @property
    def sizes(self) -> Ints:
        return self.worth.sizes

    def group(self, place: int) -> Ints:
        return self.steps(self.worth.group(place), float(self.units[place]))

    def at(self, ranks: Ints) -> Ints:
        return self.steps(self.worth.at(ranks), self.units)

    def around(self, share: str) -> Around:
        lower, upper, parts, of = self.worth.around(share)
        return Around(self.steps(lower, self.units), self.steps(upper, self.units), parts, of)

    def quantiles(self, share: str) -> list[Fraction]:
        return self.around(share).between()


@dataclass(frozen=True)
class Scale:
    """A scale of the measure, and of each group where it is logarithmic.

    On the log scale x is sign(x)·log10(1 + |x|/unit), the unit being a hundredth of the median of the
    group's |x| that are not 0: another currency, or another minor unit, flags the same rows. With the
    median itself the lower half would be pressed together, and 1 to 4 % of lognormal rows be flagged
    that are none; with a hundredth of it they lie as on log10 |x|.
    """

    kind: Kind
    measure: Column
    groups: Grouping
    units: Mapping[Key, float] = field(default_factory=dict)
    table: pa.Table | None = None
    of_groups: Floats | None = None
    _held: dict[int, Arranged] = field(default_factory=dict, repr=False, compare=False)

    @classmethod
    def of(cls, kind: Kind, worths: Worths, measure: Column) -> Scale:
        """The scale of a measure; a logarithmic one finds the unit of each group first."""
        groups = worths.groups
        if kind == "amount":
            return cls(kind, measure, groups)
        minor = np.concatenate([np.empty(0), *(_middle(worth) for _, worth in worths.slices())])
        units = minor / MEDIAN_PARTS / 10**measure.scale
        known = [(k, u) for k, u in zip(worths.keys, units.tolist(), strict=True) if u]
        columns = grp.group_table(groups, [key for key, _ in known])
        table = pa.table({**columns, "unit": pa.array([u for _, u in known], pa.float64())})
        by_key = {tuple(k.values()): u for k, u in known}
        # A group of zeros alone has no unit: they are 0 on any scale.
        return cls(kind, measure, groups, by_key, table, np.where(units > 0, units, 1.0))

    def arranged(self, part: slice, worth: Arranged) -> Arranged:
        """Amounts of some groups in units of this scale, in the same order."""
        if self.of_groups is None:
            return worth
        held = self._held.get(part.start)
        if held is not None:
            return held
        values = np.empty_like(worth.values)
        place = 0
        for block in worth.blocks(self.of_groups[part]):
            steps = self._steps(block.values, *block.of_rows)
            values[place : place + len(steps)] = steps
            place += len(steps)
        found = Arranged(worth.starts, values)
        if len(worth.sizes) == len(self.of_groups):
            self._held[part.start] = found
        return found

    def ordered(self, part: slice, worth: Arranged) -> Ordered:
        """Order statistics of some groups in units of this scale."""
        if self.of_groups is None:
            return worth
        return _Logarithms(worth, self.of_groups[part], self._steps)

    def _steps(self, amounts: Ints, unit: Floats | float) -> Ints:
        """Amounts in minor units as steps of the log scale, which keep their order."""
        size = np.abs(amounts) / 10**self.measure.scale / unit
        steps = np.rint(np.log10(1.0 + size) * 10**LOG_DECIMALS)
        found: Ints = (np.sign(amounts) * steps).astype(np.int64)
        return found

    @property
    def is_log(self) -> bool:
        return self.kind == "log"

    @property
    def decimals(self) -> int:
        """Decimals of the units on this scale."""
        return LOG_DECIMALS if self.is_log else self.measure.scale

    def of_population(self, population: Population) -> Population:
        """The population with what the base of this scale reads."""
        if self.table is None:
            return population
        return replace(population, given={**population.given, SCALES: self.table})

    def base(
        self, population: Population, values: Mapping[str, Tree], reasons: Sequence[Reason]
    ) -> exp.Select:
        """The rows used with ``values``, the units on this scale, and the amounts as ``worth``."""
        values = {**values, WORTH: sql.minor_units(self.measure)}
        if not self.is_log:
            return population.base({**values, UNITS: sql.minor_units(self.measure)}, reasons)
        values["amount_"] = sql.column(self.measure.name)
        inner = population.base(values, reasons)
        kept = [sql.column(name, "p") for name in values if name != "amount_"]
        unit = exp.Coalesce(
            this=sql.column("unit", SCALES), expressions=[exp.Literal.number("1.0")]
        )
        units = sql.log_units(sql.column("amount_", "p"), LOG_DECIMALS, unit)
        select = exp.select(*kept, exp.alias_(units, UNITS, quoted=True)).from_(inner.subquery("p"))
        return select.join(SCALES, on=self.groups.join("p", SCALES), join_type="left")

    def unit(self, key: Mapping[str, Any]) -> float | None:
        """The unit of a group on the log scale; None on the amounts' own."""
        return self.units.get(tuple(key.values()), 1.0) if self.is_log else None

    def place(self, amount: float, key: Mapping[str, Any]) -> float:
        """An amount as a point of the scale."""
        unit = self.unit(key)
        return amount if unit is None else signed_log(amount, unit)

    def amount(self, place: float, key: Mapping[str, Any]) -> float | None:
        """A point of the scale as an amount; None beyond what a float holds."""
        unit = self.unit(key)
        if unit is None:
            return place
        if abs(place) > 300:
            return None
        return copysign((10 ** abs(place) - 1) * unit, place)


def _middle(worth: Arranged) -> Floats:
    """The median of the |x| of each group that are not 0; 0 where all are."""
    zeros = worth.counts_of(0)
    others = worth.sizes - zeros
    some = np.maximum(others, 1)
    # The zeros are the nearest to 0.
    ranks = [np.minimum(zeros + place, worth.sizes - 1) for place in ((some - 1) // 2, some // 2)]
    low, high = (worth.nearest(np.zeros_like(zeros), rank) for rank in ranks)
    return np.where(others > 0, (low + high) / 4, 0.0)
