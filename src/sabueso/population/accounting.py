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


def counted(of: Counts, measure: Column | None, every: Sequence[Reason]) -> Account:
    """Count and sum the rows used and left out, by the first reason that applies, in one pass."""
    row = _sums(of, measure, every)
    places = {place: reason.code for place, reason in enumerate(every) if row[f"n{place}"]}
    left = {code: int(row[f"n{place}"]) for place, code in places.items()}
    rows, whole = int(row[f"n{len(every)}"]), f"total{len(every)}"
    amounts: dict[str, Decimal] = {}
    total = None
    if measure is not None:
        amounts = {code: _amount(row[f"total{place}"], measure) for place, code in places.items()}
        total = _amount(row[whole], measure)
    return Account(
        rows=rows,
        used=rows - sum(left.values()),
        left_out=left,
        total=total,
        used_total=None if total is None else total - sum(amounts.values(), 0 * total),
        left_out_totals=amounts,
        first_date=_iso(row.get("first")),
        last_date=_iso(row.get("last")),
    )


def _sums(of: Counts, measure: Column | None, every: Sequence[Reason]) -> dict[str, Any]:
    """Rows and their sum by the place of the first reason that applies, of all in the place after the last reason, and
    the first and last dates of the rows that none leaves out."""
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
    rows = exp.select(*(exp.alias_(tree, name) for name, tree in inside.items()), copy=False)
    rows = rows.from_(of.source(), copy=False)
    sums: dict[str, Tree] = {"n": sql.count()}
    if measure is not None:
        sums["total"] = exp.Sum(this=sql.column("measure"))
    if day is not None:
        sums |= {"first": exp.Min(this=sql.column("day")), "last": exp.Max(this=sql.column("day"))}
    kinds = {"total": f"DECIMAL(38,{measure.scale})"} if measure is not None else {}
    ask = _by_condition if getattr(of.engine, "moves_groups", False) and every else _by_group
    return ask(of, rows, sums, kinds, len(every))


def _by_group(
    of: Counts, rows: exp.Select, sums: Mapping[str, Tree], kinds: Mapping[str, str], last: int
) -> dict[str, Any]:
    """A group of each place; what all rows come to is made of them."""
    fields = [exp.alias_(_of_kind(tree, kinds.get(name)), name) for name, tree in sums.items()]
    select = exp.select(sql.column("place"), *fields, copy=False)
    select = select.from_(rows.subquery("b"), copy=False).group_by(sql.column("place"), copy=False)
    found = of.query(select).to_pylist()
    every: dict[str, Any] = {f"n{place}": 0 for place in range(last + 1)}
    every |= {f"total{place}": None for place in range(last + 1)}
    for row in found:
        every |= {f"n{row['place']}": row["n"], f"total{row['place']}": row.get("total")}
        if row["place"] == last:
            every |= {"first": row.get("first"), "last": row.get("last")}
    every[f"n{last}"] = sum(row["n"] for row in found)
    totals = [row["total"] for row in found if row.get("total") is not None]
    every[f"total{last}"] = sum(totals[1:], totals[0]) if totals else None
    return every


def _by_condition(
    of: Counts, rows: exp.Select, sums: Mapping[str, Tree], kinds: Mapping[str, str], last: int
) -> dict[str, Any]:
    """One row of sums with conditions: of all, and of those few that a reason leaves out."""
    fields: dict[str, Tree] = {}
    for place in range(last + 1):
        here = exp.EQ(this=sql.column("place"), expression=sql.integer(place))
        for name in ("n", "total"):
            if name in sums:
                own = sums[name].copy()
                own = own if place == last else sql.only(own, here.copy())
                fields[f"{name}{place}"] = _of_kind(own, kinds.get(name))
    for name in ("first", "last"):
        if name in sums:
            fields[name] = sql.only(sums[name], here.copy())
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()), copy=False)
    (row,) = of.query(select.from_(rows.subquery("b"), copy=False)).to_pylist()
    found: dict[str, Any] = row
    return found


def _of_kind(tree: Tree, kind: str | None) -> Tree:
    return tree if kind is None else sql.cast(tree, kind)


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
