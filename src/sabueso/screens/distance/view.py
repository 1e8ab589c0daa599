"""What a distance shows: the fit of each group, and the subjects far from it with what drives them."""

from __future__ import annotations

from sabueso.base.words import first_few
from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Drawing, Gap, Line, Marked, Table
from sabueso.screens.distance.result import DistanceGroup
from sabueso.screens.view import MOST_FLAGS, View, more_flags

MOST_GROUPS, MANY_GROUPS, MOST_MEASURES, MOST_NAMED = 6, 60, 2, 8
SCALES = {"none": "", "log": "the log scale of ", "rank": "the normal scores of "}
TOGETHER = 0.9
"""Part of the largest share of a distance from which the next one is named beside it."""


def _center_and_spread(center: float, spread: float) -> tuple[str, str]:
    """Both as text, the centre as far as its spread lets it be told: of 0.000015 beside 1.00 it is nothing."""
    return num.number(0.0 if abs(center) < spread / 1_000 else center), num.number(spread)


class DistanceView(View[DistanceGroup]):
    """Groups with their measures, then the subjects."""

    def headline(self) -> str:
        s = self.finding.used
        scale = SCALES[s["transform"]]
        return f"{s['fit']} distance on {scale}{first_few(s['measures'], MOST_NAMED)}{self.by()}"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        most = MANY_GROUPS if whole else MOST_GROUPS
        found: list[Block] = []
        for g in self.finding.groups[:most]:
            named = f"{num.group_name(g.group)}: " if g.group else ""
            text = (
                f"{named}{g.n:,} subjects, limit of d² {g.limit:.2f}, flagged {g.flagged:,}; Mardia's "
                f"skewness {_p(g.mardia_skewness_p)}, kurtosis {_p(g.mardia_kurtosis_p)}"
            )
            rows: list[list[Cell]] = [
                [name, *_center_and_spread(g.center[j], g.covariance[j][j] ** 0.5)]
                for j, name in enumerate(g.measures)
            ]
            head = [Column("measure", "left"), Column("center"), Column("s")]
            found += [Line(text), Table(head, rows)]
        rest = len(self.finding.groups) - most
        if rest > 0:
            found.append(Line(f"… and {num.many(rest, 'group')} more", "muted"))
        return [*found, Gap(), *self.flagged()]

    def flagged(self) -> list[Block]:
        finding = self.finding
        if not len(finding.flags):
            return [Line("nothing is beyond the limit")]
        measures = finding.settings["measures"][:MOST_MEASURES]
        # The distance that flags stands beside the other.
        other = "classical" if finding.used["fit"] == "robust" else "robust"
        columns = [Column("subject", "flex"), *map(Column, measures)]
        columns += [
            Column("d²"),
            Column(other),
            Column("p"),
            Column("adj. p"),
            Column("driven by", "flex"),
        ]
        rows: list[list[Cell]] = []
        for flag in finding.flags.rows(MOST_FLAGS):
            shares = {k: v for k, v in flag["contribution"].items() if v is not None}
            first, *rest = sorted(shares, key=lambda name: -shares[name])
            # A break between two that go together is of both.
            drivers = [first, *(n for n in rest[:1] if shares[n] >= TOGETHER * shares[first])]
            rows.append(
                [
                    finding.flags.named(flag).short(),
                    *(num.number(flag["values"][m]) for m in measures),
                    num.number(flag["score"], 1),
                    num.number(flag[other], 1),
                    num.p_value(flag["p"]),
                    num.p_value(flag["p_adjusted"]),
                    Marked(", ".join(f"{name} {shares[name]:.0f}%" for name in drivers)),
                ]
            )
        return [Table(columns, rows, rest=more_flags(finding.flags), flags=True)]

    def drawing(self, kind: str = "quantiles") -> Drawing | None:
        from sabueso.screens.distance.figure import distance_drawing

        return distance_drawing(self.finding, kind)


def _p(p: float | None) -> str:
    return "not known" if p is None else num.p_text(p)
