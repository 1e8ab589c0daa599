"""What a look at payees shows: how often each reason is met, and who is flagged."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.screens.payees.result import PayeeGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags

WORDS = {
    "revived": "back from silence",
    "faster": "faster than at their own rate",
    "all_at_once": "all rows within few days",
    "once_and_large": "paid once, and much",
    "new_and_large": "new, and much",
    "before_created": "paid before being known",
    "after_closed": "paid after being closed",
    "often": "more rows than others",
    "numbered_on": "papers numbered one after another",
}


class PayeesView(View[PayeeGroup]):
    """Reasons with their numbers, the bands, then the payees."""

    subjects = ("payee", "payees")
    conforming = "payees who are paid at even rates"

    def headline(self) -> str:
        return f"{', '.join(self.finding.used['per'])} over time"

    def name(self) -> str:
        return f"{self.headline()} of {self.finding.source}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        if not g.n:
            return [Line("no payees to look at")]
        scale = self.finding.scale
        told = (
            f"{num.many(g.n, 'payee')} with {num.many(g.rows, 'row')}; {g.tested_for_silence:,} had a silence of "
            f"{self.finding.used['silent']} days or more after five rows, {g.tested_for_bursts:,} have a rate of "
            "their own"
        )
        if g.tested_for_rows:
            told += f"; of {g.tested_for_rows:,} the number of rows is held against that of all in the linked table"
        # A run of before numbers were looked at has no such figure.
        if document := self.finding.used.get("document"):
            told += f"; {g.asked_for_numbers:,} have numbers enough in {document} to ask whether they follow one another"
        row = "" if g.top_row is None else f"a row from {num.amount(g.top_row, scale)}, "
        large = f"large: {row}a payee from {num.amount(g.top_sum, scale)}"
        found: list[Block] = [Line(told), Line(large, "muted")]
        if whole:
            found += [Gap(), self._cross(g, scale)]
        return [*found, Gap(), *self.flagged()]

    def _cross(self, g: PayeeGroup, scale: int) -> Table:
        """Bands of frequency by bands of money, with counts and sums that tie."""
        columns = [
            Column("recency band", "left"), Column("frequency band"), Column("money band"),
            Column("payees"), Column("sum"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [str(c.r), str(c.f), str(c.m), num.count(c.count), num.amount(c.sum, scale)]
            for c in g.cells
        ]
        total = sum((c.sum for c in g.cells), Decimal(0))
        rows.append(["total", "", "", num.count(g.n), num.amount(total, scale)])
        return Table(columns, rows, strong=frozenset([len(rows) - 1]))

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("no payee has a reason to be looked at")]
        later = self.finding.used.get("run_off", 0)
        columns = [
            Column("payee", "flex"), Column("why", "wrap"), Column("adj. p"),
            Column("rows"), Column("first"), Column("last"), Column(finding.heading),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(),
                Marked("▲ " + "; ".join(_told(flag, reason, later) for reason in flag["reasons"])),
                num.p_value(flag["p_adjusted"]),
                num.count(flag["rows"]),
                flag["first"],
                flag["last"],
                num.amount(Decimal(flag["amount"]), finding.scale),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        later = self.finding.used.get("run_off", 0)
        told = "; ".join(_told(flag, each, later) for each in flag["reasons"])
        amount = num.amount(Decimal(flag["amount"]), self.finding.scale)
        # A run of before these were kept has neither a total nor rows of a part.
        whole = flag["total"] if "total" in flag else flag["amount"]
        total = num.amount(Decimal(whole), self.finding.scale)
        between = flag["first"] if flag["rows"] == 1 else f"from {flag['first']} to {flag['last']}"
        part = "" if flag["amount"] == whole else f", {amount} of it {_part(flag['reasons'])}"
        p = "" if flag["p_adjusted"] is None else f" (adjusted {num.p_text(flag['p_adjusted'])})"
        return f"{told[0].upper()}{told[1:]}{p}; {num.many(flag['rows'], 'row')} of {total} in all, {between}{part}."


def _told(flag: Cells, reason: str, run_off: int) -> str:
    """A reason with its figures."""
    if reason == "revived":
        return f"{WORDS[reason]} of {flag['days_silent']:,} days on {flag['returned']}"
    if reason == "all_at_once":
        return f"{WORDS[reason]}: {flag['burst_rows']:,} from {flag['burst']} on"
    if reason == "faster":
        return (
            f"{WORDS[reason]}: {flag['burst_rows']:,} rows from {flag['burst']} on, "
            f"{num.number(flag['burst_expected'], 1)} expected"
        )
    if reason == "before_created" and flag.get("rows_before_created"):
        rows = num.many(flag["rows_before_created"], "row")
        return f"{WORDS[reason]}: {rows} before {flag['created']}"
    if reason == "after_closed" and flag.get("rows_after_closed"):
        rows = num.many(flag["rows_after_closed"], "row")
        later = f" more than {num.many(run_off, 'day')} later" if run_off else ""
        return f"{WORDS[reason]} on {flag['closed']}: {rows}{later}"
    if reason == "often":
        return f"{WORDS[reason]}: {flag['rows']:,}, {num.number(flag['rows_usual'], 1)} on average"
    if reason == "numbered_on":
        return (
            f"{WORDS[reason]}: {flag['numbers']:,} of the {flag['numbers_span']:,} numbers from {flag['number_first']} "
            f"to {flag['number_last']}"
        )
    return WORDS[reason]


def _part(reasons: Sequence[str]) -> str:
    """Which part of what was paid is at stake."""
    if "revived" in reasons:
        return "since the silence"
    if not {"faster", "all_at_once"}.isdisjoint(reasons):
        return "in those days"
    return "in those rows"
