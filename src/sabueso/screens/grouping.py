"""What tests on one measure share: groups, exact sums per group, and the rows beyond limits."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn
from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table

UNITS = "units"


def named_by(table: Table, role: Role, otherwise: str) -> str:
    """The column of a role as an expression names it.

    Raises
    ------
    UserError
        If there is none; ``otherwise`` is what to say instead.
    """
    column = table.role(role)
    if column is None:
        raise UserError(f"table {table.name!r} names no {role}; {otherwise}")
    return expressions.quoted_name(column.name)


def dated(table: Table, test: str) -> Column:
    """The column of the role date.

    Raises
    ------
    UserError
        If there is none, or it holds no dates.
    """
    column = table.dated()
    if column is None:
        raise UserError(f"{test} needs a date in the role date; table {table.name!r} has none")
    return column


@dataclass(frozen=True)
class Grouping:
    """Group columns of a screen, as SQL values named g0, g1, …"""

    labels: tuple[str, ...]
    trees: tuple[Tree, ...]
    known: tuple[str, ...] = ()
    """The table's columns, which tell a name from an expression."""

    @classmethod
    def of(cls, by: Sequence[str], table: Table) -> Grouping:
        trees = {expressions.label(text, table): expressions.scalar(text, table) for text in by}
        return cls(tuple(trees), tuple(trees.values()), tuple(c.name for c in table.columns))

    @property
    def names(self) -> list[str]:
        return [f"g{i}" for i in range(len(self.labels))]

    def values(self) -> dict[str, Tree]:
        """Named values for the base of a query."""
        return dict(zip(self.names, self.trees, strict=True))

    def columns(self, table: str | None = None) -> list[exp.Column]:
        return [sql.column(name, table) for name in self.names]

    def keys(self, result: pa.Table) -> list[ByColumn]:
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
    found = [
        population.query(per_group(part, grouping, fields), **inputs, **more)
        for part, more in slices(population, base, grouping, rows, **inputs)
    ]
    return found[0] if len(found) == 1 else pa.concat_tables(found)


def slices(
    population: Population, base: exp.Select, grouping: Grouping, rows: int, **inputs: pa.Table
) -> Iterator[tuple[exp.Select, dict[str, pa.Table]]]:
    """A base in slices of whole groups, in order, each with the input table that cuts it out."""
    if not grouping.labels or rows <= SLICE_ROWS:
        yield base, {}
        return
    sizes = population.query(per_group(base, grouping, {"n": sql.count()}), **inputs)
    for first, last in cuts(sizes.column("n").to_numpy(), SLICE_ROWS):
        part = sizes.slice(first, last - first).select(grouping.names)
        yield only_groups(base, grouping, "slice"), {"slice": part}


def cuts(sizes: np.ndarray, most: int) -> list[tuple[int, int]]:
    """Groups in runs of no more than so many rows: the first of each and where it ends. A group that has
    more is a run of its own.

    Examples
    --------
    >>> cuts(np.array([3, 4, 9, 1, 1]), 7)
    [(0, 2), (2, 3), (3, 5)]
    """
    found, start = [], 0
    while start < len(sizes):
        inside = np.cumsum(sizes[start:]) <= most
        end = start + max(int(inside.sum()), 1)
        found.append((start, end))
        start = end
    return found


def only_groups(base: exp.Select, grouping: Grouping, table: str) -> exp.Select:
    """The rows of a base whose group is in an input table."""
    kept = exp.select(*(sql.column(name, "s") for name in base.named_selects))
    kept = kept.from_(base.subquery("s"))
    return kept.join(table, on=grouping.join("s", table), join_type="inner")


def group_table(groups: Grouping, keys: Sequence[ByColumn]) -> dict[str, pa.Array]:
    """The columns of an input table that name groups, one row for each key."""
    return {
        name: pa.array([key[label] for key in keys])
        for name, label in zip(groups.names, groups.labels, strict=True)
    }


def values_at(
    population: Population, base: exp.Select, grouping: Grouping, wanted: pa.Table
) -> dict[tuple[int, int], int]:
    """Order statistics: ``wanted`` has the group's columns, its ``position`` and a ``rank`` from 1.

    Found along the distinct units and their running counts, which are fewer than the rows.
    """
    running = exp.Window(
        this=exp.Sum(this=sql.column("n", "d")),
        partition_by=[sql.column(name, "d") for name in grouping.names],
        order=exp.Order(expressions=[sql.ordered(sql.column(UNITS, "d"))]),
    )
    counted = exp.select(
        *(sql.column(name, "d") for name in grouping.names),
        sql.column(UNITS, "d"),
        sql.column("n", "d"),
        exp.alias_(running, "upto"),
    ).from_(distinct_units(base, grouping).subquery("d"))
    rank, upto = sql.column("rank", "wanted"), sql.column("upto", "r")
    before = exp.Sub(this=upto.copy(), expression=sql.column("n", "r"))
    here = [exp.GTE(this=upto, expression=rank), exp.LT(this=before, expression=rank.copy())]
    select = exp.select(
        sql.column("position", "wanted"), rank.copy(), sql.column(UNITS, "r")
    ).from_(counted.subquery("r"))
    select = select.join("wanted", on=sql.both([grouping.join("r", "wanted"), *here]))
    return {
        (row["position"], row["rank"]): row[UNITS]
        for row in population.query(select, wanted=wanted).to_pylist()
    }


def rank_table(
    groups: Grouping, keys: Sequence[ByColumn], wanted: Sequence[tuple[int, int]]
) -> pa.Table:
    """The input of :func:`values_at`: (position of the group, rank) of each value wanted."""
    return pa.table(
        {
            **group_table(groups, [keys[place] for place, _ in wanted]),
            "position": pa.array([place for place, _ in wanted], pa.int64()),
            "rank": pa.array([rank for _, rank in wanted], pa.int64()),
        }
    )


def distinct_units(base: exp.Select, grouping: Grouping) -> exp.Select:
    """Distinct units of each group with their counts."""
    keys = [*grouping.columns("b"), sql.column(UNITS, "b")]
    select = exp.select(*keys, exp.alias_(sql.count(), "n")).from_(base.subquery("b"))
    return select.group_by(*(k.copy() for k in keys))


def runs(result: pa.Table, names: Sequence[str]) -> np.ndarray:
    """The number, from 0, of the group that each row of a result ordered by its groups is in."""
    changes = np.zeros(result.num_rows, dtype=bool)
    for name in names:
        codes = result.column(name).combine_chunks().dictionary_encode().indices.fill_null(-1)
        changes[1:] |= np.diff(codes.to_numpy(zero_copy_only=False)) != 0
    return np.cumsum(changes)


class Keyed(Protocol):
    """Anything that knows the group it belongs to."""

    @property
    def key(self) -> ByColumn: ...


def key_table(groups: Grouping, items: Sequence[Keyed], columns: dict[str, Any]) -> pa.Table:
    """Group keys and figures of some groups as an input table of a query."""
    return pa.table({**group_table(groups, [item.key for item in items]), **columns})


def without_key(grouping: Grouping) -> Reason:
    """Rows that lack a column of a grouping."""
    lacking = (sql.is_missing(tree.copy()) for tree in grouping.trees)
    return Reason("missing_key", exp.or_(*lacking))


def without_date(when: Column) -> Reason:
    """Rows that lack the date."""
    return Reason("missing_date", sql.is_missing(sql.column(when.name)))


def without_date_or_key(measure: Column, when: Column, grouping: Grouping) -> list[Reason]:
    """Rows that lack the measure, the date or a column of a grouping."""
    return [missing(measure), without_date(when), without_key(grouping)]
