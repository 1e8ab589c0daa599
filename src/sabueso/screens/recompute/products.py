"""Rows whose amount is not what an expression gives, or whose balance does not follow from the one before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.finding import Flags
from sabueso.screens.in_order import order_of
from sabueso.screens.limits import table as lim

LEAST_SCALE = 6
"""Decimals to which what is expected is computed, where the columns have no more."""
MOST_KEPT = 1_000_000


def wide(*columns: Column | None) -> str:
    """A decimal that loses nothing of these columns."""
    return f"DECIMAL(38,{max([LEAST_SCALE, *(c.scale for c in columns if c is not None)])})"


def products(
    population: Population, measure: Column, expression: str | None, tolerance: Decimal | None
) -> Comparison:
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
    values: dict[str, Tree] = {"expected": sql.cast(expected, wide(measure)), "allowed": allowed}
    return Comparison(population, measure, values, reasons)


@dataclass(frozen=True)
class Runs:
    """How balances run: with the amount or less it, and the oldest row first in the sources or the newest."""

    less: bool = False
    newest_first: bool = False

    def told(self, balance: str, step: str) -> str:
        first = ", the newest first," if self.newest_first else ""
        return f"{balance}{first} {'less' if self.less else 'with'} {step}"


def balances(
    population: Population,
    measure: Column,
    balance: Column,
    per: list[str],
    tolerance: Decimal | None,
) -> tuple[Comparison, Runs]:
    """Rows whose balance is not the one before it, of the same ``per``, and their amount.

    Rows go by the role date where there is one, then as they stand in the sources. The first of each
    has none before it. Amounts may be added or taken off, and statements may begin with the newest row: of
    these ways the one is taken by which the fewest rows differ, the plainest of equally good ones.
    """
    ways = {
        runs: _balances(population, measure, balance, per, tolerance, runs)
        for runs in (Runs(), Runs(less=True), Runs(False, True), Runs(True, True))
    }
    best = min(ways, key=lambda runs: ways[runs].differing)
    return ways[best], best


def _balances(
    population: Population,
    measure: Column,
    balance: Column,
    per: list[str],
    tolerance: Decimal | None,
    runs: Runs,
) -> Comparison:
    table = population.table
    keys = [expressions.scalar(text, table, "--per") for text in per]
    before = exp.Window(
        this=sql.call("LAG", sql.column(balance.name)),
        partition_by=keys,
        order=exp.Order(expressions=order_of(table, newest_first=runs.newest_first)),
    )
    step, kind = exp.Sub if runs.less else exp.Add, wide(measure, balance)
    expected = step(
        this=sql.cast(before, kind), expression=sql.cast(sql.column(measure.name), kind)
    )
    values: dict[str, Tree] = {
        "expected": expected,
        "allowed": sql.cast(sql.number(tolerance or Decimal(0)), "DOUBLE"),
    }
    return Comparison(population, balance, values, [missing(measure), missing(balance)])


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
    factors = (sql.cast(sql.column(c.name), wide(c)) for c in (quantity, price))
    product = exp.Mul(this=next(factors), expression=next(factors))
    allowed: Tree = half
    for one, other in ((quantity, price), (price, quantity)):
        if one.scale:
            size = sql.cast(exp.Abs(this=sql.column(other.name)), "DOUBLE")
            unit = sql.cast(sql.number(Decimal("0.5").scaleb(-one.scale)), "DOUBLE")
            allowed = exp.Add(this=allowed, expression=exp.Mul(this=size, expression=unit))
    return product, exp.paren(allowed)


class Comparison:
    """A measure beside what it should be, row by row: counted first, its rows asked for where they are wanted."""

    def __init__(
        self,
        population: Population,
        measure: Column,
        values: dict[str, Tree],
        reasons: list[Reason],
    ) -> None:
        self._population, self.reasons = population, reasons
        self._columns = lim.RowColumns.of(population.table, measure)
        kind = wide(measure)
        recorded = sql.cast(sql.column(measure.name), kind)
        trees = {**self._columns.trees(), "recorded": recorded, **values}
        base = population.base(trees, reasons)
        expected = sql.column("expected", "b")
        difference = exp.Sub(this=sql.column("recorded", "b"), expression=expected)
        self._inner = exp.select(
            *(sql.column(name, "b") for name in trees),
            exp.alias_(sql.cast(difference, kind), "difference", quoted=True),
        ).from_(base.subquery("b"))
        self._wanted = [*trees, "difference"]
        self._size = sql.cast(exp.Abs(this=sql.column("difference", "d")), "DOUBLE")
        # What floats make of decimals that are equal lies far below half a unit.
        none = f"1e-{max(LEAST_SCALE, measure.scale) + 3}"
        most = exp.Add(this=sql.column("allowed", "d"), expression=exp.Literal.number(none))
        self._far = exp.GT(this=self._size, expression=most)

    @property
    def checked(self) -> int:
        """Rows with what it takes to compute."""
        return int(self._counted["known"])

    @property
    def not_checked(self) -> int:
        return int(self._counted["n"]) - self.checked

    @property
    def differing(self) -> int:
        return int(self._counted["differing"])

    @property
    def something(self) -> int:
        """Of those checked, the rows in which what is recorded, or what it should be, is not nothing."""
        return int(self._counted["something"])

    @property
    def total(self) -> Decimal:
        """By how much they differ in all."""
        return Decimal(self._counted["total"] or 0)

    @cached_property
    def _counted(self) -> Mapping[str, Any]:
        """Rows, those with a difference to look at, those that differ, and by how much in all."""
        known = exp.Not(this=sql.is_missing(sql.column("difference", "d")))
        differing = exp.Case().when(self._far.copy(), sql.column("difference", "d"))
        some = exp.or_(
            *(
                exp.NEQ(this=sql.column(name, "d"), expression=sql.integer(0))
                for name in ("recorded", "difference")
            )
        )
        counted = exp.select(
            exp.alias_(sql.count(), "n"),
            exp.alias_(sql.only(sql.count(), known), "known"),
            exp.alias_(sql.only(sql.count(), exp.and_(known.copy(), some)), "something"),
            exp.alias_(sql.only(sql.count(), self._far.copy()), "differing"),
            exp.alias_(exp.Sum(this=differing), "total"),
        ).from_(self._inner.subquery("d"))
        row: Mapping[str, Any] = self._population.query(counted).to_pylist()[0]
        return row

    @cached_property
    def flags(self) -> Flags:
        """The rows that differ, furthest first."""
        select = exp.select(*(sql.column(name, "d") for name in self._wanted))
        select = select.from_(self._inner.copy().subquery("d")).where(self._far.copy())
        select = select.order_by(
            sql.ordered(self._size.copy(), descending=True),
            sql.ordered(sql.column("row_file", "d")),
            sql.ordered(sql.column("row_line", "d")),
        )
        return _flags(self._columns, self._population.query(select.limit(MOST_KEPT)))


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
