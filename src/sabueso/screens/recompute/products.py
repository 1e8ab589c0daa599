"""Rows whose amount is not what an expression gives, or whose balance does not follow from the one before."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.finding import Flags
from sabueso.screens.limits import table as lim

WIDE = "DECIMAL(38,6)"
MOST_KEPT = 1_000_000


@dataclass(frozen=True)
class Compared:
    """Rows compared: how many, how many differ, by how much in all; and those as flags."""

    reasons: list[Reason]
    checked: int
    not_checked: int
    differing: int
    total: Decimal
    flags: Flags


def products(
    population: Population, measure: Column, expression: str | None, tolerance: Decimal | None
) -> Compared:
    """Rows whose measure is not quantity times price, or what ``expression`` gives.

    Each factor is known to half a unit of its last decimal, and so is the amount: the product may
    differ by what that makes of it. Whole quantities are counts, and exact.

    Raises
    ------
    UserError
        If there is no expression, and the table has no quantity and price.
    """
    expected, allowed = _expected(population, measure, expression)
    if tolerance is not None:
        allowed = sql.cast(sql.number(tolerance), "DOUBLE")
    reasons = [missing(measure)]
    values: dict[str, Tree] = {"expected": sql.cast(expected, WIDE), "allowed": allowed}
    return _compared(population, measure, values, reasons)


def balances(
    population: Population,
    measure: Column,
    balance: Column,
    per: list[str],
    tolerance: Decimal | None,
) -> Compared:
    """Rows whose balance is not the one before it, of the same ``per``, and their amount.

    Rows go by the role date where there is one, then as they stand in the sources. The first of each
    has none before it.
    """
    table = population.table
    date = table.dated()
    order = [] if date is None else [sql.ordered(sql.column(date.name))]
    keys = [expressions.scalar(text, table, "--per") for text in per]
    before = exp.Window(
        this=sql.call("LAG", sql.column(balance.name)),
        partition_by=keys,
        order=exp.Order(expressions=[*order, *sql.place()]),
    )
    expected = exp.Add(
        this=sql.cast(before, WIDE), expression=sql.cast(sql.column(measure.name), WIDE)
    )
    values: dict[str, Tree] = {
        "expected": expected,
        "allowed": sql.cast(sql.number(tolerance or Decimal(0)), "DOUBLE"),
    }
    return _compared(population, balance, values, [missing(measure), missing(balance)])


def _expected(population: Population, measure: Column, expression: str | None) -> tuple[Tree, Tree]:
    """What the measure should be, and by how much rounding may move it."""
    half = sql.cast(sql.number(Decimal("0.5").scaleb(-measure.scale)), "DOUBLE")
    if expression is not None:
        return expressions.scalar(expression, population.table, "--expect"), half
    table = population.table
    quantity, price = table.role("quantity"), table.role("price")
    if quantity is None or price is None:
        from sabueso.base.errors import UserError

        raise UserError(
            f"recompute needs --expect SQL, or columns in the roles quantity and price; table {table.name!r} has "
            "not both"
        )
    wide = {c: sql.cast(sql.column(c.name), WIDE) for c in (quantity, price)}
    product = exp.Mul(this=wide[quantity], expression=wide[price])
    allowed: Tree = half
    for one, other in ((quantity, price), (price, quantity)):
        if one.scale:
            size = sql.cast(exp.Abs(this=sql.column(other.name)), "DOUBLE")
            unit = sql.cast(sql.number(Decimal("0.5").scaleb(-one.scale)), "DOUBLE")
            allowed = exp.Add(this=allowed, expression=exp.Mul(this=size, expression=unit))
    return product, exp.paren(allowed)


def _compared(
    population: Population, measure: Column, values: dict[str, Tree], reasons: list[Reason]
) -> Compared:
    columns = lim.RowColumns.of(population.table, measure)
    trees = {**columns.trees(), "recorded": sql.cast(sql.column(measure.name), WIDE), **values}
    base = population.base(trees, reasons)
    difference = exp.Sub(this=sql.column("recorded", "b"), expression=sql.column("expected", "b"))
    inner = exp.select(
        *(sql.column(name, "b") for name in trees),
        exp.alias_(sql.cast(difference, WIDE), "difference", quoted=True),
    ).from_(base.subquery("b"))
    size = sql.cast(exp.Abs(this=sql.column("difference", "d")), "DOUBLE")
    known = exp.Not(this=sql.is_missing(sql.column("difference", "d")))
    # What floats make of decimals that are equal lies far below half a unit.
    far = exp.GT(
        this=size,
        expression=exp.Add(this=sql.column("allowed", "d"), expression=exp.Literal.number("1e-9")),
    )
    counted = exp.select(
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.only(sql.count(), known), "known"),
        exp.alias_(sql.only(sql.count(), far), "differing"),
        exp.alias_(
            exp.Sum(this=exp.Case().when(far.copy(), sql.column("difference", "d"))), "total"
        ),
    ).from_(inner.subquery("d"))
    row = population.query(counted).to_pylist()[0]
    wanted = [*trees, "difference"]
    select = exp.select(*(sql.column(name, "d") for name in wanted)).from_(
        inner.copy().subquery("d")
    )
    select = select.where(far.copy()).order_by(
        sql.ordered(size.copy(), descending=True),
        sql.ordered(sql.column("row_file", "d")),
        sql.ordered(sql.column("row_line", "d")),
    )
    found = population.query(select.limit(MOST_KEPT))
    return Compared(
        reasons=reasons,
        checked=int(row["known"]),
        not_checked=int(row["n"]) - int(row["known"]),
        differing=int(row["differing"]),
        total=Decimal(row["total"] or 0),
        flags=_flags(columns, found),
    )


def _flags(columns: lim.RowColumns, found: pa.Table) -> Flags:
    gathered = columns.gathered(found)
    differences = gathered.column("difference").to_pylist()
    kept = gathered.drop_columns(["allowed"])
    own: dict[str, Any] = {
        "score": pa.array([float(abs(d)) for d in differences], pa.float64()),
        "limit": pa.nulls(len(differences), pa.float64()),
        "direction": pa.array(["above" if d > 0 else "below" for d in differences], pa.string()),
        "p": pa.nulls(len(differences), pa.float64()),
        "p_adjusted": pa.nulls(len(differences), pa.float64()),
    }
    for name, values in own.items():
        kept = kept.append_column(name, values)
    return Flags("row", kept)
