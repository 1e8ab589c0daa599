"""What a match shows: both sides reconciled, then the keys that are absent or present."""

from __future__ import annotations

from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.screens.match.result import MatchGroup, Side
from sabueso.screens.view import MOST_FLAGS, View, more_flags


class MatchView(View[MatchGroup]):
    """Keys, rows and money of both sides, then who is flagged."""

    subjects = ("key", "keys")

    @property
    def _own(self) -> bool:
        """Whether keys were looked for among themselves."""
        return self.finding.flags.kind == "cluster"

    def headline(self) -> str:
        s = self.finding.used
        other = "each other" if self._own else s["other"]
        when = f", by {s['when']}" if s["when"] else ""
        return f"{', '.join(s['on'])} {s['find']} among {other}{when}"

    def name(self) -> str:
        s = self.finding.used
        when = f" by {s['when']}" if s["when"] else ""
        return (
            f"{' and '.join(s['on'])} of {self.finding.source} {s['find']} among {s['other']}{when}"
        )

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        sides = [g.left] if self._own else [g.left, g.right]
        columns = [
            Column("table", "left"), Column("keys"), Column("rows"), Column("amount"),
            Column("matched"), Column("their amount"), Column("absent"), Column("their amount"),
        ]  # fmt: skip
        rows = [self._side(side) for side in sides]
        return [Table(columns, rows), Gap(), *self.flagged()]

    def _side(self, side: Side) -> list[Cell]:
        scale = self.finding.scale
        return [
            side.table,
            num.count(side.keys),
            num.count(side.rows),
            num.amount(side.amount, scale),
            num.count(side.matched),
            num.amount(side.matched_amount, scale),
            num.count(side.absent),
            num.amount(side.absent_amount, scale),
        ]

    def flagged(self) -> list[Block]:
        finding = self.finding
        (g,) = finding.groups
        if not len(finding.flags):
            return [Line(f"no key is {g.find}")]
        present = g.find == "present"
        columns = [Column("key", "wrap"), Column("rows"), Column("amount")]
        timed = finding.used["when"] is not None and not self._own
        columns += [Column(f"{finding.used['when']}s", "wrap")] if timed else []
        if present:
            columns += [Column("is", "wrap"), Column("alike"), Column("differs in", "wrap")]
        rows: list[list[Cell]] = []
        for flag in finding.flags.rows(MOST_FLAGS):
            named = finding.flags.named(flag).short()
            row: list[Cell] = [
                Marked(f"▲ {named}"),
                num.count(flag["rows"]),
                "–"
                if flag["amount"] is None
                else num.amount(Decimal(flag["amount"]), finding.scale),
            ]
            if timed:
                row.append(", ".join(flag["periods"]))
            if present:
                told = _partners(flag, named)
                own = next(iter(flag.get("ids") or []), None)
                row[0] = Marked(f"▲ {named}{f' ({own})' if own else ''}")
                row += [
                    ", ".join(told),
                    num.number(flag["similarity"], 0),
                    ", ".join(flag["differs"]) or "nothing",
                ]
            rows.append(row)
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        columns, rows = " and ".join(self.finding.used["on"]), num.many(flag["rows"], "row")
        named = self.finding.flags.named(flag).short()
        own = next(iter(flag.get("ids") or []), None)
        known = "" if own is None or str(own) == named else f" of {own}"
        other = "other keys of its own table" if self._own else self.finding.used["other"]
        amount = (
            ""
            if flag["amount"] is None
            else f" of {num.amount(Decimal(flag['amount']), self.finding.scale)}"
        )
        if not flag["partners"]:
            periods = f" in {', '.join(flag['periods'])}" if flag.get("periods") else ""
            return f"{columns} {named} has {rows}{amount}{periods}, and is absent among {other}{periods and ' then'}."
        differs = f", unlike in {', '.join(flag['differs'])}" if flag["differs"] else ""
        return f"{columns} {named}{known} has {rows}{amount}, and is among {other}: {', '.join(_partners(flag, named))}{differs}."


def _partners(flag: Cells, named: str) -> list[str]:
    """Those on the other side, each by its id, and by its key where that is written otherwise."""
    return [
        p["key"] if not p["id"] else p["id"] if p["key"] == named else f"{p['key']} ({p['id']})"
        for p in flag["partners"]
    ]
