"""What a look below a limit shows: the excess, then who is behind it, and whose amounts are in pieces."""

from __future__ import annotations

from decimal import Decimal

from sabueso.base.plain import Cells
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.screens.split.result import SplitGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags


class SplitView(View[SplitGroup]):
    """Limits with their figures, then the subjects."""

    subjects = ("subject", "subjects")
    conforming = "amounts that do not heed the limit"

    def headline(self) -> str:
        return f"just under {self.finding.used['limit']}"

    def name(self) -> str:
        return f"{self.finding.source} just under {self.finding.used['limit']}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        finding, scale = self.finding, self.finding.scale
        if not finding.groups:
            return [Line("no row has a limit")]
        columns = [
            Column("limit"), Column("rows"), Column("from"), Column("just below"), Column("expected"),
            Column("p"), Column("bundles"), Column("expected"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                num.amount(g.limit, scale),
                num.count(g.n),
                num.amount(g.band.low, scale),
                num.count(g.count),
                num.number(g.expected, 1),
                Marked(num.p_value(g.p), "mark" if g.p is not None and g.p < 0.001 else "plain"),
                num.count(g.clusters),
                num.number(g.expected_clusters, 1),
            ]
            for g in finding.groups
        ]
        s = finding.used
        told = (
            f"a bundle: rows of one {', '.join(s['per'])} within {s['within']} days, each from "
            f"{num.percent(float(s['piece']))} of the limit up to it, together at it or over"
        )
        found: list[Block] = [Table(columns, rows)]
        if s["per"]:
            found.append(Line(told, "muted"))
        return [*found, Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [
                Line(
                    "nobody has more amounts below the limit, or in pieces, than chance would give"
                )
            ]
        columns = [
            Column("subject", "flex"), Column("why", "wrap"), Column("rows"), Column("sum"), Column("adj. p"),
        ]  # fmt: skip
        rows: list[list[Cell]] = [
            [
                finding.flags.named(flag).label(),
                Marked(f"▲ {_told(flag)}"),
                num.count(flag["rows"]),
                num.amount(Decimal(flag["amount"]), finding.scale),
                num.p_value(flag["p_adjusted"]),
            ]
            for flag in finding.flags.rows(MOST_FLAGS)
        ]
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def reason(self, flag: Cells) -> str:
        limit = num.amount(Decimal(flag["each_below"]), self.finding.scale)
        p = num.p_text(flag["p_adjusted"])
        told = _told(flag)
        return f"{told[0].upper()}{told[1:]} (limit {limit}, adjusted {p})."

    def drawing(self, kind: str = "plain") -> Drawing | None:
        from sabueso.screens.split.figure import split_drawing

        return split_drawing(self.finding)


def _told(flag: Cells) -> str:
    """Why somebody is flagged, with the figures of it."""
    parts = []
    if flag["below"] is not None:
        parts.append(
            f"{num.many(flag['below'], 'row')} just below, {num.number(flag['expected_below'], 1)} expected"
        )
    if flag["cluster_count"] is not None:
        parts.append(
            f"{num.many(flag['cluster_count'], 'bundle')} over the limit in pieces, "
            f"{num.number(flag['expected_clusters'], 1)} expected"
        )
    return "; ".join(parts)
