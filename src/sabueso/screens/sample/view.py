"""What a sample shows: what it was drawn of, and what was drawn."""

from __future__ import annotations

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Table
from sabueso.screens.sample.result import Draw, SampleGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags

METHODS = {
    "random": "drawn at random",
    "systematic": "drawn at equal intervals",
    "money": "drawn in proportion to the amounts",
    "strata": "drawn at random within strata",
}


class SampleView(View[SampleGroup]):
    """Strata, then the items."""

    subjects = ("row", "rows")

    @property
    def draw(self) -> Draw:
        found = self.finding.more
        assert isinstance(found, Draw)
        return found

    def headline(self) -> str:
        return f"a sample {METHODS[self.draw.method]}"

    def name(self) -> str:
        return f"sample of {self.finding.source}"

    def untested(self) -> str:
        return f"drawn {self.draw.size:,} of {num.many(self.finding.looked_at, *self.subjects)}: nothing is tested or flagged"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        scale = self.finding.scale
        measured = self.finding.on is not None
        columns = [Column("of", "flex"), Column("rows"), Column("drawn")]
        columns += (
            [Column(self.finding.heading), Column(f"{self.finding.heading} drawn")]
            if measured
            else []
        )
        rows: list[list[Cell]] = []
        for g in self.finding.groups:
            row: list[Cell] = [
                part_name(g, scale), num.count(g.n), f"{g.size:,}{' (all)' if g.whole else ''}"
            ]  # fmt: skip
            row += [num.amount(g.total, scale), num.amount(g.drawn, scale)] if measured else []
            rows.append(row)
        return [Table(columns, rows), Gap(), *self._how(), Gap(), *self.flagged()]

    def _how(self) -> list[Block]:
        """The size and where it is from, the seed, the interval."""
        draw, scale = self.draw, self.finding.scale
        size = f"size {draw.size:,}" + (
            f", solved for {draw.solved_for}" if draw.solved_for else ", as asked for"
        )
        told = [size, f"seed {self.finding.used['seed']}"]
        if draw.interval is not None:
            unit = "items" if draw.method == "systematic" else "of amount"
            interval = (
                draw.interval if draw.method == "systematic" else num.amount(draw.interval, scale)
            )
            start = draw.start if draw.method == "systematic" else num.amount(draw.start, scale)
            told.append(f"every {interval} {unit}, from {start}")
        return [Line("; ".join(told))]

    def flagged(self) -> list[Block]:
        finding = self.finding
        columns = [
            Column("row", "left"),
            Column(finding.heading),
            Column("why it is in the sample", "wrap"),
        ]
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).short(),
                num.amount(flag.get("amount"), finding.scale),
                str(flag["reason"]),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        return f"Drawn into a sample of {self.finding.looked_at:,} rows: {flag['reason']}."


def part_name(group: SampleGroup, scale: int) -> str:
    """What a stratum is called."""
    if "part" in group.group:
        return str(group.group["part"])
    if "stratum" not in group.group:
        return "all"
    low = None if group.low is None else num.amount(group.low, scale)
    high = None if group.high is None else num.amount(group.high, scale)
    if low is None and high is None:
        return "all"
    if low is None:
        return f"below {high}"
    return f"{low} and above" if high is None else f"{low} to below {high}"
