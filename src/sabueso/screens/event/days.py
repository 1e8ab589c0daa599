"""Rows of each day, and of each subject in and outside of a window, as the engine counts them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping

MOST_SUBJECTS = 2_000_000


@dataclass(frozen=True)
class Daily:
    """Rows and minor units of every day from the first to the last."""

    first: date
    rows: np.ndarray
    units: np.ndarray

    def place(self, day: date) -> int:
        return (day - self.first).days


class Days:
    """Queries on the days of a population."""

    def __init__(
        self, population: Population, date_: Column, measure: Column, reasons: list[Reason]
    ) -> None:
        self._population, self._reasons = population, reasons
        self._day = sql.cast(sql.column(date_.name), "DATE")
        self._units = sql.minor_units(measure)

    def _base(self, **more: Tree) -> exp.Select:
        values: dict[str, Tree] = {"day": self._day.copy(), UNITS: self._units.copy(), **more}
        return self._population.base(values, self._reasons)

    def all(self) -> Daily:
        """Every day of the period, without any rows too.

        Raises
        ------
        UserError
            If there is no row.
        """
        return self._filled(self._base())

    def _filled(self, base: exp.Select, span: Daily | None = None) -> Daily:
        day = sql.column("day", "b")
        select = exp.select(
            day,
            exp.alias_(sql.count(), "n"),
            exp.alias_(sql.exact_sum(sql.column(UNITS, "b")), "total"),
        ).from_(base.subquery("b"))
        found = self._population.query(
            select.group_by(day.copy()).order_by(sql.ordered(day.copy()))
        ).to_pylist()
        if not found and span is None:
            raise UserError("there is no row with a date to look at")
        first = span.first if span is not None else found[0]["day"]
        many = len(span.rows) if span is not None else (found[-1]["day"] - first).days + 1
        rows, units = np.zeros(many, dtype=np.int64), np.zeros(many, dtype=object)
        for row in found:
            place = (row["day"] - first).days
            rows[place], units[place] = int(row["n"]), int(row["total"])
        return Daily(first, rows, units)

    def by_subject(self, grouping: Grouping, first: date, last: date) -> pa.Table:
        """Of each subject its rows and sum, those within the window, and the days that it has rows on.

        Raises
        ------
        UserError
            If there are too many.
        """
        day = sql.column("day", "b")
        inside = exp.and_(
            exp.GTE(this=day, expression=_day(first)),
            exp.LTE(this=day.copy(), expression=_day(last)),
        )
        units = sql.column(UNITS, "b")
        fields: dict[str, Tree] = {
            "n": sql.count(),
            "inside": sql.only(sql.count(), inside),
            "days_inside": exp.Count(
                this=exp.Distinct(expressions=[exp.Case().when(inside.copy(), day.copy())])
            ),
            "days": exp.Count(this=exp.Distinct(expressions=[day.copy()])),
            "total": sql.exact_sum(exp.Case().when(inside.copy(), units)),
        }
        keys = grouping.columns("b")
        select = exp.select(
            *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
        ).from_(self._base(**grouping.values()).subquery("b"))
        select = select.group_by(*(key.copy() for key in keys))
        every = exp.select("*").from_(select.subquery("s"))
        every = every.order_by(*(sql.ordered(sql.column(name)) for name in grouping.names))
        found = self._population.query(every.limit(MOST_SUBJECTS + 1))
        if found.num_rows > MOST_SUBJECTS:
            raise UserError(f"more than {MOST_SUBJECTS:,} subjects: choose others with --per")
        return found

    def of(self, grouping: Grouping, key: Sequence[Any], span: Daily) -> Daily:
        """The days of one subject, over the same period as all."""
        own = sql.both(
            sql.same(sql.column(name, "b"), _literal(value))
            for name, value in zip(grouping.names, key, strict=True)
        )
        names = ("day", UNITS)
        base = self._base(**grouping.values())
        chosen = exp.select(*(sql.column(name, "b") for name in names))
        return self._filled(chosen.from_(base.subquery("b")).where(own), span)


def _literal(value: Any) -> Tree:
    from sabueso.population.fact_names import fact_tree

    return fact_tree(value)


def _day(value: date) -> Tree:
    return sql.cast(sql.text(value.isoformat()), "DATE")


def window_of(at: date, days: int, side: str) -> tuple[date, date]:
    """The first and the last day of a window: before a date, after it, or around and with it."""
    step, window = timedelta(days=1), timedelta(days=days)
    try:
        if side == "before":
            return at - window, at - step
        if side == "after":
            return at + step, at + window
        return at - window, at + window
    except OverflowError:
        raise UserError(f"event: within {days} days of {at} the calendar ends") from None
