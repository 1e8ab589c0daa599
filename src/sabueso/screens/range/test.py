"""Rows outside what is declared: a range, a list, a value required, another column not exceeded, days in order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import pairwise
from typing import TYPE_CHECKING

import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError
from sabueso.base.words import listed as listed_words
from sabueso.population import expressions, sql
from sabueso.population.linked import linked_column
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, bare_name
from sabueso.report.numbers import many
from sabueso.screens.finding import Finding, Flags
from sabueso.screens.grouping import dated
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.proposal import Proposal
from sabueso.screens.range.apart import ends_of, overlap_of, proposed_apart
from sabueso.screens.range.caps import proposed_caps
from sabueso.screens.range.days import days_from
from sabueso.screens.range.declared import declared_finding
from sabueso.screens.range.discounts import proposed_discounts
from sabueso.screens.range.kinds_lacking import proposed_of_kinds
from sabueso.screens.range.nights import HOURS, off_hours, proposed_nights, spans_of
from sabueso.screens.range.orders import proposed_orders
from sabueso.screens.range.overdrawn import overdrawn, proposed_overdrawn
from sabueso.screens.range.people import is_one, people_of, proposed_people
from sabueso.screens.range.proposed import proposed_range
from sabueso.screens.range.readings import falls, proposed_readings
from sabueso.screens.range.resting import off_days, proposed_resting
from sabueso.screens.range.result import Rules, with_sizes
from sabueso.screens.range.same import others, proposed_same
from sabueso.screens.range.view import RangeView
from sabueso.screens.settings import Settings, listed

if TYPE_CHECKING:
    from sabueso.stats.description import Description


class RangeSettings(Settings):
    """Settings of ``range``."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    least: Decimal | None = Field(None, description="the least amount allowed")
    greatest: Decimal | None = Field(None, description="the greatest amount allowed")
    not_above: str | None = Field(
        None,
        description="column that the measure must not exceed in its row, of a linked table too",
    )
    column: str | None = Field(None, description="column whose values must be among those allowed")
    allowed: list[str] = Field(default_factory=list, description="the values allowed in it")
    required: list[str] = Field(default_factory=list, description="columns that must hold a value")
    in_order: list[str] = Field(
        default_factory=list,
        description="days, of linked tables too, none of which is before the one named before it",
    )
    most_days: int | None = Field(
        None, ge=0, description="days that each of --in-order is at most after the one before it"
    )
    rising: str | None = Field(
        None, description="column of readings, such as of a meter, that never fall"
    )
    not_overdrawn: str | None = Field(
        None,
        description="column of what comes in and goes out, whose sum up to any row is not below 0, for each --per",
    )
    same: str | None = Field(
        None, description="column that has one value in most rows of what --per names: all others"
    )
    two_people: list[str] = Field(
        default_factory=list,
        description="two columns of people, such as who prepares and who approves, that name two",
    )
    apart: list[str] = Field(
        default_factory=list,
        description="first and last day, or moment, of spans of which no two of one --per overlap",
    )
    weekdays: list[str] = Field(
        default_factory=list,
        description="weekdays, Mon to Sun, on which rows may be dated by the role date",
    )
    hours: list[str] = Field(
        default_factory=list,
        description="hours, 00 to 23, in which rows may be recorded, by the role date or entered",
    )
    per: list[str] = Field(
        default_factory=list,
        description="whose readings they are, or sums, or spans, or what has one value",
    )

    _lists = field_validator(
        "allowed",
        "required",
        "in_order",
        "two_people",
        "apart",
        "weekdays",
        "hours",
        "per",
        mode="before",
    )(listed)

    @model_validator(mode="after")
    def _some(self) -> RangeSettings:
        bounds = (self.least, self.greatest, self.not_above)
        if bool(self.column) != bool(self.allowed):
            raise ValueError("column and allowed go together")
        if len(self.in_order) == 1:
            raise ValueError("in-order needs two days or more")
        if self.most_days is not None and not self.in_order:
            raise ValueError("most-days needs in-order: between which days they lie")
        owned = (self.rising, self.same, self.not_overdrawn)
        if self.per and not self.apart and all(each is None for each in owned):
            raise ValueError("per goes with rising, not-overdrawn, apart or same")
        if self.two_people and len(set(self.two_people)) != 2:
            raise ValueError("two-people needs two columns")
        if self.apart and (len(self.apart) != 2 or not self.per):
            raise ValueError("apart needs two columns, and per: whose spans they are")
        if self.same is not None and not self.per:
            raise ValueError("same needs per: whose value it is")
        if unknown := [day for day in self.weekdays if day not in sql.WEEKDAYS]:
            raise ValueError(f"weekdays has {unknown[0]!r}; expected {', '.join(sql.WEEKDAYS)}")
        if unknown := [hour for hour in self.hours if hour not in HOURS]:
            raise ValueError(f"hours has {unknown[0]!r}; expected some of 00 to 23")
        lists = self.column, self.required, self.in_order, self.weekdays, self.hours
        others = self.rising, self.not_overdrawn, self.same, self.apart, self.two_people
        if all(b is None for b in bounds) and not any(lists) and not any(others):
            raise ValueError(
                "nothing is declared; give least, greatest, not-above, required, in-order, rising, not-overdrawn, apart, "
                "two-people, same, weekdays, hours, or column and allowed"
            )
        if self.least is not None and self.greatest is not None and self.least > self.greatest:
            raise ValueError("the least amount is above the greatest")
        return self


