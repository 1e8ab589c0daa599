"""What tests on one measure share: groups, exact sums per group, and the rows beyond limits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table
from sabueso.screens.interface import CONTEXT, GROUP, SUBJECT, Caution, NotTested

UNITS = "units"
INT64 = np.iinfo(np.int64)
CONTEXT_ROLES = ("date", "party", "account", "preparer", "text")


@dataclass(frozen=True)
class Grouping:
    """Group columns of a screen, as SQL values named g0, g1, …"""

    labels: tuple[str, ...]
    trees: tuple[Tree, ...]

    @classmethod
    def of(cls, by: Sequence[str], table: Table) -> Grouping:
        return cls(
            tuple(expressions.label(text, table) for text in by),
            tuple(expressions.scalar(text, table) for text in by),
        )

    @property
    def names(self) -> list[str]:
        return [f"g{i}" for i in range(len(self.labels))]

    def values(self) -> dict[str, Tree]:
        """Named values for the base of a query."""
        return dict(zip(self.names, self.trees, strict=True))

    def columns(self, table: str | None = None) -> list[exp.Column]:
        return [sql.column(name, table) for name in self.names]

    def keys(self, result: pa.Table) -> list[dict[str, Any]]:
        """One dictionary of label -> value for each row of a result."""
        if not self.labels:
            return [{} for _ in range(result.num_rows)]
        columns = [result.column(name).to_pylist() for name in self.names]
        return [dict(zip(self.labels, row, strict=True)) for row in zip(*columns, strict=True)]

    def join(self, left: str, right: str) -> Tree:
        """Same group on both sides, a missing key matching a missing key."""
        return sql.both(
            sql.same(sql.column(name, left), sql.column(name, right)) for name in self.names
        )


def per_group(base: exp.Select, grouping: Grouping, fields: dict[str, Tree]) -> exp.Select:
    """Aggregate a base per group, groups in ascending order."""
    wanted: list[Tree] = [*grouping.columns()]
    wanted += [exp.alias_(tree, name, quoted=True) for name, tree in fields.items()]
    select = exp.select(*wanted).from_(base.subquery("b"))
    if grouping.names:
        select = select.group_by(*grouping.columns())
        select = select.order_by(*(sql.ordered(c) for c in grouping.columns()))
    return select


def integers(result: pa.Table, name: str) -> list[int]:
    """A column of whole numbers as Python integers, missing ones as 0."""
    return [0 if v is None else int(v) for v in result.column(name).to_pylist()]


SLICE_ROWS = 10_000_000
"""Rows whose order statistics are found at once: an engine holds every value for them, some 50
bytes a row, and cannot move them to the disk."""


def order_statistics(
    population: Population,
    base: exp.Select,
    grouping: Grouping,
    fields: dict[str, Tree],
    rows: int,
    **inputs: pa.Table,
) -> pa.Table:
    """Like :func:`per_group`, for fields with quantiles: in slices of groups where rows are many."""
    if not grouping.labels or rows <= SLICE_ROWS:
        return population.query(per_group(base, grouping, fields), **inputs)
    sizes = population.query(per_group(base, grouping, {"n": sql.count()}), **inputs)
    found, start = [], 0
    counts = sizes.column("n").to_numpy()
    while start < len(counts):
        inside = np.cumsum(counts[start:]) <= SLICE_ROWS
        size = max(int(inside.sum()), 1)
        part = sizes.slice(start, size).select(grouping.names)
        kept = exp.select(*(sql.column(name, "s") for name in base.named_selects))
        kept = kept.from_(base.subquery("s"))
        kept = kept.join("slice", on=grouping.join("s", "slice"), join_type="inner")
        found.append(population.query(per_group(kept, grouping, fields), **inputs, slice=part))
        start += size
    return pa.concat_tables(found)


def runs(result: pa.Table, names: Sequence[str]) -> np.ndarray:
    """The number, from 0, of the group that each row of a result ordered by its groups is in."""
    changes = np.zeros(result.num_rows, dtype=bool)
    for name in names:
        codes = result.column(name).combine_chunks().dictionary_encode().indices.fill_null(-1)
        changes[1:] |= np.diff(codes.to_numpy(zero_copy_only=False)) != 0
    return np.cumsum(changes)


def clamped(values: Sequence[int]) -> pa.Array:
    """Integer limits as BIGINT; those outside its range flag nothing there."""
    return pa.array([min(max(v, int(INT64.min)), int(INT64.max)) for v in values], pa.int64())


class Keyed(Protocol):
    """Anything that knows the group it belongs to."""

    @property
    def key(self) -> dict[str, Any]: ...


def key_table(groups: Grouping, items: Sequence[Keyed], columns: dict[str, Any]) -> pa.Table:
    """Group keys and figures of some groups as an input table of a query."""
    keys = {
        name: pa.array([item.key[label] for item in items])
        for name, label in zip(groups.names, groups.labels, strict=True)
    }
    return pa.table({**keys, **columns})


def limit_table(
    groups: Grouping,
    items: Sequence[Keyed],
    bounds: Sequence[tuple[int, int]],
    places: Sequence[tuple[float, float, float]],
) -> pa.Table:
    """The input table ``limits``: group keys, least, greatest, and the group's position.

    ``places`` are (lower, upper, unit) of each group: the strength of a row beyond the limits is
    how many units it lies above ``upper`` or below ``lower``.
    """
    return key_table(
        groups,
        items,
        {
            "least": clamped([low for low, _ in bounds]),
            "greatest": clamped([high for _, high in bounds]),
            "lower": pa.array([p[0] for p in places], pa.float64()),
            "upper": pa.array([p[1] for p in places], pa.float64()),
            "unit": pa.array([p[2] for p in places], pa.float64()),
            "position": pa.array(range(len(items)), pa.int64()),
        },
    )


def flag_table(found: pa.Table, columns: dict[str, np.ndarray]) -> pa.Table:
    """The rows of :func:`rows_beyond` as flags, with the test's own columns."""
    kept = found.drop_columns(["position", "strength", "high"])
    for name, values in columns.items():
        kept = kept.append_column(name, pa.array(values))
    return kept


