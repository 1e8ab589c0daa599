"""Hours and weekdays of rows, by whoever recorded them, against the hours of all others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
from pydantic import Field, field_validator

from sabueso.base.plain import ByColumn, Cells
from sabueso.population import expressions, sql
from sabueso.population.accounting import Counting
from sabueso.population.population import Population, Reason
from sabueso.population.table import Column, Table, money
from sabueso.report.blocks import Suit
from sabueso.screens.calendar.result import CalendarCell, CalendarGroup
from sabueso.screens.calendar.times import Times, TimeTable, tables_of, times_of
from sabueso.screens.calendar.view import CalendarView
from sabueso.screens.cells import few_others, with_too_few
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.grouping import Grouping, dated, named_by, without_date, without_key
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import LEAST_ROWS, Proposal, settings_of
from sabueso.screens.settings import Settings, listed_once
from sabueso.stats.adjust import Method, adjust
from sabueso.stats.cells import TestedCells, excess

if TYPE_CHECKING:
    from sabueso.stats.description import Description

LEAST_BATCHES, MOST_KEPT = 20, 40


class CalendarSettings(Settings):
    """Settings of ``calendar``."""

    by: list[str] = Field(
        default_factory=list,
        description="whose hours are compared with those of the others (default: role preparer)",
    )
    least: int = Field(2, ge=1, description="batches in a cell below which it is no finding")
    alpha: float = Field(0.05, gt=0, lt=1, description="adjusted p below which a cell is flagged")
    adjust: Method = Field("holm", description="adjustment of p for the number of cells")

    _listed = field_validator("by", mode="before")(listed_once)


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

    def counts(self, population: Population, settings: CalendarSettings) -> list[Counting]:
        table = population.table
        reasons = _reasons(dated(table, self.name), _timed(table), _whose(table, settings))
        return [Counting(table.role("amount"), reasons)]

    def run(self, population: Population, settings: CalendarSettings) -> Finding[CalendarGroup]:
        table = population.table
        grouping = _whose(table, settings)
        measure = table.role("amount")
        date, timed = dated(table, self.name), _timed(table)
        reasons = _reasons(date, timed, grouping)
        times = times_of(population, grouping, reasons, date, timed, measure)
        batches = times.batches.sum(axis=(1, 2))
        kept = times.only([g for g, n in enumerate(batches) if n >= LEAST_BATCHES])
        groups, flags, tested = _judged(kept, settings, measure, sides_of(table, date, timed))
        groups.insert(0, _whole(times, measure))
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=list(settings.by or grouping.labels),
            settings=settings.model_dump(),
            population=population.account(measure, reasons),
            groups=groups,
            flags=Flags("cell", pa.Table.from_pylist(flags) if flags else pa.table({})),
            tests_made=tested,
            flags_by_chance=settings.alpha if settings.adjust != "bh" and tested else None,
            cautions=_cautions(times, kept.keys, groups, timed),
            not_tested=with_too_few(
                times.keys,
                batches,
                times.rows.sum(axis=(1, 2)),
                LEAST_BATCHES,
                ("batch", "batches"),
            ),
            currency=table.currency,
            scale=measure.scale if measure is not None else 2,
        )


def _whose(table: Table, settings: CalendarSettings) -> Grouping:
    """Those whose hours are looked at."""
    by = settings.by or [named_by(table, "preparer", "say with --by whose hours to look at")]
    return Grouping.of(by, table)


def _reasons(date: Column, timed: Column | None, grouping: Grouping) -> list[Reason]:
    reasons = [without_date(date), without_key(grouping)]
    if timed is not None and timed.name != date.name:
        reasons.append(Reason("missing_time", sql.is_missing(sql.column(timed.name))))
    return reasons


def _timed(table: Table) -> Column | None:
    """The column with a time of day."""
    found = (table.role("date"), table.role("entered"))
    return next((c for c in found if c is not None and c.type in ("timestamp", "time")), None)


def sides_of(table: Table, date: Column, timed: Column | None) -> tuple[str, str]:
    """What the weekday and the hour of a row are called in a condition: a column of the table may have the
    short name."""
    names = {column.name.lower() for column in table.columns}
    sides = []
    for short, column in (("weekday", date), (sql.HOUR, timed)):
        if column is not None and short in names:
            sides.append(f"{short}_of({expressions.quoted_name(column.name)})")
        else:
            sides.append(short)
    return sides[0], sides[1]


Seen = tuple[TimeTable, TestedCells, np.ndarray]
"""A way to look at the times, what was tested of it, and each cell's adjusted p."""


