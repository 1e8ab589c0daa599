"""What a test by deviates shows: limits, rows beyond them, and what the measure is without those."""

from __future__ import annotations

from sabueso.report import numbers as num
from sabueso.report.blocks import Block, Cell, Column, Gap, Line, Marked, Table
from sabueso.screens.limits.view import LimitView
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
        return [*self.limits(whole=whole), *self._steps(), *self.flagged(), *self._effect()]

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

    def _effect(self) -> list[Block]:
        """What the flagged rows do to the group that has most of them."""
        touched = [g for g in self.finding.groups if g.flagged and g.without_flags]
        if not touched:
            return []
        g = max(touched, key=lambda item: item.flagged)
        before, after = g.with_flags, g.without_flags
        assert after is not None
        scale = self.finding.scale
        where = f" in {num.group_name(g.group)}" if self.finding.by else ""
        text = (
            f"without the {g.flagged:,} flagged{where}: mean {num.number(before.mean, scale)} → "
            f"{num.number(after.mean, scale)}, median {num.number(before.median, scale)} → "
            f"{num.number(after.median, scale)}, s {num.number(before.sd, scale)} → "
            f"{num.number(after.sd, scale)}"
        )
        return [Gap(), Line(text)]