def size_cautions(sizes: Sequence[int], not_tested: Sequence[NotTested]) -> list[Caution]:
    """``too_few`` for groups below 11 rows, ``zero_spread`` for those without any."""
    cautions = []
    few = [n for n in sizes if n < 11]
    if few:
        which = (
            f"{len(few)} of {len(sizes)} groups have fewer than 11 rows"
            if len(sizes) > 1
            else f"only {few[0]} rows are used; a limit on fewer than 11 means little"
        )
        figures = {"groups": len(few), "smallest_n": min(few)}
        cautions.append(Caution("too_few", which, figures))
    flat = [t for t in not_tested if t.reason.startswith("zero_spread")]
    if flat:
        rows = sum(t.rows for t in flat)
        which = (
            f"{len(flat)} groups ({rows:,} rows) have no spread and are not tested"
            if len(sizes) > 1
            else f"the {rows:,} amounts have no spread and are not tested"
        )
        cautions.append(Caution("zero_spread", which, {"groups": len(flat), "rows": rows}))
    return cautions


def beyond(side: str = "both") -> Tree:
    """Condition of a row beyond its group's limits."""
    units = sql.column(UNITS, "b")
    low = exp.LT(this=units, expression=sql.column("least", "limits"))
    high = exp.GT(this=units.copy(), expression=sql.column("greatest", "limits"))
    if side == "both":
        return exp.paren(exp.or_(low, high))
    return low if side == "low" else high


def context_columns(table: Table) -> list[Column]:
    """Columns that help a reader to recognise a row, in the order of their roles."""
    found = (table.role(role) for role in CONTEXT_ROLES)  # type: ignore[arg-type]
    return [column for column in found if column is not None]