class Range(Screen):
    """Declared limits, row by row."""

    name = "range"
    summary = (
        "rows outside a declared range or list, without a required value, above another column, dated before "
        "what comes first, on another weekday or in another hour, with a reading that falls, that take out what is not there, overlap another, name one person for two, or have a value "
        "that is another than the others of their kind have"
    )
    reference = "none: the rules are the reader's own"
    settings = RangeSettings
    group = Rules
    view = RangeView
    place = 50
    examples = (
        "sabueso try range payments --greatest 50000 --required proveedor,usuario",
        "sabueso try range staff --required baja",
        "sabueso try range payroll --on plus_mar --not-above salario_base",
        "sabueso try range payments --in-order proveedor.alta,fecha",
        "sabueso try range receipts --in-order pedido.fecha,fecha --most-days 60",
        "sabueso try range payroll --same salario_base --per empleado",
        "sabueso try range journal --hours 07,08,09,10,11,12,13,14,15,16,17,18,19",
    )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        yield from proposed_range(population)
        yield from proposed_of_kinds(population)
        yield from proposed_orders(population)
        yield from proposed_caps(population)
        yield from proposed_readings(population)
        yield from proposed_overdrawn(population)
        yield from proposed_same(population)
        yield from proposed_resting(population)
        yield from proposed_nights(population)
        yield from proposed_discounts(population)
        yield from proposed_apart(population)
        yield from proposed_people(population)

    def run(self, population: Population, settings: RangeSettings) -> Finding[Rules]:
        table = population.table
        measure = _measure(table, settings)
        rules = _rules(table, measure, settings)
        place = exp.Case()
        over = exp.Case()
        for position, rule in enumerate(rules):
            place = place.when(rule.broken.copy(), sql.integer(position))
            over = over.when(rule.broken.copy(), rule.beyond)
        columns = lim.RowColumns.of(table, measure)
        values = {**columns.trees(), "rule": place, "score": over}
        select = exp.select(*(sql.column(name, "r") for name in values))
        select = select.from_(population.base(values).subquery("r"))
        select = select.where(exp.Not(this=sql.is_missing(sql.column("rule", "r"))))
        select = select.order_by(
            sql.ordered(sql.column("score", "r"), descending=True),
            sql.ordered(sql.column("row_file", "r")),
            sql.ordered(sql.column("row_line", "r")),
        )
        found = columns.gathered(population.query(select))
        names = [rule.title for rule in rules]
        broken = found.column("rule").to_pylist()
        kept = found.drop_columns(["rule"])
        if measure is None:
            kept = kept.append_column("amount", pa.nulls(kept.num_rows, pa.decimal128(18, 2)))
        kept = kept.append_column("rule", pa.array([names[i] for i in broken], pa.string()))
        kept = with_sizes(kept, [rules[i].size for i in broken])
        kept = kept.append_column("direction", pa.array(["out"] * len(broken), pa.string()))
        counts = [(name, broken.count(i)) for i, name in enumerate(names)]
        flags = Flags("row", kept)
        return declared_finding(self.name, population, measure, settings, flags, counts)


def _measure(table: Table, settings: RangeSettings) -> Column | None:
    """The measure where a rule needs one, or the table has amounts to show."""
    needed = any(v is not None for v in (settings.least, settings.greatest, settings.not_above))
    if settings.on or needed or "amount" in table.roles:
        return table.measure(settings.on)
    return None


@dataclass(frozen=True)
class _Rule:
    """A rule in words, the condition that breaks it, and by how much the row is beyond it."""

    title: str
    broken: Tree
    beyond: Tree
    size: str = ""


