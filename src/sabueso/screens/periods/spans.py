"""Which periods are compared: by the dates of the rows, or by a column that says what period each is of.

Periods are called by their names, or by words that hold for any month's files.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Protocol

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.calendar import Span
from sabueso.population.period_names import names_period, names_period_alone, span_named
from sabueso.population.population import Population, Reason, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import dated

LATEST = {f"latest {unit}": unit for unit in ("year", "quarter", "month", "day")}
PRIOR, YEAR_BEFORE = "prior", "year before"
MOST_PERIODS = 2_000
"""Values that a column of periods may have."""


@dataclass(frozen=True)
class Chosen:
    """A period as it is compared: its days where they are known, and in a column of periods its values."""

    name: str
    span: Span | None
    values: tuple[str, ...] = ()


class Axis(Protocol):
    """What tells the periods of a table's rows apart."""

    labelled: bool
    """Whether it is a column of periods, and not the date of the rows."""

    def reasons(self) -> list[Reason]:
        """Rows that are of no period."""

    def named(self, name: str, what: str) -> Chosen:
        """A period by its name, or by a word for the latest."""

    def before(self, now: Chosen, many: int) -> Chosen:
        """That of the same kind so many before."""

    def year_before(self, now: Chosen) -> Chosen:
        """The same a year before."""

    def holds(self, chosen: Chosen) -> Tree:
        """Condition that a row is of a period."""

    def condition(self, chosen: Chosen) -> str:
        """The same as an expression that a user can type."""

    def days(self, measure: Column) -> frozenset[date]:
        """Days that have rows, in any period; none where that is not known."""


def axis_of(population: Population, period: str | None) -> Axis:
    """The column of periods that is named; else the date; else the one column of periods that there is.

    Raises
    ------
    UserError
        If there is none of these.
    """
    table = population.table
    if period is not None:
        return Labels(population, period)
    if table.dated() is not None:
        return Dates(population)
    found = period_columns(population)
    if len(found) != 1:
        several = f"; it has several that name periods: {', '.join(found)}" if found else ""
        raise UserError(
            f"periods needs a date in the role date, or with --period the column that says what period a row "
            f"is of; table {table.name!r} has no date{several}"
        )
    return Labels(population, expressions.quoted_name(found[0]))


def period_columns(population: Population) -> list[str]:
    """Columns of a table that are called as columns of periods are, and whose every value names one: by that
    name alone, or where there is none by one among other words."""
    named = [column for column in population.table.columns if names_period(column.name)]
    alone = [column for column in named if names_period_alone(column.name)]
    others = [column for column in named if column not in alone]
    return _of_periods(population, alone) or _of_periods(population, others)


def _of_periods(population: Population, columns: Sequence[Column]) -> list[str]:
    """The columns whose every value names a period."""
    found = []
    for column in columns:
        if column.is_place or column.type in ("date", "timestamp"):
            continue
        try:
            labels = Labels(population, expressions.quoted_name(column.name))
        except UserError:  # more values than periods
            continue
        if labels.spans and all(labels.spans.values()):
            found.append(column.name)
    return found


class Dates:
    """Periods as days, by the role ``date``."""

    labelled = False

    def __init__(self, population: Population) -> None:
        self._population = population
        self._column = dated(population.table, "periods")
        self._first = population.table.fiscal_year_starts

    def reasons(self) -> list[Reason]:
        return []

    def named(self, name: str, what: str) -> Chosen:
        words = _words(name)
        if words not in LATEST:
            return _of(Span.of(name, self._first, what))
        day = sql.cast(sql.column(self._column.name), "DATE")
        latest = exp.select(exp.alias_(exp.Max(this=day), "last"))
        select = self._population.used(latest, [missing(self._column)])
        last = self._population.query(select).to_pylist()[0]["last"]
        if not isinstance(last, date):
            raise UserError(f"{what} {name!r}: no row has a date")
        return _of(Span.latest(LATEST[words], last, self._first))

    def before(self, now: Chosen, many: int) -> Chosen:
        return _of(_span(now).before(many, self._first))

    def year_before(self, now: Chosen) -> Chosen:
        return _of(_span(now).year_before(self._first))

    def holds(self, chosen: Chosen) -> Tree:
        return _span(chosen).holds(sql.column(self._column.name))

    def condition(self, chosen: Chosen) -> str:
        return _span(chosen).condition(expressions.quoted_name(self._column.name))

    def days(self, measure: Column) -> frozenset[date]:
        named: dict[str, Tree] = {"day": sql.cast(sql.column(self._column.name), "DATE")}
        base = self._population.base(named, [missing(measure)])
        found = self._population.query(base.distinct())
        return frozenset(d for d in found.column("day").to_pylist() if d is not None)


