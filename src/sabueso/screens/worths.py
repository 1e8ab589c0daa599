"""The amounts of a population in order within their groups, read once for all that is asked of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.bounds import Bounds, widened
from sabueso.population.engines.interface import Engine
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens import grouping as grp
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.stats.arranged import Arranged, Ints

SLICE_ROWS = 16_000_000
"""Rows whose amounts are held at once, 8 bytes each; more are read in slices of whole groups."""
MOST_UNITS = 1 << 61
"""Twice an amount stays within 64 bits."""
_HELD = "worths"


@dataclass(frozen=True)
class Worths:
    """Amounts of the rows used, in minor units, ascending within each group.

    Attributes
    ----------
    keys : list
        The groups that have any, in ascending order.
    sizes : array of int64
        How many rows of each are used.
    """

    population: Population
    groups: Grouping
    base: exp.Select
    found: pa.Table
    keys: list[ByColumn]
    sizes: Ints
    _slices: list[tuple[slice, Arranged]] = field(default_factory=list, repr=False)

    @classmethod
    def of(
        cls,
        population: Population,
        groups: Grouping,
        measure: Column,
        reasons: Sequence[Reason],
    ) -> Worths:
        """The amounts of a measure; those that another test of the programme had are taken again."""
        values = {**groups.values(), UNITS: sql.minor_units(measure)}
        base = population.base(values, reasons)
        key = base.sql(), population.engine
        if (known := _held(population, key)) is not None:
            return known
        worths = _narrowed(population, base, measure, values, reasons)
        if worths is None:
            worths = cls._asked(population, groups, base)
        # One at a time: what a programme asks for comes together.
        population.known[_HELD] = key, worths
        return worths

    @classmethod
    def _asked(cls, population: Population, groups: Grouping, base: exp.Select) -> Worths:
        """Which groups there are, and how many rows of each."""
        units = sql.column(UNITS, "b")
        fields: dict[str, Tree] = {
            "n": exp.Count(this=units),
            "least": exp.Min(this=units.copy()),
            "greatest": exp.Max(this=units.copy()),
        }
        found = population.query(grp.per_group(base, groups, fields))
        if not groups.labels:
            found = found.slice(0, int(found.column("n")[0].as_py() > 0))
        return cls(
            population, groups, base, found, groups.keys(found), found.column("n").to_numpy()
        )

    def within(self, population: Population, base: exp.Select, bounds: Bounds) -> Worths | None:
        """Those of the amounts that lie within bounds, the rows of another population; None where they are
        not all held."""
        if not self._slices:
            return None
        ((_, worth),) = self._slices
        kept, which = worth.within(*bounds)
        places = which.tolist()
        part = slice(0, len(places))
        columns = self.found.select(self.groups.names)
        if len(places) < len(self.keys):
            columns = columns.take(pa.array(which))
        ends = ("n", kept.sizes), ("least", kept.least), ("greatest", kept.greatest)
        found = pa.table({n: columns.column(n) for n in columns.column_names} | dict(ends))
        keys = [self.keys[place] for place in places]
        return Worths(population, self.groups, base, found, keys, kept.sizes, [(part, kept)])

    def slices(self) -> Iterator[tuple[slice, Arranged]]:
        """Which groups, and their amounts; all at once where they can be held."""
        if self._slices:
            yield from self._slices
            return
        bounds = grp.cuts(self.sizes, SLICE_ROWS)
        for first, last in bounds:
            part = slice(first, last), self._read(first, last)
            if len(bounds) == 1:
                self._slices.append(part)
            yield part

    def _read(self, first: int, last: int) -> Arranged:
        part = self.found.slice(first, last - first)
        ends = [
            int(f(part.column(n).to_numpy())) for f, n in ((np.min, "least"), (np.max, "greatest"))
        ]
        if max(-ends[0], ends[1]) >= MOST_UNITS:
            raise UserError(
                f"table {self.population.table.name!r}: an amount of {max(ends, key=abs):,} minor units is "
                f"beyond what limits are computed of; expected below {MOST_UNITS:,}"
            )
        return Arranged.gathered(self.sizes[first:last], (ends[0], ends[1]), self._rows(part))

    def _rows(self, part: pa.Table) -> Iterator[tuple[Ints, Ints]]:
        """(number of the group, amount) of the rows of some groups, batch by batch."""
        units = sql.column(UNITS, "b")
        select = exp.select(units).from_(self.base.subquery("b"))
        if not self.groups.labels:
            for batch in self.population.stream(select):
                values = batch.column(0).to_numpy(zero_copy_only=False)
                yield np.zeros(len(values), np.int64), values
            return
        place = pa.array(range(part.num_rows), pa.int32())
        keys = part.select(self.groups.names).append_column("position", place)
        select = select.select(sql.column("position", "of_groups"))
        select = select.join("of_groups", on=self.groups.join("b", "of_groups"), join_type="inner")
        for batch in self.population.stream(select, of_groups=keys):
            values, numbers = (c.to_numpy(zero_copy_only=False) for c in batch.columns)
            yield numbers, values


def _held(population: Population, key: tuple[str, Engine]) -> Worths | None:
    """The amounts that another test of the programme had, where they are the same."""
    held: tuple[tuple[str, Engine], Worths] | None = population.known.get(_HELD)
    return held[1] if held is not None and held[0] == key else None


def _narrowed(
    population: Population,
    base: exp.Select,
    measure: Column,
    values: dict[str, Tree],
    reasons: Sequence[Reason],
) -> Worths | None:
    """The amounts out of those that another test had, where conditions on the amount alone tell the two
    populations apart."""
    wider, bounds = widened(population, measure)
    if bounds == Bounds():
        return None
    held = _held(population, (wider.base(values, reasons).sql(), population.engine))
    return None if held is None else held.within(population, base, bounds)
