"""What a recomputation shows: how much was checked, then what differs; of a loan the schedule too."""

from __future__ import annotations

import re
from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Sheet, Table
from sabueso.screens.recompute.products import LEAST_SCALE
from sabueso.screens.recompute.result import RecomputeGroup
from sabueso.screens.view import MOST_FLAGS, View, and_more, more_flags

MOST_LINES = 36


class RecomputeView(View[RecomputeGroup]):
    """Counts, the schedule of a loan, then rows, groups or instalments that differ."""

    @property
    def subjects(self) -> tuple[str, str]:  # type: ignore[override]
        return {
            "product": ("row", "rows"), "balance": ("row", "rows"), "totals": ("group", "groups"),
        }.get(self.finding.used["what"], ("instalment", "instalments"))  # fmt: skip

    def headline(self) -> str:
        (g,) = self.finding.groups
        return {
            "product": f"is {g.expression}",
            "balance": f"{g.expression} follows from the one before",
            "totals": g.expression,
            "instalments": f"instalments by {g.expression}",
        }[g.what]

    def name(self) -> str:
        (g,) = self.finding.groups
        what = {"product": "products", "balance": "balances"}.get(g.what, g.what)
        return f"{what} of {self.finding.source}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        scale = self.finding.scale
        told = (
            f"{num.count(g.checked)} checked, {num.count(g.differing)} {self._so(g.differing)}, by "
            f"{_figure(g.difference_total, scale)} in all"
        )
        found: list[Block] = [Line(told)]
        if g.not_checked:
            found.append(
                Line(f"{num.many(g.not_checked, 'row')} without what it takes to compute", "muted")
            )
        found += [Line(text) for text in self._solved(g)]
        if g.schedule is not None:
            found += [Gap(), self._schedule(g, whole=whole)]
        return [*found, Gap(), *self.flagged()]

    def _so(self, many: int) -> str:
        side = self.finding.used["side"]
        if side == "both":
            return num.verb(many, "differs", "differ")
        return f"{num.verb(many, 'is', 'are')} {side} it"

    def _solved(self, g: RecomputeGroup) -> list[str]:
        scale, said = self.finding.scale, []
        if g.solved is not None:
            s = g.solved
            what = (
                f"rate {100 * s.rate:.8f} % a year" if s.rate is not None
                else f"{s.periods:,} instalments" if s.periods is not None
                else f"principal {num.amount(s.principal, scale)}"
            )  # fmt: skip
            several = (
                "" if s.sign_changes <= 1
                else f"; what was paid changes its sign {s.sign_changes} times: other rates may explain it too"
            )  # fmt: skip
            said.append(f"the payments seen are those of: {what}{several}")
        if g.explained is not None:
            e = g.explained
            rate = "no rate" if e.rate is None else f"a rate of {100 * e.rate:.4f} % a year"
            said.append(
                f"from instalment {e.number} on {num.amount(e.payment, scale)} is paid: that is {rate} on the "
                f"{num.amount(e.balance, scale)} owed before it"
            )
        if g.rounding_left:
            said.append(
                f"after the last instalment rounding leaves {num.amount(g.rounding_left, scale)}"
            )
        return said

    def _schedule(self, g: RecomputeGroup, *, whole: bool) -> Table:
        assert g.schedule is not None
        scale = self.finding.scale
        shown = g.schedule if whole else g.schedule[:MOST_LINES]
        columns = [
            Column("no."), Column("due", "left"), Column("expected"), Column("recorded"), Column("difference"),
            Column("cumulated"), Column("", "left"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                num.count(s.number),
                s.due.isoformat(),
                num.amount(s.expected, scale),
                num.amount(s.recorded, scale),
                num.amount(s.difference, scale),
                num.amount(s.cumulated, scale),
                Marked("▲ above" if s.difference > 0 else "▼ below") if s.difference else "",
            ]
            for s in shown
        ]
        return Table(columns, rows, rest=and_more(len(g.schedule) - len(shown), "instalment"))

    def flagged(self) -> list[Block]:
        finding = self.finding
        (g,) = finding.groups
        if not len(finding.flags):
            return [Line(f"nothing {self._so(1)}")]
        scale = finding.scale
        if g.what == "instalments":
            return [Line(f"▲ {self.reason(flag)}") for flag in finding.flags.rows(MOST_FLAGS)]
        columns = [Column("subject", "flex"), Column("recorded"), Column("expected"), Column("difference"),
                   Column("", "left")]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(),
                *(_figure(flag[name], scale) for name in ("recorded", "expected", "difference")),
                Marked(f"{'▲' if flag['direction'] == 'above' else '▼'} {flag['direction']}"),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        scale = self.finding.scale
        recorded, expected, difference = (
            _figure(flag[name], scale) for name in ("recorded", "expected", "difference")
        )
        if "instalments" not in flag:
            apart = _figure(abs(Decimal(flag["difference"])), scale)
            return f"{self._both(recorded, expected)}: {apart} {flag['direction']}."
        n = flag["instalments"]
        which = (
            f"Instalment {flag['subject']['instalment']} of {flag['from']} is"
            if n == 1
            else f"Instalments {flag['subject']['instalment']} to {flag['last']}, {flag['from']} to {flag['to']}, are each"
        )
        total = "" if n == 1 else f", {num.amount(Decimal(flag['amount']), scale)} in all"
        return f"{which} {recorded} where {expected} is due: {difference}{total}."

    def _both(self, recorded: str, expected: str) -> str:
        """Which figure stands where another should, and what has or makes the other."""
        (g,) = self.finding.groups
        used = self.finding.used
        other = used["other"]
        if g.what == "totals" and other:
            sides = (
                (self.finding.table, recorded, used["equals"]),
                (other, expected, used["expect"]),
            )
            return " where ".join(_has(*side) for side in sides)
        if g.what == "totals" and used["side"] != "both":
            return f"{used['equals']} is {recorded} where {used['expect']} is {expected}"
        if g.what == "product":
            return f"{recorded} is recorded where {g.expression} is {expected}"
        return f"{recorded} is recorded where {expected} is expected"

    def steps(self, where: str | None) -> list[str]:
        return [] if self.finding.used["what"] == "instalments" else super().steps(where)

    def sheet(self) -> Sheet:
        (g,) = self.finding.groups
        if g.schedule is None:
            return super().sheet()
        head = ["number", "due", "expected", "recorded", "difference", "cumulated"]
        return Sheet("schedule", head, [[getattr(s, name) for name in head] for s in g.schedule])

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.recompute.figure import recompute_drawing

        return recompute_drawing(self.finding)


def _has(table: str, value: str, figure: str | None) -> str:
    """What the rows of a table come to: ``amount of payments is 1,200.00``, ``bids has 4 rows``."""
    plain = re.fullmatch(r"sum\((\w+|\"[^\"]*\")\)", (figure or "").strip())
    if plain:
        return f"{plain[1].strip(chr(34))} of {table} is {value}"
    if figure == "count(*)":
        return f"{table} has {value} {'row' if value == '1' else 'rows'}"
    return f"{table} has {value}" + (f" ({figure})" if figure else "")


def _figure(value: Decimal | str, scale: int) -> str:
    """An amount with the decimals that it has beyond those of its column; with no more than these where it has as many as are
    computed, as what is divided has."""
    exact = Decimal(value)
    own = -int(exact.normalize().as_tuple().exponent)
    places = scale if own >= LEAST_SCALE else max(scale, own)
    return num.amount(round(exact, places), places)
