"""What a search for repeats shows: how many clusters there are, and each with its rows."""

from __future__ import annotations

from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.screens.repeats.result import RepeatGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags


class RepeatsView(View[RepeatGroup]):
    """Counts, then the clusters, the least likely first."""

    subjects = ("cluster", "clusters")

    def headline(self) -> str:
        (g,) = self.finding.groups
        near = f", within {g.within} days" if g.within is not None else ""
        several = self.finding.used.get("differs")
        return f"repeats of {', '.join(g.same)}{near}" + (
            f", of several {several}" if several else ""
        )

    def name(self) -> str:
        several = self.finding.used.get("differs")
        if several:
            same = " and ".join(self.finding.groups[0].same[:-1])
            return f"one {same} of several {several} in {self.finding.source}"
        return f"repeats of {self.finding.source}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        (g,) = self.finding.groups
        scale = self.finding.scale
        told = (
            f"{num.many(g.clusters, 'cluster')} of {num.count(g.rows)} rows repeat, beyond the first row of "
            f"each {num.amount(g.excess, scale)}"
        )
        found: list[Block] = [Line(told)]
        if g.expected_clusters is not None:
            text = (
                f"of amounts drawn from all rows alike, {num.number(g.expected_clusters, 1)} pairs would lie as "
                "close by chance, round amounts and prices most of all"
            )
            found.append(Line(text, "muted"))
        return [*found, Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("nothing repeats but what is usual")]
        columns = [
            Column("of", "left"), Column(finding.heading), Column("rows"), Column("beyond one"),
            Column("chance"), Column("how", "wrap"), Column("rows of it", "wrap"),
        ]  # fmt: skip
        rows: list[list[Cell]] = []
        for flag in finding.flags.rows(MOST_FLAGS):
            named = [m["id"] or f"{m['file']}:{m['line']}" for m in flag["members"]]
            more = f" and {len(named) - 3} more" if len(named) > 3 else ""
            rows.append(
                [
                    str(flag["subject"]["party"]),
                    num.amount(Decimal(flag["subject"]["amount"]), finding.scale),
                    num.count(flag["rows"]),
                    num.amount(flag["excess"], finding.scale),
                    num.p_value(flag["p"]),
                    Marked("; ".join(flag["differs"])),
                    ", ".join(named[:3]) + more,
                ]
            )
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        scale = self.finding.scale
        named = [m["id"] or f"{m['file']}:{m['line']}" for m in flag["members"]]
        more = f" and {len(named) - 6} more" if len(named) > 6 else ""
        return (
            f"{num.many(flag['rows'], 'row')} of {flag['subject']['party']} of "
            f"{num.amount(Decimal(flag['subject']['amount']), scale)}, {', '.join(flag['differs'])}: "
            f"{', '.join(named[:6])}{more}; beyond one of them {num.amount(flag['excess'], scale)}."
        )

    def steps(self, where: str | None) -> list[str]:
        return []
