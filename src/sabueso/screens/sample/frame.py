"""The rows that may be drawn, in blocks of lines, so that any is found without putting all in order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS
from sabueso.screens.limits.table import RowColumns
from sabueso.screens.sample.result import SampleGroup

PLACE, STRATUM, UPTO = "place", "stratum", "upto"
LINES = 1_024
"""Lines of a block."""


def _block() -> Tree:
    return sql.whole_division(sql.column("row_line", "b"), sql.integer(LINES))


@dataclass(frozen=True)
class Blocks:
    """Blocks of lines in the order of the sources: their rows, and the sums of these in minor units."""

    files: list[str]
    blocks: np.ndarray
    strata: np.ndarray
    n: np.ndarray
    units: list[int]

    def with_places(self, places: dict[int, Sequence[int]]) -> pa.Table:
        """The blocks in which some places lie, by stratum."""
        rows = []
        for stratum, wanted in places.items():
            own = np.flatnonzero(self.strata == stratum)
            upto = np.cumsum(self.n[own])
            inside = np.unique(np.searchsorted(upto, np.asarray(wanted, np.int64)))
            rows += [(int(own[k]), int(upto[k] - self.n[own[k]]), 0) for k in inside]
        return self._chosen(rows)

    def with_units(self, interval: int, start: int) -> pa.Table:
        """The blocks that hold one of the units start, start + interval, … of those counted from 0."""
        rows, before, count = [], 0, 0
        for k, units in enumerate(self.units):
            if units and (before - 1 - start) % interval + units >= interval:
                rows.append((k, count, before))
            before += units
            count += int(self.n[k])
        return self._chosen(rows)

    def _chosen(self, rows: Sequence[tuple[int, int, int]]) -> pa.Table:
        at = [k for k, _, _ in rows]
        return pa.table(
            {
                "file": pa.array([self.files[k] for k in at], pa.string()),
                "block": pa.array(self.blocks[at] if at else [], pa.int64()),
                STRATUM: pa.array(self.strata[at] if at else [], pa.int32()),
                "before": pa.array([count for _, count, _ in rows], pa.int64()),
                "units_before": pa.array([Decimal(u) for _, _, u in rows], pa.decimal128(38, 0)),
            }
        )


@dataclass(frozen=True)
class Frame:
    """The rows that may be drawn, with what their amounts are in minor units, where they have any."""

    population: Population
    measure: Column | None
    reasons: Sequence[Reason]

    def blocks(self, stratum: Tree | None = None) -> Blocks:
        """Rows and sums of every few lines of each file, in the order of the sources.

        With them the place of any row among all is known without putting all rows in order.
        """
        base = self.base()
        names = {"file": sql.column("row_file", "b"), "block": _block()}
        if stratum is not None:
            names[STRATUM] = stratum
        fields: list[Tree] = [exp.alias_(tree, name, quoted=True) for name, tree in names.items()]
        fields.append(exp.alias_(sql.count(), "n"))
        if self.measure is not None:
            fields.append(exp.alias_(sql.exact_sum(sql.column(UNITS, "b")), "units"))
        select = exp.select(*fields).from_(base.subquery("b"))
        select = select.group_by(*(tree.copy() for tree in names.values()))
        found = self.population.query(select)
        found = found.sort_by([("file", "ascending"), ("block", "ascending")])
        n = found.column("n").to_numpy().astype(np.int64)
        strata = (
            np.zeros(len(n), np.int64)
            if stratum is None
            else found.column(STRATUM).to_numpy().astype(np.int64)
        )
        units = [0] * len(n)
        if self.measure is not None:
            units = [int(value or 0) for value in found.column("units").to_pylist()]
        blocks = found.column("block").to_numpy().astype(np.int64)
        return Blocks(found.column("file").to_pylist(), blocks, strata, n, units)

    def near(self, chosen: pa.Table, stratum: Tree | None = None) -> exp.Select:
        """The rows of some blocks, each with its place among all rows, within its stratum where there is one,
        and with the sum of the amounts up to it."""
        base = self.base()
        names = [sql.column(name, "b") for name in self._values()]
        part: list[Tree] = [sql.column("row_file", "b"), _block()]
        on = [
            exp.EQ(this=sql.column("row_file", "b"), expression=sql.column("file", "chosen")),
            exp.EQ(this=_block(), expression=sql.column("block", "chosen")),
        ]
        fields: list[Tree] = [*names]
        if stratum is not None:
            part.append(stratum)
            on.append(exp.EQ(this=stratum.copy(), expression=sql.column(STRATUM, "chosen")))
            fields.append(exp.alias_(stratum.copy(), STRATUM, quoted=True))
        order = exp.Order(expressions=[sql.ordered(sql.column("row_line", "b"))])
        number = exp.Window(this=exp.RowNumber(), partition_by=part, order=order)
        place = exp.Add(this=number, expression=sql.column("before", "chosen"))
        fields.append(exp.alias_(sql.cast(place, "BIGINT"), PLACE, quoted=True))
        if self.measure is not None:
            running = self._running([each.copy() for each in part], order)
            upto = exp.Add(this=running, expression=sql.column("units_before", "chosen"))
            fields.append(exp.alias_(sql.cast(upto, "DECIMAL(38, 0)"), UPTO, quoted=True))
        select = exp.select(*fields).from_(base.subquery("b"))
        return select.join("chosen", on=sql.both(on), join_type="inner")

    def _values(self) -> dict[str, Tree]:
        values = RowColumns.of(self.population.table, self.measure).trees()
        if self.measure is not None:
            values = {**values, UNITS: sql.minor_units(self.measure)}
        return values

    def base(self) -> exp.Select:
        return self.population.base(self._values(), self.reasons)

    def _running(self, part: list[Tree], order: exp.Order) -> exp.Window:
        units = sql.cast(sql.column(UNITS, "b"), "DECIMAL(38, 0)")
        spec = exp.WindowSpec(
            kind="ROWS", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW"
        )
        return exp.Window(
            this=exp.Sum(this=units), partition_by=part, order=order.copy(), spec=spec
        )

    def figures(self, stratum: Tree | None = None) -> list[dict[str, int]]:
        """Rows, sum and sum of squares of each stratum, or of all, in minor units."""
        values: dict[str, Tree] = {}
        if self.measure is not None:
            values[UNITS] = sql.minor_units(self.measure)
        base = self.population.base(values or {"one": sql.integer(1)}, self.reasons)
        units = sql.column(UNITS, "b")
        fields: list[Tree] = [exp.alias_(sql.count(), "n")]
        if self.measure is not None:
            fields += [
                exp.alias_(sql.exact_sum(units), "total"),
                exp.alias_(sql.exact_square_sum(units.copy()), "square"),
                exp.alias_(exp.Min(this=units.copy()), "least"),
                exp.alias_(exp.Max(this=units.copy()), "greatest"),
            ]
        select = exp.select(*fields).from_(base.subquery("b"))
        if stratum is not None:
            select = select.select(exp.alias_(stratum, STRATUM, quoted=True))
            select = select.group_by(stratum.copy())
        found = self.population.query(select).to_pylist()
        return [{name: int(value or 0) for name, value in row.items()} for row in found]

    def gathered(self, found: pa.Table, drop: Sequence[str] = (UPTO,)) -> pa.Table:
        """Rows as flags have them, as they stand in the sources."""
        order = [("row_file", "ascending"), ("row_line", "ascending")]
        found = found.sort_by(order)
        unused = [name for name in (UNITS, *drop) if name in found.column_names]
        found = found.drop_columns(unused)
        return RowColumns.of(self.population.table, self.measure).gathered(found)


@dataclass(frozen=True)
class Drawn:
    """The rows drawn, with ``place``, ``stratum`` and ``unit`` where the method has them, and ``whole``."""

    rows: pa.Table
    groups: list[SampleGroup]
    interval: str | None = None
    start: str | None = None


def drawn_sum(rows: pa.Table) -> Decimal:
    """The exact sum of the amounts of some rows."""
    from sabueso.population.table import exact_total

    return exact_total(rows.column("amount"))
