"""What a look around a known date shows: the window in all, its days, then whose rows fill it."""

from __future__ import annotations

from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.screens.event.result import EventGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags

MOST_DAYS = 21


class EventView(View[EventGroup]):
    """The window, its days, then the subjects."""

    subjects = ("subject", "subjects")
    conforming = "subjects that heed no date"

    def headline(self) -> str:
        s = self.finding.used
        days = num.many(s["window"], "day")
        where = f"{days} around" if s["side"] == "around" else f"{days} {s['side']}"
        return f"{where} {s['at']}"

    def name(self) -> str:
        return f"{self.finding.source}, {self.headline()}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        scale = self.finding.scale
        whole_days = g.window.days + g.days_outside
        told = (
            f"{g.window.first} to {g.window.last}, {num.many(g.window.days, 'day')}: {num.many(g.rows_inside, 'row')} of "
            f"{num.amount(g.sum, scale)}, {num.amount(g.expected, scale)} expected of the {g.days_outside:,} other days"
        )
        rank = (
            "no other window is as long"
            if g.rank_p is None
            else f"{num.percent(g.rank_p)} of the windows as long hold as much (itself among them)"
        )
        z = "the other days do not vary" if g.z is None else f"z {num.signed(g.z, 2)}"
        found: list[Block] = [
            Line(told),
            Line(
                f"{z}; {rank}; {num.percent(g.zero_days / whole_days)} of all days have nothing",
                "muted",
            ),
        ]
        days = [d for d in g.days if d.rows] if not whole else g.days
        if days:
            columns = [
                Column("day", "left"),
                Column("rows"),
                Column("sum"),
                Column("p"),
                Column("adj. p"),
            ]
            rows: list[list[Cell]] = [
                [
                    d.day.isoformat(), num.count(d.rows), num.amount(d.sum, scale), num.p_value(d.p),
                    Marked(num.p_value(d.p_adjusted), "mark" if (d.p_adjusted or 1) < 0.05 else "plain"),
                ]
                for d in days[:MOST_DAYS]
            ]  # fmt: skip
            found += [Gap(), Table(columns, rows)]
        return [*found, Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("nobody has more of the rows in the window than chance would give")]
        columns = [
            Column("subject", "flex"), Column("rows"), Column("expected"), Column("sum"), Column("expected"),
            Column("z"), Column("rank p"), Column("adj. p"), Column("", "left"),
        ]  # fmt: skip
        scale = finding.scale
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(),
                num.count(flag["rows"]),
                num.number(flag["expected_rows"], 1),
                num.amount(Decimal(flag["sum"]), scale),
                num.amount(Decimal(flag["expected"]), scale),
                num.signed(flag["z"], 1),
                num.p_value(flag["rank_p"]),
                num.p_value(flag["p_adjusted"]),
                Marked("▲ more than its share"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        s, (g,) = self.finding.used, self.finding.groups
        scale = self.finding.scale
        where = f"from {g.window.first} to {g.window.last}"
        return (
            f"{num.many(flag['rows'], 'row')} of its {flag['rows_in_all']:,} fall {where} ({s['side']} {s['at']}), "
            f"{num.number(flag['expected_rows'], 1)} expected by its share of all rows (adjusted "
            f"{num.p_text(flag['p_adjusted'])}); they come to {num.amount(Decimal(flag['sum']), scale)}."
        )

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.event.figure import event_drawing

        return event_drawing(self.finding)
