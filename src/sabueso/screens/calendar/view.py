"""What a look at the calendar shows: cells that are not the hours of whoever recorded there."""

from __future__ import annotations

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.expressions import equals
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.report.commands import shell
from sabueso.screens.calendar.result import CalendarGroup, side_values
from sabueso.screens.cells import cell_figures
from sabueso.screens.view import MOST_FLAGS, View, more_flags


class CalendarView(View[CalendarGroup]):
    """Flagged cells; before them how many batches lie on each weekday."""

    subjects = ("cell", "cells")
    conforming = "groups that share their hours"
    foremost = frozenset({"no_time"})

    def headline(self) -> str:
        timed = any("hour" in cell.cell for cell in self.finding.groups[0].cells)
        what = "hours and weekdays" if timed else "weekdays"
        return f"{what}{self.by()}"

    def name(self) -> str:
        return f"{self.headline()} of {self.finding.source}".replace(",", " and")

    def blocks(self, *, whole: bool = False) -> list[Block]:
        everything = self.finding.groups[0]
        if not everything.n:
            return [Line("no rows to look at")]
        days = dict.fromkeys(sql.WEEKDAYS, 0)
        for cell in everything.cells:
            days[str(cell.cell["weekday"])] += cell.count
        told = ", ".join(f"{day} {num.percent(n / everything.n, 1)}" for day, n in days.items())
        return [
            Line(f"{everything.n:,} batches of {everything.rows:,} rows: {told}", "muted"),
            Gap(),
            *self.flagged(),
        ]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [
                Line(
                    "nobody recorded at hours that are not theirs by more than chance would have it"
                )
            ]
        columns = [
            Column("who", "flex"), Column("when", "left"), Column("batches"), Column("expected"),
            Column("rows"), Column("amount"), Column("residual"), Column("adj. p"), Column("", "left"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                num.group_name(flag["group"]),
                when(flag),
                num.count(flag["count"]),
                num.number(flag["expected"], 1),
                num.count(flag["rows"]),
                *cell_figures(flag, finding.scale),
                Marked("▲ not their time"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        whose = num.group_name(flag["group"]) if flag["group"] else "all"
        rows = "" if flag["rows"] == flag["count"] else f" ({num.many(flag['rows'], 'row')})"
        at = "on" if side_values(flag)[0] else "at"
        return (
            f"Recorded {at} {when(flag)}: {num.many(flag['count'], 'batch', 'batches')}{rows} of {whose}, where "
            f"{num.number(flag['expected'], 1)} would be expected if they kept the hours of all "
            f"(adjusted {num.p_text(flag['p_adjusted'])})."
        )

    def steps(self, where: str | None) -> list[str]:
        flag = next(self.finding.flags.rows(1), None)
        if flag is None:
            return []
        # Hours and weekdays are names of the role date's parts.
        known = {*(self.finding.columns or ()), "hour", "weekday"}
        parts = [
            equals(name, value, known)
            for name, value in flag["subject"].items()
            if value is not None
        ]
        condition = " and ".join([*parts, *([f"({where})"] if where else [])])
        return [f"sabueso dig {self.finding.source} --where {shell(condition)} --rows"]

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.calendar.figure import calendar_drawing

        return calendar_drawing(self.finding)


def when(flag: Cells) -> str:
    """A cell in words: Sun, 03:00, Sun 03:00."""
    weekday, hour = side_values(flag)
    return " ".join(each for each in (weekday, hour and f"{hour}:00") if each)
