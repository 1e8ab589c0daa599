"""An exact account of a population: the rows and amounts that are used, and those left out by their reasons."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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
    def engine(self) -> Any: ...

    @property
    def table(self) -> Table: ...

    def source(self) -> exp.Table: ...

    def query(self, tree: exp.Expr) -> pa.Table: ...


Figures = Mapping[str, Any]
"""Rows (n), their sum (total), and their first and last day, the latter three where there are such columns."""


def counted(of: Counts, measure: Column | None, every: Sequence[Reason]) -> Account:
    """Count and sum the rows used and left out, by the first reason that applies, in one pass."""
    *found, used = _by_place(of, measure, every)
    left = {reason.code: row for reason, row in zip(every, found, strict=True) if row["n"]}
    amounts: dict[str, Decimal] = {}
    used_total = None
    if measure is not None:
        amounts = {code: _amount(row["total"], measure) for code, row in left.items()}
        used_total = _amount(used["total"], measure)
    return Account(
        rows=used["n"] + sum(row["n"] for row in left.values()),
        used=used["n"],
        left_out={code: row["n"] for code, row in left.items()},
        total=None if used_total is None else sum(amounts.values(), used_total),
        used_total=used_total,
        left_out_totals=amounts,
        first_date=_iso(used.get("first")),
        last_date=_iso(used.get("last")),
    )


def _by_place(of: Counts, measure: Column | None, every: Sequence[Reason]) -> list[Figures]:
    """What the rows of each place are: of the first reason that applies, and last those of none."""
    # Under names of our own: a client's column may be called as the place is.
    inside: dict[str, Tree] = {"place": sql.integer(len(every))}
    if every:
        case = exp.Case()
        for place, reason in enumerate(every):
            case = case.when(reason.condition, sql.integer(place), copy=False)
        inside["place"] = case.else_(sql.integer(len(every)), copy=False)
    if measure is not None:
        inside["measure"] = sql.column(measure.name)
    if (day := _day(of.table)) is not None:
        inside["day"] = day
    rows = exp.select(*_named(inside)).from_(of.source()).subquery("b")
    places = range(len(every) + 1)
    if every and getattr(of.engine, "moves_groups", False):
        fields = {
            f"{name}{place}": tree
            for place in places
            for name, tree in _figures(measure, day, place).items()
        }
        (row,) = of.query(exp.select(*_named(fields)).from_(rows)).to_pylist()
        names = _figures(measure, day)
        return [{name: row[f"{name}{place}"] for name in names} for place in places]
    select = exp.select(sql.column("place"), *_named(_figures(measure, day))).from_(rows)
    found = of.query(select.group_by(sql.column("place"))).to_pylist()
    by_place = {row["place"]: row for row in found}
    return [by_place.get(place, {"n": 0, "total": None}) for place in places]


def _figures(measure: Column | None, day: Tree | None, place: int | None = None) -> dict[str, Tree]:
    """Figures of rows, or of those of one place."""

    def of(figure: Tree) -> Tree:
        if place is None:
            return figure
        return sql.only(figure, exp.EQ(this=sql.column("place"), expression=sql.integer(place)))

    found = {"n": of(sql.count())}
    if measure is not None:
        total = of(exp.Sum(this=sql.column("measure")))
        found["total"] = sql.cast(total, f"DECIMAL(38,{measure.scale})")
    if day is not None:
        found["first"] = of(exp.Min(this=sql.column("day")))
        found["last"] = of(exp.Max(this=sql.column("day")))
    return found


def _named(fields: Mapping[str, Tree]) -> list[exp.Expr]:
    return [exp.alias_(tree, name) for name, tree in fields.items()]


def _day(table: Table) -> Tree | None:
    """The day of a row, where the table has a date."""
    date = table.dated()
    if date is None:
        return None
    day: Tree = sql.column(date.name)
    return sql.cast(day, "DATE") if date.type == "timestamp" else day


def _amount(total: Decimal | None, measure: Column) -> Decimal:
    return money(0, measure.scale) if total is None else total


def _iso(value: object) -> str | None:
    return None if value is None else str(value)