def _judged(
    times: Times, settings: CalendarSettings, measure: Column | None, sides: tuple[str, str]
) -> tuple[list[CalendarGroup], list[Cells], int]:
    """Every group's cells; those flagged, each by the coarsest look that tells of it."""
    tables = tables_of(times)
    results = [excess(t.counts, t.habit) for t in tables]
    known = [np.isfinite(result.p) for result in results]
    all_p = np.concatenate([r.p[k] for r, k in zip(results, known, strict=True)])
    parts = np.split(adjust(all_p, settings.adjust), np.cumsum([int(k.sum()) for k in known])[:-1])
    looks: list[Seen] = []
    for table, result, inside, part in zip(tables, results, known, parts, strict=True):
        adjusted = np.full(result.p.shape, np.nan)
        adjusted[inside] = part
        looks.append((table, result, adjusted))
    groups, flags = [], []
    for g, key in enumerate(times.keys):
        cells = _cells(g, times, looks, settings, measure)
        flagged = [cell for cell in cells if cell.flagged]
        flags += [_flag(key, cell, sides) for cell in flagged]
        groups.append(
            CalendarGroup(
                group=key,
                n=int(times.batches[g].sum()),
                rows=int(times.rows[g].sum()),
                cells=cells[:MOST_KEPT],
                flagged=len(flagged),
                overdispersion=max(float(r.overdispersion.max(initial=1.0)) for r in results),
            )
        )
    flags.sort(key=lambda flag: (flag["p_adjusted"], -flag["score"]))
    return groups, flags, len(all_p)


def _cells(
    g: int,
    times: Times,
    looks: Sequence[Seen],
    settings: CalendarSettings,
    measure: Column | None,
) -> list[CalendarCell]:
    """The cells of one group, flagged ones first, then the least likely."""
    cells: list[CalendarCell] = []
    seen: set[tuple[int, int]] = set()
    for table, result, adjusted in looks:
        filled = np.flatnonzero(table.counts[g])
        for c in filled[np.argsort(np.nan_to_num(adjusted[g, filled], nan=2.0), kind="stable")]:
            count, p, members = int(table.counts[g, c]), adjusted[g, c], table.members[c]
            known = bool(np.isfinite(p))
            flagged = bool(p < settings.alpha) and count >= settings.least
            flagged = flagged and not seen.issuperset(members)
            if flagged:
                seen.update(members)
            units = sum(times.units.get((g, w, h), 0) for w, h in members)
            cells.append(
                CalendarCell(
                    cell=table.names[c],
                    count=count,
                    rows=sum(int(times.rows[g, w, h]) for w, h in members),
                    amount=None if measure is None else money(units, measure.scale),
                    expected=float(result.expected[g, c]),
                    residual=float(result.residual[g, c]) if known else None,
                    p=float(result.p[g, c]) if known else None,
                    p_adjusted=float(p) if known else None,
                    usual=bool(table.habit[g, c]),
                    flagged=flagged,
                )
            )
    cells.sort(key=lambda x: (not x.flagged, 2.0 if x.p is None else x.p))
    return cells


def _whole(times: Times, measure: Column | None) -> CalendarGroup:
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


def _flag(key: ByColumn, cell: CalendarCell, sides: tuple[str, str]) -> Cells:
    at = cell.cell.get("weekday"), cell.cell.get("hour")
    return {
        "subject": {**key, **dict(zip(sides, at, strict=True))},
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
    times: Times, kept: Sequence[ByColumn], groups: Sequence[CalendarGroup], timed: Column | None
) -> list[Caution]:
    found = []
    if timed is None:
        found.append(
            Caution("no_time", "the rows have no time of day: weekdays alone are compared", {})
        )
    found += few_others(len(kept), len(times.keys))
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
