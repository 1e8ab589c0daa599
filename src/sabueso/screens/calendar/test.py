"""Hours and weekdays of rows, by whoever recorded them, against the hours of all others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn, Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, money
from sabueso.report.blocks import Suit
from sabueso.screens.calendar.result import CalendarCell, CalendarGroup
from sabueso.screens.calendar.view import CalendarView
from sabueso.screens.finding import Caution, Finding, Flags, NotTested
from sabueso.screens.grouping import Grouping, dated, named_by
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import LEAST_ROWS, Proposal, settings_of
from sabueso.screens.settings import Settings, listed
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.cells import excess, habits

if TYPE_CHECKING:
    from sabueso.stats.description import Description

HOURS = tuple(f"{hour:02d}" for hour in range(24))
LEAST_BATCHES, MOST_KEPT = 20, 40
FEW_GROUPS = 3
OFTEN = 4
"""Weeks of which one with rows in a cell makes it a habit."""


class CalendarSettings(Settings):
    """Settings of ``calendar``."""

    by: list[str] = Field(
        default_factory=list,
        description="whose hours are compared with those of the others (default: role preparer)",
    )
    least: int = Field(2, ge=1, description="batches in a cell below which it is no finding")
    alpha: float = Field(0.05, gt=0, lt=1, description="adjusted p below which a cell is flagged")
    adjust: Method = Field("holm", description="adjustment of p for the number of cells")

    _listed = field_validator("by", mode="before")(listed)


@dataclass(frozen=True)
class _Times:
    """Batches, rows, weeks and units of each group in each weekday and hour. Shapes (g, 7, h); ``weeks``
    has the weeks in which a group recorded there, ``all_weeks`` is of every row."""

    keys: list[ByColumn]
    hours: tuple[str, ...]
    batches: np.ndarray
    rows: np.ndarray
    weeks: np.ndarray
    all_weeks: int
    units: dict[tuple[int, int, int], int]


@dataclass(frozen=True)
class _Table:
    """One way to look at the times: cells and where they lie in the cube."""

    names: list[ByColumn]
    counts: np.ndarray
    habit: np.ndarray
    members: list[list[tuple[int, int]]]


class Calendar(Screen):
    """Cells of hours and weekdays."""

    name = "calendar"
    summary = "rows recorded at hours or weekdays that are not those of whoever recorded them"
    reference = "Haberman, S. J. (1973), Biometrics 29, 205-220"
    settings = CalendarSettings
    group = CalendarGroup
    view = CalendarView
    place = 80
    examples = (
        "sabueso try calendar journal",
        "sabueso try calendar payments --by usuario",
        "sabueso try calendar journal --by preparado --out clock.png",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        table = population.table
        preparer = table.role("preparer")
        if table.dated() is None:
            yield Suit(self.name, "no", "the table has no date")
        elif preparer is None:
            yield Suit(self.name, "no", "the table names no preparer: say with --by whose hours")
        elif _timed(table) is None:
            yield Suit(self.name, "with care", f"weekdays by {preparer.name}: no time of day")
        else:
            yield Suit(self.name, "yes", f"weekdays and hours by {preparer.name}")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        table = population.table
        preparer = table.role("preparer")
        if table.dated() is None or preparer is None:
            return
        if population.account(None).used >= LEAST_ROWS:
            what = "hours and weekdays" if _timed(table) is not None else "weekdays"
            yield Proposal(
                f"{what} of {table.name}",
                settings_of(by=[expressions.quoted_name(preparer.name)]),
                "Work at hours that are not those of whoever did it.",
                f"each {preparer.name} against all others, but for habits",
            )

    def run(self, population: Population, settings: CalendarSettings) -> Finding[CalendarGroup]:
        table = population.table
        grouping = Grouping.of(
            settings.by or [named_by(table, "preparer", "say with --by whose hours to look at")],
            table,
        )
        measure = table.role("amount")
        date = dated(table, self.name)
        reasons = [
            Reason("missing_date", sql.is_missing(sql.column(date.name))),
            Reason("missing_key", exp.or_(*(sql.is_missing(t.copy()) for t in grouping.trees))),
        ]
        for taken in ("weekday", "hour"):
            if any(c.name.lower() == taken for c in table.columns):
                raise UserError(
                    f"table {table.name!r} has a column {taken!r} of its own, which a condition on the "
                    f"{taken} of a row would mean; rename it in the client's file to look at the calendar"
                )
        timed = _timed(table)
        if timed is not None and timed.name != date.name:
            reasons.append(Reason("missing_time", sql.is_missing(sql.column(timed.name))))
        times = _times(population, grouping, reasons, date, timed, measure)
        few = [g for g in range(len(times.keys)) if times.batches[g].sum() < LEAST_BATCHES]
        groups, flags, tested = _judged(times, settings, set(few), measure)
        kept = [key for g, key in enumerate(times.keys) if g not in set(few)]
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=list(
                settings.by or [named_by(table, "preparer", "say with --by whose hours to look at")]
            ),
            settings=settings.model_dump(),
            population=population.account(measure, reasons),
            groups=groups,
            flags=Flags("cell", pa.Table.from_pylist(flags) if flags else pa.table({})),
            tests_made=tested,
            flags_by_chance=settings.alpha if settings.adjust != "bh" and tested else None,
            cautions=_cautions(times, kept, groups, timed),
            not_tested=[
                NotTested(
                    times.keys[g],
                    f"only {int(times.batches[g].sum())} batches; at least {LEAST_BATCHES} are needed",
                    int(times.rows[g].sum()),
                )
                for g in few
            ],
            currency=table.currency,
            scale=measure.scale if measure is not None else 2,
        )


def _timed(table: Table) -> Column | None:
    """The column with a time of day."""
    found = (table.role("date"), table.role("entered"))
    return next((c for c in found if c is not None and c.type in ("timestamp", "time")), None)


def _times(
    population: Population,
    grouping: Grouping,
    reasons: Sequence[Reason],
    date: Column,
    timed: Column | None,
    measure: Column | None,
) -> _Times:
    """Count batches: what a group records within a minute, or on a day where there is no time, is one."""
    minute: Tree = sql.cast(sql.cast(sql.column(date.name), "DATE"), "TEXT")
    if timed is not None:
        clock = sql.cast(sql.column(timed.name), "TEXT")
        width = 16 if timed.type == "timestamp" else 5
        minute = exp.DPipe(
            this=minute, expression=sql.call("SUBSTR", clock, sql.integer(1), sql.integer(width))
        )
    values: dict[str, Tree] = {
        **grouping.values(),
        "weekday": sql.period(sql.column(date.name), "weekday"),
        "hour": sql.text("00") if timed is None else sql.hour(sql.column(timed.name)),
        "minute": minute,
        "week": sql.week(sql.column(date.name)),
        "units": sql.integer(0) if measure is None else sql.minor_units(measure),
    }
    keys = [*grouping.names, "weekday", "hour"]
    base = population.base(values, reasons)
    inner = exp.select(
        *(sql.column(name, "b") for name in (*keys, "minute", "week")),
        exp.alias_(sql.count(), "n"),
        # Both sides of an entry add to 0: what is at stake is one of them.
        exp.alias_(sql.exact_sum(_positive(sql.column("units", "b"))), "units"),
    ).from_(base.subquery("b"))
    inner = inner.group_by(*(sql.column(name, "b") for name in (*keys, "minute", "week")))
    select = exp.select(
        *(sql.column(name, "m") for name in keys),
        exp.alias_(sql.count(), "batches"),
        exp.alias_(exp.Count(this=exp.Distinct(expressions=[sql.column("week", "m")])), "weeks"),
        exp.alias_(sql.exact_sum(sql.column("n", "m")), "n"),
        exp.alias_(sql.exact_sum(sql.column("units", "m")), "units"),
    ).from_(inner.subquery("m"))
    select = select.group_by(*(sql.column(name, "m") for name in keys))
    found = population.query(select.order_by(*(sql.ordered(sql.column(n, "m")) for n in keys)))
    named = grouping.keys(found)
    unique = {tuple(key.values()): key for key in named}
    place = {key: g for g, key in enumerate(unique)}
    hours = ("00",) if timed is None else HOURS
    shape = (len(place), 7, len(hours))
    batches, rows, weeks = (np.zeros(shape, dtype=np.int64) for _ in range(3))
    units: dict[tuple[int, int, int], int] = {}
    for key, row in zip(named, found.to_pylist(), strict=True):
        g, w = place[tuple(key.values())], sql.WEEKDAYS.index(row["weekday"])
        h = hours.index(row["hour"])
        batches[g, w, h], rows[g, w, h], weeks[g, w, h] = (
            row["batches"],
            int(row["n"]),
            row["weeks"],
        )
        units[g, w, h] = int(row["units"] or 0)
    every = exp.Count(this=exp.Distinct(expressions=[sql.column("week", "b")]))
    select = exp.select(exp.alias_(every, "n"))
    select = select.from_(population.base({"week": values["week"]}, reasons).subquery("b"))
    all_weeks = int(population.query(select).column("n")[0].as_py())
    return _Times(list(unique.values()), hours, batches, rows, weeks, all_weeks, units)


def _positive(units: Tree) -> Tree:
    return (
        exp.Case()
        .when(exp.GT(this=units, expression=sql.integer(0)), units.copy())
        .else_(sql.integer(0))
    )


def _tables(times: _Times) -> list[_Table]:
    """Hours, weekdays, and both together: the coarsest first."""
    cube = times.batches
    hours, weekdays = cube.sum(axis=1), cube.sum(axis=2)
    many = len(times.hours)
    # What a group does in a week out of four is a habit too, however little it is of its work.
    often = times.weeks * OFTEN >= max(times.all_weeks, OFTEN)
    by_day = _Table(
        [{"weekday": name} for name in sql.WEEKDAYS],
        weekdays,
        habits(weekdays, 7) | often.any(axis=2),
        [[(w, h) for h in range(many)] for w in range(7)],
    )
    if many == 1:
        return [by_day]
    by_hour = _Table(
        [{"hour": name} for name in times.hours],
        hours,
        habits(hours, 24) | often.any(axis=1),
        [[(w, h) for w in range(7)] for h in range(many)],
    )
    both = [(w, h) for w in range(7) for h in range(many)]
    # A weekday and an hour that are both a habit make one together.
    habit = by_day.habit[:, [w for w, _ in both]] & by_hour.habit[:, [h for _, h in both]]
    habit |= often.reshape(len(cube), -1)
    cells = _Table(
        [{"weekday": sql.WEEKDAYS[w], "hour": times.hours[h]} for w, h in both],
        cube.reshape(len(cube), -1),
        habit,
        [[each] for each in both],
    )
    return [by_hour, by_day, cells]


def _judged(
    times: _Times, settings: CalendarSettings, few: set[int], measure: Column | None
) -> tuple[list[CalendarGroup], list[Cells], int]:
    """Every group's cells; those flagged, each by the coarsest look that tells of it."""
    kept = [g for g in range(len(times.keys)) if g not in few]
    tables = [_Table(t.names, t.counts[kept], t.habit[kept], t.members) for t in _tables(times)]
    results = [excess(t.counts, t.habit) for t in tables]
    all_p = np.concatenate([r.p[np.isfinite(r.p)] for r in results]) if kept else np.empty(0)
    adjusted = adjust(all_p, settings.adjust)
    start, told = 0, []
    for table, result in zip(tables, results, strict=True):
        known = np.isfinite(result.p)
        own = np.full(result.p.shape, np.nan)
        own[known] = adjusted[start : start + int(known.sum())]
        start += int(known.sum())
        told.append((table, result, own))
    groups = [_whole(times, measure)]
    flags: list[Cells] = []
    for place, g in enumerate(kept):
        cells: list[CalendarCell] = []
        seen: set[tuple[int, int]] = set()
        for table, result, own in told:
            for c in np.argsort(np.nan_to_num(own[place], nan=2.0), kind="stable"):
                count = int(table.counts[place, c])
                if not count:
                    continue
                known = np.isfinite(own[place, c])
                members = set(table.members[c])
                flagged = bool(
                    known and own[place, c] < settings.alpha and count >= settings.least
                    and not members <= seen
                )  # fmt: skip
                if flagged:
                    seen |= members
                rows = sum(int(times.rows[g, w, h]) for w, h in members)
                units = sum(times.units.get((g, w, h), 0) for w, h in members)
                cell = CalendarCell(
                    cell=table.names[c],
                    count=count,
                    rows=rows,
                    amount=None if measure is None else money(units, measure.scale),
                    expected=float(result.expected[place, c]),
                    residual=float(result.residual[place, c]) if known else None,
                    p=float(result.p[place, c]) if known else None,
                    p_adjusted=float(own[place, c]) if known else None,
                    usual=bool(table.habit[place, c]),
                    flagged=flagged,
                )
                cells.append(cell)
        cells.sort(key=lambda x: (not x.flagged, 2.0 if x.p is None else x.p))
        flagged_cells = [cell for cell in cells if cell.flagged]
        flags += [_flag(times.keys[g], cell) for cell in flagged_cells]
        groups.append(
            CalendarGroup(
                group=times.keys[g],
                n=int(times.batches[g].sum()),
                rows=int(times.rows[g].sum()),
                cells=cells[:MOST_KEPT],
                flagged=len(flagged_cells),
                overdispersion=max((r.overdispersion for r in results), default=1.0),
            )
        )
    flags.sort(key=lambda flag: (flag["p_adjusted"], -flag["score"]))
    return groups, flags, len(all_p)


