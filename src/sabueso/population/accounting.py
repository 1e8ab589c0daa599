"""An exact account of a population: the rows and amounts that are used, and those left out by their reasons."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, NamedTuple, Protocol

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


class Counting(NamedTuple):
    """What an account is asked for: the measure that is summed, if any, and why rows are left out, in the order
    in which it is told of them."""

    measure: Column | None
    reasons: Sequence[Reason] = ()


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
    (found,) = counted_together(of, [Counting(measure, every)])
    return found


def counted_together(of: Counts, every: Sequence[Counting]) -> list[Account]:
    """Several accounts of the rows of one table, in one pass."""
    if len(every) == 1 and every[0].reasons and getattr(of.engine, "moves_groups", False):
        return [_account(every[0], _of_each_place(of, every[0]))]
    return [
        _account(each, places) for each, places in zip(every, _by_places(of, every), strict=True)
    ]


def _account(counting: Counting, places: Sequence[Figures]) -> Account:
    """An account of the figures of rows of each place: of the first reason that applies, and last of none."""
    measure, every = counting
    *found, used = places
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


def _by_places(of: Counts, every: Sequence[Counting]) -> list[list[Figures]]:
    """Figures of the rows of each place of each account: rows alike in all their places are one group."""
    first, *others = every
    place = _place(first.reasons)
    for counting in others:
        many = sql.integer(len(counting.reasons) + 1)
        above = exp.Mul(this=exp.paren(place, copy=False), expression=many)
        own = exp.paren(_place(counting.reasons), copy=False)
        place = exp.Add(this=above, expression=own)
    measures = {c.measure.name: c.measure for c in every if c.measure is not None}
    named = {name: f"measure{i}" for i, name in enumerate(measures)}
    fields = {"n": sql.count()}
    for name, measure in measures.items():
        fields[named[name]] = _total(exp.Sum(this=sql.column(named[name])), measure)
    fields |= _ends(of.table)
    rows = _placed(of, place, named)
    select = exp.select(sql.column("place"), *_named(fields)).from_(rows)
    found = of.query(select.group_by(sql.column("place"))).to_pylist()
    places: list[list[Figures]] = []
    for counting in reversed(every):
        several = len(counting.reasons) + 1
        total = named[counting.measure.name] if counting.measure is not None else None
        groups: list[list[Figures]] = [[] for _ in range(several)]
        for row in found:
            row["place"], own_place = divmod(row["place"], several)
            groups[own_place].append(row)
        places.append([_added(group, total) for group in groups])
    return places[::-1]


def _added(groups: Sequence[Figures], total: str | None) -> Figures:
    """Figures of the rows of some groups together."""
    totals = [g[total] for g in groups if total is not None and g[total] is not None]
    first = [g["first"] for g in groups if g.get("first") is not None]
    last = [g["last"] for g in groups if g.get("last") is not None]
    return {
        "n": sum(g["n"] for g in groups),
        "total": sum(totals) if totals else None,
        "first": min(first, default=None),
        "last": max(last, default=None),
    }


def _of_each_place(of: Counts, counting: Counting) -> list[Figures]:
    """The same of one account, as sums of the whole that look at the place: nothing is grouped."""
    measure, every = counting
    rows = _placed(of, _place(every), {} if measure is None else {measure.name: "measure"})
    fields: dict[str, Tree] = {}
    for place in range(len(every) + 1):
        here = exp.EQ(this=sql.column("place"), expression=sql.integer(place))
        figures = {"n": sql.only(sql.count(), here)}
        if measure is not None:
            summed = sql.only(exp.Sum(this=sql.column("measure")), here.copy())
            figures["total"] = _total(summed, measure)
        ends = _ends(of.table).items()
        figures |= {name: sql.only(tree, here.copy()) for name, tree in ends}
        fields |= {f"{name}{place}": tree for name, tree in figures.items()}
    (row,) = of.query(exp.select(*_named(fields)).from_(rows)).to_pylist()
    names = ("n", "total", "first", "last")
    return [{name: row.get(f"{name}{place}") for name in names} for place in range(len(every) + 1)]


def _placed(of: Counts, place: Tree, measures: Mapping[str, str]) -> exp.Subquery:
    """The rows with their place, their day and some measures, under names of our own: a client's column may be
    called as the place is."""
    inside = {"place": place} | {own: sql.column(name) for name, own in measures.items()}
    day = _day(of.table)
    if day is not None:
        inside["day"] = day
    return exp.select(*_named(inside)).from_(of.source()).subquery("b")


def _place(every: Sequence[Reason]) -> Tree:
    """The number of the first reason that applies to a row; how many there are, where none does."""
    if not every:
        return sql.integer(0)
    case = exp.Case()
    for place, reason in enumerate(every):
        case = case.when(reason.condition, sql.integer(place), copy=False)
    return case.else_(sql.integer(len(every)), copy=False)


def _total(summed: Tree, measure: Column) -> Tree:
    return sql.cast(summed, f"DECIMAL(38,{measure.scale})")


def _ends(table: Table) -> dict[str, Tree]:
    """The first and the last day, where the table has a date."""
    if table.dated() is None:
        return {}
    return {"first": exp.Min(this=sql.column("day")), "last": exp.Max(this=sql.column("day"))}


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