class Labels:
    """Periods as the values of a column: ``2024``, ``Q1 2024``, ``marzo 2024``.

    A year is also the twelve months, or the four quarters, that a column names.
    """

    labelled = True

    def __init__(self, population: Population, text: str | None) -> None:
        table = population.table
        if text is None:
            text = expressions.quoted_name(period_columns(population)[0])
        self.text = text
        self._table = table
        self._first = table.fiscal_year_starts
        self._value = sql.cast(expressions.scalar(text, table, "--period"), "TEXT")
        values = exp.select(exp.alias_(self._value.copy(), "v")).from_(population.source())
        select = exp.select(sql.column("v")).from_(values.subquery("b")).distinct()
        found = population.query(select.limit(MOST_PERIODS + 1)).column("v").to_pylist()
        if len(found) > MOST_PERIODS:
            raise UserError(
                f"--period {text}: has more than {MOST_PERIODS:,} values; expected one for each period"
            )
        named = {v: span_named(v, self._first) for v in found if v is not None}
        self.spans: dict[str, Span | None] = dict(sorted(named.items(), key=_in_time))

    def reasons(self) -> list[Reason]:
        return [Reason("missing_period", sql.is_missing(self._value.copy()))]

    def named(self, name: str, what: str) -> Chosen:
        own = [value for value in self.spans if value.casefold() == name.strip().casefold()]
        if own:
            return Chosen(name.strip(), self.spans[own[0]], tuple(own))
        words = _words(name)
        if words in LATEST:
            unread = [value for value, span in self.spans.items() if span is None]
            if unread:
                raise UserError(
                    f"{what} {name!r}: {unread[0]!r} in {self.text} names no period, so that none can be "
                    "said to be the latest; name the period itself"
                )
            last = max((span.end for span in self._known()), default=None)
            if last is None:
                raise UserError(f"{what} {name!r}: no row has a value in {self.text}")
            day = last - timedelta(days=1)
            return self._within(Span.latest(LATEST[words], day, self._first), what)
        span = span_named(name, self._first)
        if span is None:
            raise UserError(f"{what} {name!r} is no period of {self.text}{self._those()}")
        return self._within(span, what)

    def before(self, now: Chosen, many: int) -> Chosen:
        return self._within(_span(now).before(many, self._first), "before it")

    def year_before(self, now: Chosen) -> Chosen:
        return self._within(_span(now).year_before(self._first), "a year before it")

    def holds(self, chosen: Chosen) -> Tree:
        return exp.In(this=self._value.copy(), expressions=[sql.text(v) for v in chosen.values])

    def condition(self, chosen: Chosen) -> str:
        values = [expressions.literal(value) for value in chosen.values]
        name = self.text
        column = next(
            (c for c in self._table.columns if expressions.quoted_name(c.name) == name), None
        )
        if column is None or column.type != "text":
            name = f"cast({name} as text)"
        return f"{name} = {values[0]}" if len(values) == 1 else f"{name} in ({', '.join(values)})"

    def days(self, measure: Column) -> frozenset[date]:
        return frozenset()

    def _within(self, span: Span, what: str) -> Chosen:
        """The values whose periods lie within some days, none of which may lie within another's."""
        inside = {
            value: own
            for value, own in self.spans.items()
            if own is not None and span.start <= own.start and own.end <= span.end
        }
        if not inside:
            raise UserError(f"{what}: {self.text} has no period within {span.name}{self._those()}")
        wider = [
            (one, other)
            for one, its in inside.items()
            for other, theirs in inside.items()
            if one != other
            and its.overlaps(theirs)
            and (its.start, its.end) != (theirs.start, theirs.end)
        ]
        if wider:
            one, other = wider[0]
            raise UserError(
                f"{self.text} has both {one!r} and {other!r} within {span.name}, and the one holds the other: "
                "name one of them, or leave one out with --where"
            )
        return Chosen(span.name, span, tuple(inside))

    def _known(self) -> Iterable[Span]:
        return (span for span in self.spans.values() if span is not None)

    def _those(self) -> str:
        every = list(self.spans)
        shown = ", ".join(every[:6]) + (" …" if len(every) > 6 else "")
        return f"; it has {shown}" if every else "; it has no values"


def _in_time(item: tuple[str, Span | None]) -> tuple[bool, date, str]:
    value, span = item
    return (span is None, date.min if span is None else span.start, value)


def base_of(axis: Axis, now: Chosen, name: str | None) -> Chosen:
    """The period compared with: by its name, ``prior`` or ``year before``.

    Raises
    ------
    UserError
        If none is named, it is no period, or it overlaps the current one.
    """
    if name is None:
        raise UserError(
            "periods needs --base PERIOD (or prior, year-before), --mean-of K, or --against TABLE for "
            "a budget"
        )
    words = _words(name)
    if words == PRIOR:
        return axis.before(now, 1)
    if words == YEAR_BEFORE:
        return axis.year_before(now)
    before = axis.named(name, "base")
    overlap = before.span is not None and now.span is not None and before.span.overlaps(now.span)
    if overlap or set(before.values) & set(now.values):
        raise UserError(f"base {before.name} and current {now.name} overlap")
    return before


def is_latest(name: str) -> bool:
    """Whether a period is named by a word for the latest, which the rows have to tell."""
    return _words(name) in LATEST


def together(every: Sequence[Chosen]) -> Chosen:
    """Periods one after another, as one."""
    first, last = _span(every[0]), _span(every[-1])
    name = f"{every[0].name} to {every[-1].name}"
    values = tuple(value for each in every for value in each.values)
    return Chosen(name, Span(name, first.start, last.end), values)


def quoted_period(axis: Axis) -> str | None:
    """The column of periods as an expression; None where the date tells them."""
    return axis.text if isinstance(axis, Labels) else None


def _of(span: Span) -> Chosen:
    return Chosen(span.name, span)


def _span(chosen: Chosen) -> Span:
    if chosen.span is None:
        raise UserError(
            f"{chosen.name!r} names no year, quarter or month, so that there is none before it; name the base"
        )
    return chosen.span


def _words(name: str) -> str:
    return " ".join(name.lower().replace("-", " ").split())
