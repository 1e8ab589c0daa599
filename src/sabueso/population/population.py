"""The population of a screen: a table, a condition, and an exact account of what was left out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.engines import Engine, QueryError
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table, money

SET_ASIDE = "set_aside"


@dataclass(frozen=True)
class Reason:
    """Why rows are left out: a stable code, and the condition that selects them."""

    code: str
    condition: Tree


@dataclass(frozen=True)
class Account:
    """``rows = used + Σ left_out``, counted and summed by the engine in one pass.

    Amounts are sums of the measure, exact; None where there is no measure.
    """

    rows: int
    used: int
    left_out: dict[str, int]
    total: Decimal | None = None
    used_total: Decimal | None = None
    left_out_totals: dict[str, Decimal] = field(default_factory=dict)
    first_date: str | None = None
    last_date: str | None = None


@dataclass(frozen=True)
class Population:
    """Rows of one table that a screen or drill-down looks at.

    ``set_aside`` are row conditions that reviewers took out of later statistics; ``tables`` are
    the case's other tables, for tests that compare with one.
    """

    engine: Engine
    table: Table
    where: str | None = None
    set_aside: tuple[str, ...] = ()
    tables: dict[str, Table] = field(default_factory=dict)

    def conditions(self) -> list[Reason]:
        """Reasons that come before those of any test."""
        reasons = []
        if self.where:
            chosen = expressions.condition(self.where, self.table)
            reasons.append(Reason("outside_where", _not_true(chosen)))
        if self.set_aside:
            aside = [expressions.condition(c, self.table, "set-aside") for c in self.set_aside]
            reasons.append(Reason(SET_ASIDE, exp.or_(*aside)))
        return reasons

    def base(
        self, values: dict[str, Tree], reasons: Sequence[Reason] = (), *, rows: bool = False
    ) -> exp.Select:
        """SELECT the named values of the rows used; with ``rows``, their file and line too."""
        wanted = [exp.alias_(tree, name, quoted=True) for name, tree in values.items()]
        if rows:
            wanted += [sql.column(FILE_COLUMN), sql.column(LINE_COLUMN)]
        kept = [_not_true(r.condition) for r in [*self.conditions(), *reasons]]
        select = exp.select(*wanted).from_(self.source())
        return select.where(sql.both(kept)) if kept else select

    def source(self) -> exp.Table:
        return exp.Table(this=exp.to_identifier(self.table.name, quoted=True))

    def account(self, measure: Column | None, reasons: Sequence[Reason] = ()) -> Account:
        """Count and sum the rows used and left out, by the first reason that applies."""
        choice: Tree
        every = [*self.conditions(), *reasons]
        if every:
            case = exp.Case()
            for reason in every:
                case = case.when(reason.condition, sql.text(reason.code))
            choice = case.else_(sql.text("used"))
        else:
            choice = sql.text("used")
        fields: list[Tree] = [exp.alias_(choice, "reason"), exp.alias_(sql.count(), "rows")]
        if measure is not None:
            total = sql.exact_sum(sql.minor_units(measure))
            fields.append(exp.alias_(total, "total"))
        date = self.table.role("date")
        if date is not None and date.type in ("date", "timestamp"):
            at = sql.cast(sql.column(date.name), "DATE")
            fields += [
                exp.alias_(exp.Min(this=at), "first_date"),
                exp.alias_(exp.Max(this=at.copy()), "last_date"),
            ]
        found = self.query(exp.select(*fields).from_(self.source()).group_by("1")).to_pylist()
        by_code = {row["reason"]: row for row in found}
        used = by_code.get("used", {})
        left = {r.code: by_code[r.code] for r in every if r.code in by_code}

        def amount(row: dict[str, object]) -> Decimal:
            minor = row.get("total")
            return money(int(minor) if isinstance(minor, Decimal) else 0, measure.scale)  # type: ignore[union-attr]

        amounts = {code: amount(row) for code, row in left.items()} if measure else {}
        return Account(
            rows=sum(row["rows"] for row in found),
            used=used.get("rows", 0),
            left_out={code: row["rows"] for code, row in left.items()},
            total=sum((amount(row) for row in found), money(0, measure.scale)) if measure else None,
            used_total=amount(used) if measure else None,
            left_out_totals=amounts,
            first_date=_iso(used.get("first_date")),
            last_date=_iso(used.get("last_date")),
        )

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        """Run a tree; what the data do not allow becomes one sentence."""
        try:
            return self.engine.query(tree, **inputs)
        except QueryError as error:
            part = f" (--where {self.where!r})" if self.where else ""
            raise UserError(f"table {self.table.name!r}{part}: {error}") from error


def missing(column: Column) -> Reason:
    """Rows where the column has no value."""
    return Reason("missing", exp.Is(this=sql.column(column.name), expression=exp.null()))


def zero(column: Column) -> Reason:
    """Rows where the measure is 0."""
    return Reason("zero", exp.EQ(this=sql.column(column.name), expression=sql.integer(0)))


def _not_true(tree: Tree) -> Tree:
    """True where the tree is false or unknown."""
    return exp.Not(this=exp.paren(exp.Coalesce(this=tree, expressions=[exp.false()])))


def _iso(value: object) -> str | None:
    return None if value is None else str(value)
