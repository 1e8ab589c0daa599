"""What the data are, before any test: tables, columns, links between tables, single measures."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn, Cells, Json, Values, plain
from sabueso.population import expressions, sql
from sabueso.population.nothing import is_nothing
from sabueso.population.population import (
    Account,
    Population,
    TooLargeError,
    missing,
    most_exact,
)
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, money
from sabueso.population.units import unit_of
from sabueso.stats.description import Bins, Description, bins, bins_between, describe

TOP = 5
MOST_DISTINCT = 5_000_000
"""Distinct amounts up to which a measure is described: they are held in memory, 16 bytes each."""


@dataclass(frozen=True)
class ColumnSurvey:
    """One column: what fills it, and what is suspicious about it (code and sentence)."""

    column: Column
    role: str
    rows: int
    missing: int
    distinct: int
    least: Any
    greatest: Any
    top: list[tuple[Any, int]]
    doubts: list[tuple[str, str]]

    def as_json(self) -> Json:
        return {
            "column": self.column.name,
            "type": self.column.type,
            "role": self.role,
            "rows": self.rows,
            "missing": self.missing,
            "distinct": self.distinct,
            "least": _plain(self.least),
            "greatest": _plain(self.greatest),
            "top": [{"value": _plain(v), "rows": n} for v, n in self.top],
            "doubts": [{"code": code, "text": text} for code, text in self.doubts],
        }


Wanted = int | tuple[Decimal, ...] | None
"""Bins of a histogram: so many, or between edges."""


@dataclass(frozen=True)
class MeasureSurvey:
    """One measure described, whole or by group; ``highest`` and ``lowest`` rows with their ids."""

    table: str
    on: str
    scale: int
    currency: str
    population: Account
    by: list[str]
    groups: list[tuple[ByColumn, Description]]
    values: np.ndarray
    counts: np.ndarray
    highest: list[Cells]
    lowest: list[Cells]

    def histogram(self, wanted: Wanted = None, within: int = 60) -> Bins:
        """Its bins: so many, or between edges, or by the usual width."""
        if wanted is None or isinstance(wanted, int):
            return bins(self.values, self.counts, self.scale, wanted, within=within)
        return bins_between(self.values, self.counts, self.scale, [Fraction(e) for e in wanted])

    def as_json(self, number: Wanted = None) -> Json:
        """The description as JSON can hold it; exact figures as text."""
        found: Json = {
            "table": self.table,
            "on": self.on,
            "by": self.by,
            "population": self.population.as_json(),
            "groups": [{"group": plain(k), **_figures(d, self.scale)} for k, d in self.groups],
            "highest": [plain(row) for row in self.highest],
            "lowest": [plain(row) for row in self.lowest],
        }
        if self.groups and not self.by:
            histogram = self.histogram(number)
            edges = [float(edge) for edge in histogram.edges]
            found["histogram"] = {
                "edges": edges,
                "counts": histogram.counts,
                "below": histogram.below,
                "above": histogram.above,
            }
        return found


def survey_columns(population: Population) -> list[ColumnSurvey]:
    """Every column of a table, counted; the most frequent values of those that repeat."""
    table = population.table
    columns = [c for c in table.columns if c.name not in (FILE_COLUMN, LINE_COLUMN)]
    fields: list[Tree] = [exp.alias_(sql.count(), "n")]
    for i, c in enumerate(columns):
        value = sql.column(c.name)
        distinct = exp.Count(this=exp.Distinct(expressions=[value.copy()]))
        fields += [
            exp.alias_(exp.Count(this=value), f"filled{i}"),
            exp.alias_(distinct, f"distinct{i}"),
            exp.alias_(exp.Min(this=value.copy()), f"least{i}"),
            exp.alias_(exp.Max(this=value.copy()), f"greatest{i}"),
        ]
    row = population.figures(fields)
    roles = {column: role for role, column in table.roles.items()}
    found = []
    for i, c in enumerate(columns):
        filled, distinct = row[f"filled{i}"], row[f"distinct{i}"]
        repeats = 0 < distinct < filled
        survey = ColumnSurvey(
            column=c,
            role=roles.get(c.name, ""),
            rows=row["n"],
            missing=row["n"] - filled,
            distinct=distinct,
            least=row[f"least{i}"],
            greatest=row[f"greatest{i}"],
            top=_top(population, c) if repeats else [],
            doubts=[],
        )
        survey.doubts.extend(_doubts(survey))
        found.append(survey)
    return found


def _top(population: Population, column: Column) -> list[tuple[Any, int]]:
    value = sql.column(column.name)
    select = population.used(exp.select(exp.alias_(value, "value"), exp.alias_(sql.count(), "n")))
    select = select.where(exp.Not(this=sql.is_missing(value.copy())))
    order = [sql.ordered(sql.column("n"), descending=True), sql.ordered(sql.column("value"))]
    select = select.group_by(value.copy()).order_by(*order).limit(TOP)
    return [(row["value"], row["n"]) for row in population.query(select).to_pylist()]


_WHOSE = ("id", "party", "account", "document", "preparer", "approver")
"""Roles of columns that say whose a row is, or which."""


def _doubts(s: ColumnSurvey) -> list[tuple[str, str]]:
    filled = s.rows - s.missing
    found = []
    if s.rows and not filled:
        found.append(("empty", "no row has a value"))
    elif s.distinct == 1 and filled > 1:
        found.append(("constant", f"every value is {_plain(s.least)}"))
    elif s.missing / max(s.rows, 1) > 0.05 and s.role not in ("debit", "credit"):
        found.append(("missing", f"{100 * s.missing / s.rows:.1f}% of the rows have no value"))
    if s.role == "id" and s.distinct < filled:
        found.append(("not_unique", f"{filled:,} rows have {s.distinct:,} distinct ids"))
    if s.role in _WHOSE and s.column.type == "text":
        named = [f"{value!r} on {n:,}" for value, n in s.top if is_nothing(value)]
        if named:
            found.append(
                (
                    "states_nothing",
                    f"what stands for no value is among the most frequent: {', '.join(named)} rows",
                )
            )
    if s.column.type == "number" and filled:
        most = most_exact(s.column.scale)
        if max(abs(s.least), abs(s.greatest)) > most:
            found.append(
                (
                    "too_large",
                    f"has figures beyond {most:,}, up to which such are computed with: no test takes it with them",
                )
            )
    if s.column.type in ("date", "timestamp") and filled:
        first, last = str(s.least)[:4], str(s.greatest)[:4]
        if first < "1990" or last > "2100":
            found.append(("impossible_dates", f"dates run from {s.least} to {s.greatest}"))
    return found


def table_doubts(population: Population) -> list[tuple[str, str]]:
    """What is suspicious about a table as a whole: months without rows, entries out of balance."""
    found = []
    empty = _empty_months(population)
    if empty:
        listed = ", ".join(empty[:6]) + (", …" if len(empty) > 6 else "")
        found.append(("months_without_rows", f"no row is dated in {listed}"))
    table = population.table
    identity, amount = table.role("id"), table.role("amount")
    if identity is not None and amount is not None and {"debit", "credit"} <= table.roles.keys():
        with suppress(TooLargeError):  # a doubt of the column, which is told
            found += _balance(population, identity, amount)
    return found


def _empty_months(population: Population) -> list[str]:
    """Months between the first and the last that no row is dated in."""
    date = population.table.dated()
    if date is None:
        return []
    day = sql.column(date.name)
    fields = [exp.alias_(exp.Year(this=day), "y"), exp.alias_(exp.Month(this=day.copy()), "m")]
    inner = population.used(exp.select(*fields), [missing(date)])
    keys: list[Tree] = [sql.column("y"), sql.column("m")]
    select = exp.select(*keys).from_(inner.subquery("b")).group_by(*keys)
    have = {12 * row["y"] + row["m"] - 1 for row in population.query(select).to_pylist()}
    # Centuries between two typing errors are told by the column's own doubt.
    if not have or max(have) - min(have) > 1200:
        return []
    every = range(min(have), max(have) + 1)
    return [f"{month // 12}-{month % 12 + 1:02d}" for month in every if month not in have]


def _balance(population: Population, identity: Column, amount: Column) -> list[tuple[str, str]]:
    """Entries whose debits and credits do not add to 0, and by how much."""
    values: dict[str, Tree] = {"entry": sql.column(identity.name), "units": sql.minor_units(amount)}
    base = population.base(values, [missing(identity)])
    off = exp.alias_(sql.exact_sum(sql.column("units")), "off", quoted=True)
    own = exp.alias_(sql.count(), "rows", quoted=True)
    each = exp.select(off, own).from_(base.subquery("b")).group_by(sql.column("entry"))
    gross = sql.cast(exp.Sum(this=exp.Abs(this=sql.column("off"))), "DECIMAL(38,0)")
    several = exp.GT(this=sql.column("rows"), expression=sql.integer(1))
    unequal = exp.NEQ(this=sql.column("off"), expression=sql.integer(0))
    fields = {
        "n": sql.only(sql.count(), unequal),
        "several": sql.only(sql.count(), several),
    }
    select = exp.select(
        *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items()),
        exp.alias_(gross, "gross", quoted=True),
    )
    row = population.query(select.from_(each.subquery("e"))).to_pylist()[0]
    # Where no id names several rows it is one of lines, and there is no entry to balance.
    if not row["n"] or not row["several"]:
        return []
    by = money(int(row["gross"]), amount.scale)
    entries = f"{row['n']:,} entries do" if row["n"] != 1 else "1 entry does"
    return [("unbalanced_entries", f"{entries} not balance, by {by:,} in all")]


def survey_measure(
    population: Population, on: str | None, by: Sequence[str] = ()
) -> MeasureSurvey | str:
    """Describe a measure from its distinct values; a sentence where they are too many."""
    table = population.table
    measure = table.measure(on)
    reasons = [missing(measure)]
    account = population.account(measure, reasons)
    values: dict[str, Tree] = {
        f"g{i}": expressions.scalar(text, table) for i, text in enumerate(by)
    }
    values["units"] = sql.minor_units(measure)
    base = population.base(values, reasons)
    if not by:
        distinct = exp.Count(this=exp.Distinct(expressions=[sql.column("units")]))
        number = exp.select(exp.alias_(distinct, "n")).from_(base.subquery("b"))
        many = population.query(number).to_pylist()[0]["n"]
        if many > MOST_DISTINCT:
            return (
                f"{table.name}.{measure.name} has {many:,} distinct amounts, and more than "
                f"{MOST_DISTINCT:,} are not described whole; narrow the rows with --where"
            )
    keys = [sql.column(name) for name in values]
    select = exp.select(*keys, exp.alias_(sql.count(), "n")).from_(base.subquery("b"))
    select = select.group_by(*(k.copy() for k in keys)).order_by(
        *(sql.ordered(k.copy()) for k in keys)
    )
    found = population.query(select)
    labels = [expressions.label(text, table) for text in by]
    units = found.column("units").to_numpy()
    counts = found.column("n").to_numpy()
    groups = []
    columns = [found.column(f"g{i}").to_pylist() for i in range(len(by))]
    marks = list(zip(*columns, strict=True)) if by else [()] * len(units)
    start = 0
    for end in range(1, len(marks) + 1):
        if end == len(marks) or marks[end] != marks[start]:
            key = dict(zip(labels, marks[start], strict=True))
            groups.append((key, describe(units[start:end], counts[start:end], measure.scale)))
            start = end
    return MeasureSurvey(
        table=table.name,
        on=measure.name,
        scale=measure.scale,
        currency=unit_of(table, measure),
        population=account,
        by=labels,
        groups=groups,
        values=units,
        counts=counts,
        highest=_extremes(population, measure, descending=True),
        lowest=_extremes(population, measure, descending=False),
    )


def _extremes(population: Population, measure: Column, *, descending: bool) -> list[Cells]:
    """The five rows at one end, with what names them."""
    table = population.table
    identity = table.role("id")
    shown = [sql.column(measure.name)]
    if identity is not None and identity.name != measure.name:
        shown.insert(0, sql.column(identity.name))
    shown += [sql.column(FILE_COLUMN), sql.column(LINE_COLUMN)]
    select = population.used(exp.select(*shown), [missing(measure)])
    order = [sql.ordered(sql.column(measure.name), descending=descending), *sql.place()]
    rows = population.query(select.order_by(*order).limit(TOP)).to_pylist()
    return [
        {
            "id": row.get(identity.name) if identity is not None else None,
            "file": row[FILE_COLUMN],
            "line": int(row[LINE_COLUMN]),
            "amount": row[measure.name],
        }
        for row in rows
    ]


def _figures(d: Description, scale: int) -> Values:
    exact = {"total": d.total, "least": d.least, "greatest": d.greatest}
    figures = {
        name: getattr(d, name)
        for name in (
            "n", "distinct", "negative", "zero", "mean", "standard_error", "interval", "trimmed",
            "variance", "sd", "skewness", "skewness_error", "kurtosis", "kurtosis_error", "huber",
        )
    }  # fmt: skip
    texts = {k: _plain(money(int(v * 10**scale), scale)) for k, v in exact.items()}
    percentiles = {str(p): float(v) for p, v in d.percentiles.items()}
    return figures | texts | {"percentiles": percentiles, "iqr": float(d.iqr)}


def _plain(value: Any) -> Any:
    if isinstance(value, Decimal):
        return format(value, "f")
    return value.isoformat() if hasattr(value, "isoformat") else value
