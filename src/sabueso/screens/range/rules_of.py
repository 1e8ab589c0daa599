"""The rules that a range declares, in words and as conditions on rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from itertools import pairwise

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.words import listed as listed_words
from sabueso.population import expressions, sql
from sabueso.population.linked import linked_column
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, bare_name
from sabueso.report.numbers import many
from sabueso.screens.grouping import dated
from sabueso.screens.range.apart import ends_of, overlap_of
from sabueso.screens.range.best import best_of
from sabueso.screens.range.columns import is_own, listed_column
from sabueso.screens.range.days import days_from, order_of
from sabueso.screens.range.nights import off_hours, spans_of
from sabueso.screens.range.overdrawn import overdrawn
from sabueso.screens.range.people import is_one, people_of
from sabueso.screens.range.readings import falls
from sabueso.screens.range.resting import off_days
from sabueso.screens.range.result import HAS
from sabueso.screens.range.same import others
from sabueso.screens.range.settings import RangeSettings
from sabueso.screens.range.unique import again


@dataclass(frozen=True)
class RowRule:
    """A rule in words, the condition that breaks it, and by how much the row is beyond it; ``beside`` is what is told besides
    of such a row."""

    title: str
    broken: Tree
    beyond: Tree
    size: str = ""
    beside: Mapping[str, Tree] = field(default_factory=dict)


def rules_of(table: Table, measure: Column | None, settings: RangeSettings) -> list[RowRule]:
    """What is declared. A row is counted for the first rule it breaks. Missing values break ``required`` alone."""
    return [
        *_of_values(table, settings),
        *_of_days(table, settings),
        *_of_owners(table, settings),
        *_of_people_and_times(table, settings),
        *(_of_measure(table, measure, settings) if measure is not None else ()),
    ]


def _none() -> Tree:
    """How far a row is beyond a rule that it only keeps or breaks."""
    return sql.cast(exp.Literal.number("0"), "DOUBLE")


def _of_values(table: Table, settings: RangeSettings) -> Iterator[RowRule]:
    """Values that must be there, or be among some."""
    for name in settings.required:
        column = table.column(name)
        empty = sql.is_missing(sql.column(column.name))
        yield RowRule(f"{column.name} required", empty, _none())
    if settings.column:
        tree, name, kind = listed_column(settings.column, table)
        allowed = exp.In(this=tree, expressions=_values(name, kind, settings.allowed))
        shown = ", ".join(settings.allowed[:4]) + (" …" if len(settings.allowed) > 4 else "")
        title = (
            f"{name} one of {shown}"
            if len(settings.allowed) > 1
            else f"{name} no other than {shown}"
        )
        has = {HAS: sql.cast(tree.copy(), "TEXT")}
        yield RowRule(title, exp.Not(this=allowed), _none(), beside=has)
    if settings.unique:
        found = again(table, settings.unique)
        names = listed_words([_bare(expressions.label(text, table)) for text in settings.unique])
        title = (
            f"{names} of one row each"
            if len(settings.unique) == 1
            else f"{names} together of one row each"
        )
        yield RowRule(title, found.broken, sql.cast(found.before, "DOUBLE"), "again", found.first)


def _values(name: str, kind: str, allowed: Sequence[str]) -> list[Tree]:
    """The values that a column may have, texts or numbers."""
    if kind == "text":
        return [sql.text(value) for value in allowed]
    if kind != "number":
        raise UserError(f"column {name!r} holds {kind}; a list of values needs text or numbers")
    try:
        numbers = [Decimal(value) for value in allowed]
    except InvalidOperation:
        numbers = [Decimal("NaN")]
    if not all(number.is_finite() for number in numbers):
        raise UserError(
            f"column {name!r} holds numbers; expected numbers in the list of values, not {listed_words(allowed)}"
        )
    return [sql.number(number) for number in numbers]


def _of_days(table: Table, settings: RangeSettings) -> Iterator[RowRule]:
    """Days that follow one another."""
    for earlier, later in pairwise(settings.in_order):
        days = days_from(earlier, later, table)
        order = order_of(earlier, later, table)
        title = f"{_bare(later)} not before {_bare(earlier)}"
        yield RowRule(title, order.before, order.by, order.size)
        if settings.least_days is not None:
            least = sql.integer(settings.least_days)
            # What comes before it is told as that.
            soon = [
                exp.GTE(this=days.copy(), expression=sql.integer(0)),
                exp.LT(this=days.copy(), expression=least),
            ]
            title = (
                f"{_bare(later)} at least {many(settings.least_days, 'day')} after {_bare(earlier)}"
            )
            yield RowRule(title, sql.both(soon), sql.cast(days.copy(), "DOUBLE"), "after")
        if settings.most_days is not None:
            beyond_most = exp.GT(this=days.copy(), expression=sql.integer(settings.most_days))
            within = f"within {many(settings.most_days, 'day')} of"
            title = f"{_bare(later)} {within} {_bare(earlier)}"
            yield RowRule(title, beyond_most, sql.cast(days.copy(), "DOUBLE"), "after")
        if settings.most_days_of is not None:
            limit, called = _limit(table, settings.most_days_of, "--most-days-of")
            beyond_limit = exp.GT(this=days.copy(), expression=limit)
            title = f"{_bare(later)} within the {called} days of {_bare(earlier)}"
            yield RowRule(title, beyond_limit, sql.cast(days.copy(), "DOUBLE"), "after")


def _of_owners(table: Table, settings: RangeSettings) -> Iterator[RowRule]:
    """What the other rows of an owner say of one."""
    if settings.rising is not None:
        column = table.number(settings.rising, what="reading")
        falling = falls(table, column.name, settings.per)
        title = f"{column.name} never falls{_by(table, settings.per)}"
        gap = sql.cast(falling.by, "DOUBLE")
        yield RowRule(title, falling.broken, gap, "by")
    if settings.not_overdrawn is not None:
        column = table.number(settings.not_overdrawn, what="movement")
        drawn = overdrawn(table, column, settings.per)
        title = f"sum of {column.name} not below 0{_by(table, settings.per)}"
        yield RowRule(title, drawn.broken, sql.cast(drawn.short, "DOUBLE"), "short")
    if settings.apart:
        ends = ends_of(table, settings.apart)
        overlap = overlap_of(table, ends, settings.per)
        title = f"{ends[0].name} not before the last {ends[1].name}{_by(table, settings.per)}"
        yield RowRule(title, overlap.broken, overlap.days, "over")
    if settings.same is not None:
        column = table.column(settings.same)
        one = others(table, column.name, settings.per)
        owner = listed_words([expressions.label(text, table) for text in settings.per])
        gap = sql.cast(one.by, "DOUBLE")
        yield RowRule(f"{column.name} the same for each {owner}", one.broken, gap, "others")
    if settings.chosen:
        highest = settings.highest is not None
        text = settings.highest or settings.lowest or ""
        column = table.number(text, what="number")
        best = best_of(table, column, settings.per, settings.chosen, highest=highest)
        end = "highest" if highest else "lowest"
        title = f"{column.name} the {end} where {settings.chosen}{_by(table, settings.per)}"
        yield RowRule(title, best.broken, sql.cast(best.by, "DOUBLE"), "worse", best.which)


def _of_people_and_times(table: Table, settings: RangeSettings) -> Iterator[RowRule]:
    """Who made a row, and when."""
    if settings.two_people:
        people = people_of(table, settings.two_people)
        title = f"{people[0].name} and {people[1].name} two people"
        yield RowRule(title, is_one(people), _none())
    if settings.weekdays:
        date = dated(table, "range")
        title = f"{date.name} on {', '.join(settings.weekdays)}"
        yield RowRule(title, off_days(table, date.name, settings.weekdays), _none())
    if settings.hours:
        title = f"recorded from {spans_of(settings.hours)}"
        yield RowRule(title, off_hours(table, settings.hours), _none())


def _of_measure(table: Table, measure: Column, settings: RangeSettings) -> Iterator[RowRule]:
    """Limits of an amount."""
    value = sql.column(measure.name)

    def beyond(title: str, low: Tree, high: Tree, size: str = "") -> RowRule:
        gap = sql.cast(exp.Sub(this=high.copy(), expression=low.copy()), "DOUBLE")
        return RowRule(title, exp.GT(this=high, expression=low), gap, size)

    name = measure.name
    if settings.least is not None:
        yield beyond(f"{name} at least {settings.least}", value, sql.number(settings.least))
    if settings.greatest is not None:
        yield beyond(f"{name} at most {settings.greatest}", sql.number(settings.greatest), value)
    if settings.not_above is not None:
        limit, called = _limit(table, settings.not_above, "--not-above")
        yield beyond(f"{name} not above {called}", limit, value, "above")
    if settings.not_below is not None:
        limit, called = _limit(table, settings.not_below, "--not-below")
        yield beyond(f"{name} not below {called}", value, limit, "below")


def _by(table: Table, per: Sequence[str]) -> str:
    """Whose rows go together, as a title ends with it."""
    whose = [expressions.label(text, table) for text in per]
    return f", by {listed_words(whose)}" if whose else ""


def _limit(table: Table, text: str, what: str) -> tuple[Tree, str]:
    """What a measure must not exceed, or must reach, and its name: a number of the row, or of a row that it names."""
    if is_own(text, table):
        column = table.number(bare_name(text), what="limit")
        return sql.column(column.name), column.name
    called = _bare(expressions.label(text, table))
    named = linked_column(text, table, what)
    if named is not None and named.type != "number":
        raise UserError(f"{what} {called} holds {named.type}; expected numbers")
    return expressions.scalar(text, table, what), called


def _bare(text: str) -> str:
    """A name as it is read: without the quotes that SQL needs."""
    return text.replace('"', "")