def rows_beyond(
    population: Population,
    values: dict[str, Tree],
    reasons: Sequence[Reason],
    grouping: Grouping,
    limits: pa.Table,
    side: str,
    measure: Column,
) -> pa.Table:
    """Rows beyond their group's limits, strongest first, then as they stand in the sources.

    ``limits`` is a :func:`limit_table`. The result has ``position`` (of the group), ``strength``,
    ``high`` (above, not below), ``amount`` and the prefixed columns.
    """
    table = population.table
    named: dict[str, Tree] = {}
    identity = table.role("id")
    if identity is not None:
        named[SUBJECT + identity.name] = sql.column(identity.name)
    named[SUBJECT + "file"] = sql.column(FILE_COLUMN)
    named[SUBJECT + "line"] = sql.column(LINE_COLUMN)
    for column in context_columns(table):
        if column.name != (identity.name if identity else None):
            named[CONTEXT + column.name] = sql.column(column.name)
    named["amount"] = sql.column(measure.name)
    base = population.base({**values, **named}, reasons)
    units = sql.column(UNITS, "b")
    high = exp.GT(this=units, expression=sql.column("greatest", "limits"))
    value = sql.cast(units.copy(), "DOUBLE")
    above = exp.Sub(this=value, expression=sql.column("upper", "limits"))
    below = exp.Sub(this=sql.column("lower", "limits"), expression=value.copy())
    off = exp.Case().when(high, above).else_(below)
    strength = exp.Div(this=off, expression=sql.column("unit", "limits"))
    wanted: list[Tree] = [
        sql.column("position", "limits"),
        exp.alias_(strength, "strength"),
        exp.alias_(high.copy(), "high"),
    ]
    wanted += [sql.column(name, "b") for name in named]
    wanted += [
        exp.alias_(sql.column(name, "b"), GROUP + label, quoted=True)
        for name, label in zip(grouping.names, grouping.labels, strict=True)
    ]
    select = exp.select(*wanted).from_(base.subquery("b"))
    select = select.join("limits", on=grouping.join("b", "limits"), join_type="inner")
    select = select.where(beyond(side)).order_by(
        sql.ordered(sql.column("strength"), descending=True),
        sql.ordered(sql.column(SUBJECT + "file")),
        sql.ordered(sql.column(SUBJECT + "line")),
    )
    return population.query(select, limits=limits)


BINS = 60


def ends_of(grouping: Grouping) -> tuple[str, ...]:
    """Shares between which the middle of a histogram lies; groups have none."""
    return () if grouping.labels else ("0.005", "0.995")


def histogram(
    population: Population,
    base: exp.Select,
    scale: int,
    bounds: tuple[int, int],
    ends: Sequence[int],
) -> dict[str, Any]:
    """Counts of all rows used in equal bins, for a figure.

    The bins cover the limits and the middle 99 % of the rows, which lie between ``ends``; what
    lies outside is counted as ``below`` and ``above``, so that the counts add to n.
    """
    units = sql.column(UNITS, "b")
    least, greatest = int(min(ends[0], bounds[0])), int(max(ends[1], bounds[1])) + 1
    width = max((greatest - least) // BINS, 1)
    off = exp.Sub(this=units.copy(), expression=sql.integer(least))
    place = exp.Floor(
        this=exp.Div(this=sql.cast(exp.paren(off), "DOUBLE"), expression=sql.integer(width))
    )
    clipped = exp.Greatest(
        this=sql.integer(-1),
        expressions=[exp.Least(this=sql.cast(place, "BIGINT"), expressions=[sql.integer(BINS)])],
    )
    inner = exp.select(exp.alias_(clipped, "bin")).from_(base.subquery("b"))
    select = (
        exp.select("bin", exp.alias_(sql.count(), "n")).from_(inner.subquery("c")).group_by("bin")
    )
    counts = {row["bin"]: row["n"] for row in population.query(select).to_pylist()}
    unit = 10**scale
    return {
        "edges": [(least + i * width) / unit for i in range(BINS + 1)],
        "counts": [counts.get(i, 0) for i in range(BINS)],
        "below": counts.get(-1, 0),
        "above": counts.get(BINS, 0),
    }
