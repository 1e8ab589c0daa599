"""What a test by deviates shows: limits, rows beyond them, and what the measure is without those."""

from __future__ import annotations

from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Marked, Table
from sabueso.screens.limits.view import LimitView, effect_blocks
from sabueso.screens.zscore.result import DeviateResult

MOST_STEPS = 12


class ZScoreView(LimitView[DeviateResult]):
    """Whether a limit in standard deviations means anything comes before the limit."""

    foremost = frozenset({"not_normal"})

    def headline(self) -> str:
        s = self.finding.used
        kind = "modified z-score" if s["method"] == "modified" else "z-score"
        scale = " on the log scale" if s["scale"] == "log" else ""
        if s["method"] == "sequential":
            return f"up to {s['most']} sequential deviates{scale}{self.by()}"
        return f"{kind} beyond {s['limit'].normalize():f}{scale}{self.by()}"

    def columns(self) -> dict[str, str]:
        return {"mean": "mean", "sd": "s", "median": "median", "low": "low", "high": "high"}

    def beside(self) -> tuple[str, ...]:
        return "mean", "sd", "low", "high"

    def blocks(self, *, whole: bool = False) -> list[Block]:
        return [
            *self.limits(whole=whole),
            *self._steps(),
            *self.flagged(),
            *effect_blocks(self.finding),
        ]

    def _steps(self) -> list[Block]:
        """The steps of the sequential test in the group with the most outliers."""
        finding = self.finding
        g = max(finding.groups, key=lambda item: item.flagged, default=None)
        if g is None or not g.sequential:
            return []
        where = f", {num.group_name(g.group)}" if finding.by else ""
        columns = [
            Column(f"removed{where}"),
            Column("deviate"),
            Column("limit"),
            Column("", "left"),
        ]
        rows: list[list[Cell]] = [
            [
                num.number(step.value, finding.scale),
                f"{step.statistic:.3f}",
                f"{step.limit:.3f}",
                Marked("◆ outlier" if step.outlier else ""),
            ]
            for step in g.sequential[:MOST_STEPS]
        ]
        return [Gap(), Table(columns, rows)]