def _whole(times: _Times, measure: Column | None) -> CalendarGroup:
    """All groups together, cell by cell."""
    cells = []
    for w in range(7):
        for h, hour in enumerate(times.hours):
            count = int(times.batches[:, w, h].sum())
            if not count:
                continue
            named = {"weekday": sql.WEEKDAYS[w]} | ({"hour": hour} if len(times.hours) > 1 else {})
            units = sum(times.units.get((g, w, h), 0) for g in range(len(times.keys)))
            amount = None if measure is None else money(units, measure.scale)
            rows = int(times.rows[:, w, h].sum())
            cells.append(
                CalendarCell(
                    named, count, rows, amount, float(count), None, None, None, True, False
                )
            )
    return CalendarGroup({}, int(times.batches.sum()), int(times.rows.sum()), cells, 0, 1.0)


def _flag(key: ByColumn, cell: CalendarCell) -> Cells:
    return {
        "subject": {**key, "weekday": cell.cell.get("weekday"), "hour": cell.cell.get("hour")},
        "group": dict(key),
        "score": cell.residual,
        "limit": None,
        "direction": "high",
        "p": cell.p,
        "p_adjusted": cell.p_adjusted,
        "amount": cell.amount,
        "count": cell.count,
        "rows": cell.rows,
        "expected": cell.expected,
    }


def _cautions(
    times: _Times, kept: Sequence[ByColumn], groups: Sequence[CalendarGroup], timed: Column | None
) -> list[Caution]:
    found = []
    if timed is None:
        found.append(
            Caution("no_time", "the rows have no time of day: weekdays alone are compared", {})
        )
    if len(kept) < FEW_GROUPS:
        found.append(
            Caution(
                "too_few",
                f"{len(kept)} of {len(times.keys)} groups have rows enough: there are few others to be compared with",
                {"groups": len(kept)},
            )
        )
    over = max((g.overdispersion for g in groups), default=1.0)
    if over > 1.5:
        found.append(
            Caution(
                "overdispersed",
                f"the residuals spread {over:.1f} times as wide, in squares, as independent batches would: each p "
                "is widened by that",
                {"overdispersion": over},
            )
        )
    return found
