"""The population of a screen: a table, a condition, and an exact account of what was left out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

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
    accounts: dict[Any, Account] = field(default_factory=dict, repr=False, compare=False)

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
        return self.used(exp.select(*wanted), reasons)

    def used(self, select: exp.Select, reasons: Sequence[Reason] = ()) -> exp.Select:
        """A SELECT from the rows used."""
        kept = [_not_true(r.condition) for r in [*self.conditions(), *reasons]]
        select = select.from_(self.source())
        return select.where(sql.both(kept)) if kept else select

    def source(self) -> exp.Table:
        return exp.Table(this=exp.to_identifier(self.table.name, quoted=True))

    def account(self, measure: Column | None, reasons: Sequence[Reason] = ()) -> Account:
        """Count and sum the rows used and left out, by the first reason that applies, in one pass.

        Screens of one programme that ask the same of the same rows share the answer.
        """
        every = [*self.conditions(), *reasons]
        key = (
            self.table.name,
            measure.name if measure else "",
            *((r.code, r.condition.sql()) for r in every),
        )
        if key not in self.accounts:
            self.accounts[key] = self._counted(measure, every)
        return self.accounts[key]

    def _counted(self, measure: Column | None, every: Sequence[Reason]) -> Account:
        values: dict[str, Tree] = {}
        if measure is not None:
            values["units"] = sql.minor_units(measure)
        date = self.table.role("date")
        if date is not None and date.type in ("date", "timestamp"):
            values["at"] = sql.cast(sql.column(date.name), "DATE")
        case = exp.Case()
        for place, reason in enumerate(every, 1):
            case = case.when(reason.condition, sql.integer(place), copy=False)
        values["left"] = case.else_(sql.integer(0), copy=False) if every else sql.integer(0)
        named = [exp.alias_(tree, name, quoted=True) for name, tree in values.items()]
        inner = exp.select(*named).from_(self.source())
        figures: dict[str, Tree] = {}
        for place in range(len(every) + 1):
            here = exp.EQ(this=sql.column("left"), expression=sql.integer(place))
            figures[f"n{place}"] = sql.only(sql.count(), here)
            if measure is not None:
                figures[f"total{place}"] = sql.exact_sum(
                    exp.Case().when(here.copy(), sql.column("units"))
                )
        if "at" in values:
            used = exp.EQ(this=sql.column("left"), expression=sql.integer(0))
            figures["first"] = sql.only(exp.Min(this=sql.column("at")), used)
            figures["last"] = sql.only(exp.Max(this=sql.column("at")), used.copy())
        fields = [exp.alias_(tree, name, quoted=True) for name, tree in figures.items()]
        row = self.query(exp.select(*fields).from_(inner.subquery("b"))).to_pylist()[0]
        scale = measure.scale if measure is not None else 0
        totals = [money(int(row.get(f"total{i}") or 0), scale) for i in range(len(every) + 1)]
        left = {r.code: i for i, r in enumerate(every, 1) if row[f"n{i}"]}
        return Account(
            rows=sum(row[f"n{i}"] for i in range(len(every) + 1)),
            used=row["n0"],
            left_out={code: row[f"n{i}"] for code, i in left.items()},
            total=sum(totals, money(0, scale)) if measure else None,
            used_total=totals[0] if measure else None,
            left_out_totals={code: totals[i] for code, i in left.items()} if measure else {},
            first_date=_iso(row.get("first")),
            last_date=_iso(row.get("last")),
        )

    @contextmanager
    def staged(self, name: str, tree: exp.Expr) -> Iterator[None]:
        """A result kept in the engine while several queries use it."""
        with self._one_sentence():
            self.engine.stage(name, tree)
        try:
            yield
        finally:
            self.engine.unstage(name)

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        """Run a tree; what the data do not allow becomes one sentence."""
        with self._one_sentence():
            return self.engine.query(tree, **inputs)

    @contextmanager
    def _one_sentence(self) -> Iterator[None]:
        try:
            yield
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