def _rules(table: Table, measure: Column | None, settings: RangeSettings) -> list[_Rule]:
    """What is declared. A row is counted for the first rule it breaks. Missing values break ``required`` alone."""
    found: list[_Rule] = []
    none = sql.cast(exp.Literal.number("0"), "DOUBLE")
    for name in settings.required:
        column = table.column(name)
        empty = sql.is_missing(sql.column(column.name))
        found.append(_Rule(f"{column.name} required", empty, none))
    if settings.column:
        column = table.column(settings.column)
        if column.type != "text":
            raise UserError(
                f"column {column.name!r} holds {column.type}; a list of values needs text"
            )
        allowed = exp.In(
            this=sql.column(column.name), expressions=[sql.text(v) for v in settings.allowed]
        )
        shown = ", ".join(settings.allowed[:4]) + (" …" if len(settings.allowed) > 4 else "")
        found.append(_Rule(f"{column.name} one of {shown}", exp.Not(this=allowed), none))
    for earlier, later in pairwise(settings.in_order):
        days = days_from(earlier, later, table)
        before = exp.LT(this=days, expression=sql.integer(0))
        gap = sql.cast(exp.Neg(this=exp.paren(days.copy())), "DOUBLE")
        found.append(_Rule(f"{_bare(later)} not before {_bare(earlier)}", before, gap, "days"))
        if settings.most_days is not None:
            beyond_most = exp.GT(this=days.copy(), expression=sql.integer(settings.most_days))
            within = f"within {many(settings.most_days, 'day')} of"
            title = f"{_bare(later)} {within} {_bare(earlier)}"
            found.append(_Rule(title, beyond_most, sql.cast(days.copy(), "DOUBLE"), "after"))
    if settings.rising is not None:
        column = table.number(settings.rising, what="reading")
        falling = falls(table, column.name, settings.per)
        title = f"{column.name} never falls{_by(table, settings.per)}"
        gap = sql.cast(falling.by, "DOUBLE")
        found.append(_Rule(title, falling.broken, gap, "by"))
    if settings.not_overdrawn is not None:
        column = table.number(settings.not_overdrawn, what="movement")
        drawn = overdrawn(table, column, settings.per)
        title = f"sum of {column.name} not below 0{_by(table, settings.per)}"
        found.append(_Rule(title, drawn.broken, sql.cast(drawn.short, "DOUBLE"), "short"))
    if settings.apart:
        ends = ends_of(table, settings.apart)
        overlap = overlap_of(table, ends, settings.per)
        title = f"{ends[0].name} not before the last {ends[1].name}{_by(table, settings.per)}"
        found.append(_Rule(title, overlap.broken, overlap.days, "over"))
    if settings.same is not None:
        column = table.column(settings.same)
        one = others(table, column.name, settings.per)
        owner = listed_words([expressions.label(text, table) for text in settings.per])
        gap = sql.cast(one.by, "DOUBLE")
        found.append(_Rule(f"{column.name} the same for each {owner}", one.broken, gap, "others"))
    if settings.two_people:
        people = people_of(table, settings.two_people)
        title = f"{people[0].name} and {people[1].name} two people"
        found.append(_Rule(title, is_one(people), none))
    if settings.weekdays:
        date = dated(table, "range")
        title = f"{date.name} on {', '.join(settings.weekdays)}"
        found.append(_Rule(title, off_days(table, date.name, settings.weekdays), none))
    if settings.hours:
        title = f"recorded from {spans_of(settings.hours)}"
        found.append(_Rule(title, off_hours(table, settings.hours), none))
    if measure is None:
        return found
    value = sql.column(measure.name)

    def beyond(title: str, low: Tree, high: Tree, size: str = "") -> None:
        gap = sql.cast(exp.Sub(this=high.copy(), expression=low.copy()), "DOUBLE")
        found.append(_Rule(title, exp.GT(this=high, expression=low), gap, size))

    if settings.least is not None:
        beyond(f"{measure.name} at least {settings.least}", value, sql.number(settings.least))
    if settings.greatest is not None:
        beyond(f"{measure.name} at most {settings.greatest}", sql.number(settings.greatest), value)
    if settings.not_above is not None:
        limit, called = _limit(table, settings.not_above)
        beyond(f"{measure.name} not above {called}", limit, value, "above")
    return found


def _by(table: Table, per: Sequence[str]) -> str:
    """Whose rows go together, as a title ends with it."""
    whose = [expressions.label(text, table) for text in per]
    return f", by {listed_words(whose)}" if whose else ""


def _limit(table: Table, text: str) -> tuple[Tree, str]:
    """What a measure must not exceed, and its name: a number of the row, or of a row that it names."""
    if text.strip('"') in {c.name for c in table.columns} or not set(text) & set(".("):
        column = table.number(bare_name(text), what="limit")
        return sql.column(column.name), column.name
    called = _bare(expressions.label(text, table))
    named = linked_column(text, table, "--not-above")
    if named is not None and named.type != "number":
        raise UserError(f"--not-above {called} holds {named.type}; expected numbers")
    return expressions.scalar(text, table, "--not-above"), called


def _bare(text: str) -> str:
    """A name as it is read: without the quotes that SQL needs."""
    return text.replace('"', "")
