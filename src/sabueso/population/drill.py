"""Drill-down: totals by group, narrower groups within, any column across, and the rows themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from fractions import Fraction
from typing import Any, Literal

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.base.plain import Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Account, Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, exactly_scaled

Measure = Literal["sum", "count", "mean", "min", "max"]
MEASURES: tuple[Measure, ...] = ("sum", "count", "mean", "min", "max")


@dataclass
class Node:
    """A group: its key, rows, value, values across, and the groups within it."""

    key: list[Any]
    rows: int
    value: Any
    across: dict[str, Any] = field(default_factory=dict)
    children: list[Node] = field(default_factory=list)


@dataclass(frozen=True)
class Drill:
    """A drill-down. ``total`` holds the groups; its value is that of all rows used."""

    table: str
    on: str | None
    measure: Measure
    by: list[str]
    across: str | None
    across_values: list[str]
    population: Account
    total: Node
    currency: str
    scale: int


@exactly
def drill(
    population: Population,
    *,
    by: Sequence[str] = (),
    across: str | None = None,
    measure: Measure = "sum",
    on: str | None = None,
) -> Drill:
    """Totals by group, to any depth.

    Parameters
    ----------
    by : sequence of str
        Group columns, the widest first: each further one opens the groups of those before.
    across : str, optional
        A column, or year, quarter, month, weekday, whose values become columns.
    measure : str
        ``sum`` (exact), ``count``, ``mean``, ``min`` or ``max`` of ``on``.
    on : str, optional
        The measure's column; default the role amount; not needed for ``count``.

    Raises
    ------
    UserError
        If a column is unknown or no number.
    """
    table = population.table
    column = None if measure == "count" and on is None else table.measure(on)
    trees = [expressions.scalar(text, table) for text in by]
    wide = expressions.scalar(across, table, "--across") if across else None
    scale = column.scale if column else 0
    total = Node([], 0, None)
    found: dict[tuple[Any, ...], Node] = {(): total}
    for depth in range(len(by) + 1):
        for key, _, row in _level(population, trees[:depth], None, column):
            node = found.setdefault(key, Node(list(key), 0, None))
            node.rows, node.value = row["n"], _value(row, measure, scale)
            if depth:
                found[key[:-1]].children.append(node)
    names: list[str] = []
    if wide is not None:
        seen: set[str] = set()
        for depth in range(len(by) + 1):
            for key, cell, row in _level(population, trees[:depth], wide, column):
                name = "(missing)" if cell is None else str(cell)
                seen.add(name)
                found[key].across[name] = _value(row, measure, scale)
        names = sorted(seen, key=lambda name: (name == "(missing)", name))
    for node in found.values():
        node.across = {name: node.across[name] for name in names if name in node.across}
        # Periods in their own order, other groups by size.
        depth = len(node.key)
        if depth < len(by) and by[depth].strip().lower() in sql.PERIODS:
            node.children.sort(key=lambda n: (n.key[-1] is None, str(n.key[-1])))
        else:
            node.children.sort(key=lambda n: (-abs(n.value or 0), str(n.key)))
    return Drill(
        table=table.name,
        on=column.name if column else None,
        measure=measure,
        by=[expressions.label(text, table) for text in by],
        across=across,
        across_values=names,
        population=population.account(column),
        total=total,
        currency=table.currency,
        scale=scale,
    )


def _level(
    population: Population, trees: Sequence[Tree], wide: Tree | None, column: Column | None
) -> list[tuple[tuple[Any, ...], Any, Cells]]:
    """(key, value across, figures) of each group at one depth."""
    values = {f"g{i}": tree.copy() for i, tree in enumerate(trees)}
    if wide is not None:
        values["wide"] = wide.copy()
    values["amount"] = sql.column(column.name) if column else sql.integer(0)
    fields: list[Tree] = [sql.column(name) for name in values if name != "amount"]
    amount = sql.column("amount")
    # Sums of the decimals themselves: those of more than 18 digits have no 64-bit minor units.
    total = sql.cast(exp.Sum(this=amount), f"DECIMAL(38,{column.scale if column else 0})")
    figures = [
        exp.alias_(sql.count(), "n"),
        exp.alias_(exp.Count(this=amount.copy()), "filled"),
        exp.alias_(total, "total"),
        exp.alias_(exp.Min(this=amount.copy()), "least"),
        exp.alias_(exp.Max(this=amount.copy()), "greatest"),
    ]
    select = exp.select(*fields, *figures).from_(population.base(values).subquery("b"))
    if fields:
        select = select.group_by(*(f.copy() for f in fields))
    rows = population.query(select).to_pylist()
    return [(tuple(row[f"g{i}"] for i in range(len(trees))), row.get("wide"), row) for row in rows]


def _value(row: Cells, measure: Measure, scale: int) -> Decimal | float | int | None:
    if measure == "count":
        return int(row["n"])
    if row["filled"] == 0:
        return None
    if measure == "sum":
        return exactly_scaled(row["total"], scale)
    if measure == "mean":
        return float(Fraction(row["total"]) / row["filled"])
    return exactly_scaled(row["least" if measure == "min" else "greatest"], scale)


@dataclass(frozen=True)
class Rows:
    """Rows of a population, largest amount first. ``population`` counts all that are selected."""

    table: str
    columns: list[Column]
    rows: list[Cells]
    population: Account
    on: str | None
    currency: str


@exactly
def rows(
    population: Population, *, limit: int = 20, on: str | None = None, columns: Sequence[str] = ()
) -> Rows:
    """The rows themselves, with the file and line each came from.

    Raises
    ------
    UserError
        If a column is unknown or the limit is not positive.
    """
    if limit < 1:
        raise UserError(f"--limit {limit}: expected at least 1")
    table = population.table
    measure = table.measure(on) if on or "amount" in table.roles else None
    chosen = [table.column(name) for name in columns] or [
        c for c in table.columns if not c.is_place
    ]
    shown = [c for c in chosen if c.name not in (FILE_COLUMN, LINE_COLUMN)]
    shown += [c for c in table.columns if c.name in (FILE_COLUMN, LINE_COLUMN)]
    select = population.base({c.name: sql.column(c.name) for c in shown})
    order = sql.place()
    if measure is not None:
        size = exp.Abs(this=sql.column(measure.name))
        order = [sql.ordered(size, descending=True), *order]
    found = population.query(select.order_by(*order).limit(limit))
    return Rows(
        table=table.name,
        columns=shown,
        rows=found.to_pylist(),
        population=population.account(measure),
        on=measure.name if measure else None,
        currency=table.currency,
    )
