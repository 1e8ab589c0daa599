"""An exact account of a population: the rows and amounts that are used, and those left out by their reasons."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Protocol

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import Json
from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, money


@dataclass(frozen=True)
class Reason:
    """Why rows are left out: a stable code, and the condition that selects them."""

    code: str
    condition: Tree


@dataclass(frozen=True)
class Account:
    """``rows = used + Σ left_out``, counted and summed by the engine.

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

    def as_json(self) -> Json:
        """The ``population`` of a result; exact amounts as text."""
        totals = {"total": self.total, "used_total": self.used_total}
        shown = {name: None if v is None else format(v, "f") for name, v in totals.items()}
        return {"rows": self.rows, "used": self.used, "left_out": self.left_out, **shown}


class Counts(Protocol):
    """What asks an engine for the rows of a table."""

    @property
    def table(self) -> Table: ...

    def source(self) -> exp.Table: ...

    def query(self, tree: exp.Expr) -> pa.Table: ...


def counted(of: Counts, measure: Column | None, every: Sequence[Reason]) -> Account:
    """Count and sum the rows used and left out, by the first reason that applies, in one pass."""
    found = _by_reason(of, measure, every)
    used = found.pop(_USED, {"n": 0})
    left = sum(row["n"] for row in found.values())
    amounts, used_total = {}, None
    if measure is not None:
        amounts = {code: _amount(row["total"], measure) for code, row in found.items()}
        used_total = _amount(used.get("total"), measure)
    return Account(
        rows=used["n"] + left,
        used=used["n"],
        left_out={code: row["n"] for code, row in found.items()},
        total=None if used_total is None else sum(amounts.values(), used_total),
        used_total=used_total,
        left_out_totals=amounts,
        first_date=_iso(used.get("first")),
        last_date=_iso(used.get("last")),
    )


_USED = ""
"""In the place of a reason, of the rows that none leaves out."""


def _by_reason(
    of: Counts, measure: Column | None, every: Sequence[Reason]
) -> dict[str, dict[str, Any]]:
    """Rows, their sum, and their first and last dates, by the code of the first reason that applies, in the order of the
    reasons; those of none come last."""
    fields: list[Tree] = [exp.alias_(sql.count(), "n")]
    # Under names of our own: a client's column may be called as the place is.
    inside: dict[str, Tree] = {}
    if measure is not None:
        fields.append(exp.alias_(_total(measure.scale), "total"))
        inside["measure"] = sql.column(measure.name)
    if (day := _day(of.table)) is not None:
        for end, name in ((exp.Min, "first"), (exp.Max, "last")):
            fields.append(exp.alias_(end(this=sql.column("day")), name, quoted=True))
        inside["day"] = day
    if every:
        case = exp.Case()
        for place, reason in enumerate(every):
            case = case.when(reason.condition, sql.integer(place), copy=False)
        inside["place"] = case
    rows = exp.select(*(exp.alias_(t, n) for n, t in (inside or {"one": sql.integer(1)}).items()))
    select = exp.select(*fields).from_(
        rows.from_(of.source(), copy=False).subquery("b"), copy=False
    )
    if every:
        select = select.select(sql.column("place")).group_by(sql.column("place"), copy=False)
    found = {row.get("place"): row for row in of.query(select).to_pylist()}
    codes: dict[int | None, str] = {place: reason.code for place, reason in enumerate(every)}
    return {code: found[place] for place, code in (codes | {None: _USED}).items() if place in found}


def _day(table: Table) -> Tree | None:
    """The day of a row, where the table has a date."""
    date = table.dated()
    if date is None:
        return None
    day: Tree = sql.column(date.name)
    return sql.cast(day, "DATE") if date.type == "timestamp" else day


def _total(scale: int) -> Tree:
    """Σ of the measure, exact."""
    return sql.cast(exp.Sum(this=sql.column("measure")), f"DECIMAL(38,{scale})")


def _amount(total: Decimal | None, measure: Column) -> Decimal:
    return money(0, measure.scale) if total is None else total


def _iso(value: object) -> str | None:
    return None if value is None else str(value)
