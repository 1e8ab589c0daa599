"""Rows before, after or around a known date, in all and by whoever they are of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, datetime
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.population import expressions
from sabueso.population.accounting import Counting
from sabueso.population.population import Population
from sabueso.population.table import Column, Table, money
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.event.days import Daily, Days, window_of
from sabueso.screens.event.result import EventGroup, Span, WindowDay
from sabueso.screens.event.view import EventView
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import Grouping, dated, named_by, without_date_or_key
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.settings import Settings, listed_once
from sabueso.screens.subject import Selected, Subject
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.hypergeometric import upper_tails
from sabueso.stats.window import Window, day_tail, look

if TYPE_CHECKING:
    from sabueso.stats.description import Description

LEAST_INSIDE = 3
FEW_DAYS = 60


class EventSettings(Settings):
    """Settings of ``event``."""

    at: date = Field(description="the known date: 2025-05-21, or a fact of the plan")
    window: int = Field(8, ge=1, le=366, description="days of the window")
    side: Literal["before", "after", "around"] = Field(
        "before",
        description="where the window lies; around has as many days on either side, and the date",
    )
    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    per: list[str] = Field(
        default_factory=list, description="whose rows they are (default: role party)"
    )
    alpha: float = Field(
        0.01, gt=0, lt=1, description="adjusted p below which a subject is flagged"
    )
    adjust: Method = Field("holm", description="adjustment of p for the number of subjects")

    _listed = field_validator("per", mode="before")(listed_once)


class Event(Screen):
    """A window of days against the others."""

    name = "event"
    summary = "payments that crowd before, after or around a known date"
    reference = (
        "none: a window against the other days; whose rows they are by the hypergeometric law"
    )
    settings = EventSettings
    group = EventGroup
    view = EventView
    place = 92
    examples = (
        "sabueso try event payments --at 2025-05-21",
        "sabueso try event payments --at 2025-05-21 --window 10 --side around --per usuario",
        "sabueso try event journal --at 2024-12-31 --window 5 --side around --per cuenta --out close.png",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        if table.dated() is None or "amount" not in table.roles:
            yield Suit(self.name, "no", "the table has no date, or no amount")
            return
        named = _dates(table)
        if not named:
            yield Suit(
                self.name, "with care", "where a date matters: none stands in the plan", ready=False
            )
            return
        name, day = named[0]
        yield Suit(self.name, "yes", f"{name} in the plan, {day}", f"--at facts.{name}")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        table = population.table
        if described is None or described.n < LEAST_ROWS or table.role("party") is None:
            return
        if table.dated() is None or is_budget(table):
            return
        first, last = population.account(None).first_date, population.account(None).last_date
        for name, day in _dates(table):
            if first is not None and last is not None and first < day.isoformat() <= last:
                yield Proposal(
                    f"{table.name} before {name}",
                    settings_of(at=f"facts.{name}"),
                    f"Who was paid more than usual just before {name}.",
                    f"{name} of the plan is {day}",
                )

    def counts(self, population: Population, settings: EventSettings) -> list[Counting]:
        table = population.table
        measure, when = table.measure(settings.on), dated(table, self.name)
        return [Counting(measure, without_date_or_key(measure, when, _whose(table, settings)))]

    def run(self, population: Population, settings: EventSettings) -> Finding[EventGroup]:
        table = population.table
        measure, when = table.measure(settings.on), dated(table, self.name)
        grouping = _whose(table, settings)
        reasons = without_date_or_key(measure, when, grouping)
        days = Days(population, when, measure, reasons)
        every = days.all()
        first, last = window_of(settings.at, settings.window, settings.side)
        start, many = every.place(first), (last - first).days + 1
        if start < 0 or start + many > len(every.rows):
            end = every.first.fromordinal(every.first.toordinal() + len(every.rows) - 1)
            raise UserError(
                f"the window from {first} to {last} does not lie within the days of the rows, {every.first} to {end}"
            )
        whole = _looked(every, start, many, measure)
        found = days.by_subject(grouping, first, last)
        flags, tested = _flags(
            _Asked(days, grouping, every, (start, many), measure, when, settings), found
        )
        group = _group(settings, every, whole, start, measure, len(found), len(flags))
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={"per": list(grouping.labels)},
            population=population.account(measure, reasons),
            groups=[group],
            flags=Flags("entity", pa.Table.from_pylist(flags) if flags else pa.table({}), _rows_of),
            tests_made=tested,
            subjects=len(found),
            flags_by_chance=settings.alpha if tested and settings.adjust != "bh" else None,
            cautions=_cautions(group),
            not_tested=[],
            currency=unit_of(table, measure),
            scale=measure.scale,
        )


def _whose(table: Table, settings: EventSettings) -> Grouping:
    """Those whose rows before and after the event are compared."""
    per = settings.per or [named_by(table, "party", "say with --per whose rows they are")]
    return Grouping.of(per, table)


def _dates(table: Table) -> list[tuple[str, date]]:
    """Known dates of the plan that are no lists."""
    return [
        (name, value)
        for name, value in table.facts.items()
        if isinstance(value, date) and not isinstance(value, datetime)
    ]


def _looked(daily: Daily, start: int, many: int, measure: Column) -> Window:
    amounts = np.array([float(units) for units in daily.units]) / 10**measure.scale
    return look(amounts, start, many)


class _Asked:
    """What is needed to judge subjects."""

    def __init__(
        self,
        days: Days,
        grouping: Grouping,
        every: Daily,
        window: tuple[int, int],
        measure: Column,
        when: Column,
        settings: EventSettings,
    ) -> None:
        self.days, self.grouping, self.every = days, grouping, every
        self.start, self.many = window
        self.measure, self.when, self.settings = measure, when, settings


def _flags(asked: _Asked, found: pa.Table) -> tuple[list[Cells], int]:
    """Subjects of which more days with rows lie in the window than their share of all: days, since rows of
    one day come together."""
    own_days = found.column("days").to_numpy().astype(np.int64)
    inside = found.column("days_inside").to_numpy().astype(np.int64)
    whole, window = int(own_days.sum()), int(inside.sum())
    p = upper_tails(inside, whole, window, own_days)
    p = np.where(inside > 0, p, 1.0)
    settings = asked.settings
    adjusted = adjust(p, settings.adjust) if len(p) else p
    rows = found.column("inside").to_numpy().astype(np.int64)
    every = found.column("n").to_numpy().astype(np.int64)
    names = asked.grouping.names
    flags: list[Cells] = []
    for place in np.flatnonzero((adjusted < settings.alpha) & (rows >= LEAST_INSIDE)):
        key = [found.column(name)[place].as_py() for name in names]
        own = _looked(
            asked.days.of(asked.grouping, key, asked.every), asked.start, asked.many, asked.measure
        )
        total = money(int(found.column("total")[place].as_py() or 0), asked.measure.scale)
        flags.append(
            {
                "subject": dict(zip(asked.grouping.labels, key, strict=True)),
                "score": own.z,
                "limit": None,
                "direction": settings.side,
                "p": float(p[place]),
                "p_adjusted": float(adjusted[place]),
                "amount": total,
                "sum": total,
                "expected": _rounded(own.expected, asked.measure),
                "z": own.z,
                "rank_p": own.rank_p,
                "rows": int(rows[place]),
                "rows_in_all": int(every[place]),
                "days": int(inside[place]),
                "expected_rows": float(every[place] * rows.sum() / max(int(every.sum()), 1)),
                "selects": _condition(asked, key),
            }
        )
    flags.sort(key=lambda f: (f["p_adjusted"], -abs(f["amount"])))
    return flags, len(p)


def _rounded(value: float, measure: Column) -> Decimal:
    return round(Decimal(value), measure.scale)


def _condition(asked: _Asked, key: list[Any]) -> str:
    """The rows of a subject in the window, as a user types them."""
    first, last = window_of(asked.settings.at, asked.settings.window, asked.settings.side)
    names = [asked.when.name]
    own = [
        expressions.equals(label, value, asked.grouping.known)
        for label, value in zip(asked.grouping.labels, key, strict=True)
    ]
    day = expressions.quoted_name(names[0])
    if asked.when.type != "date":
        day = f"cast({day} as date)"
    where = f" and ({asked.settings.where})" if asked.settings.where else ""
    return f"{' and '.join(own)} and {day} >= '{first}' and {day} <= '{last}'{where}"


def _group(
    settings: EventSettings,
    every: Daily,
    whole: Window,
    start: int,
    measure: Column,
    subjects: int,
    flagged: int,
) -> EventGroup:
    scale, many = measure.scale, whole.days
    first, last = window_of(settings.at, settings.window, settings.side)
    listed_days = []
    for place in range(start, start + many):
        units = int(every.units[place])
        p = day_tail(units / 10**scale, whole.outside, whole.mean, whole.sd)
        day = every.first.fromordinal(every.first.toordinal() + place)
        adjusted = None if p is None else min(1.0, p * len(every.rows))
        listed_days.append(WindowDay(day, int(every.rows[place]), money(units, scale), p, adjusted))
    inside = slice(start, start + many)
    return EventGroup(
        group={},
        at=settings.at,
        window=Span(first, last, many),
        days_outside=whole.outside,
        rows=int(every.rows.sum()),
        rows_inside=int(every.rows[inside].sum()),
        sum=money(int(sum(every.units[inside])), scale),
        expected=_rounded(whole.expected, measure),
        mean=whole.mean,
        sd=whole.sd,
        zero_days=int((every.rows == 0).sum()),
        z=whole.z,
        rank_p=whole.rank_p,
        days=listed_days,
        subjects=subjects,
        flagged=flagged,
    )


def _rows_of(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    return Selected(flag["subject"], str(flag["selects"]))


def _cautions(group: EventGroup) -> list[Caution]:
    found = []
    if group.days_outside < FEW_DAYS:
        text = f"there are {group.days_outside:,} days outside of the window: too few to tell what is usual"
        found.append(Caution("too_few", text, {"days": group.days_outside}))
    whole = group.window.days + group.days_outside
    if group.zero_days > 0.2 * whole:
        text = (
            f"{num.percent(group.zero_days / whole)} of the days have nothing, weekends among them: z is of days that are "
            "no normal data, and the rank of the window says more"
        )
        found.append(Caution("many_zeros", text, {"days": group.zero_days}))
    return found
