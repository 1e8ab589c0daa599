"""The figure of a comparison of periods: how far each line moved."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import legend, one_plot
from sabueso.report.palette import AMBER, SEA, STONE
from sabueso.screens.finding import Finding
from sabueso.screens.periods.result import Comparison

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_LINES = 16


def periods_drawing(finding: Finding[Comparison]) -> Drawing | None:
    """The changes of the lines; None without a line."""
    if not any(g.lines for g in finding.groups):
        return None
    return one_plot(lambda axes: _periods(axes, finding))


def _periods(axes: Axes, finding: Finding[Comparison]) -> bool:
    """Changes of the lines, flagged ones marked, the largest first."""
    group = finding.groups[0]
    lines = sorted(group.lines, key=lambda x: (not x.flagged, -abs(x.change)))[:MOST_LINES]
    values = [float(line.change) / 1000 for line in lines]
    axes.barh(range(len(lines)), values, color=[AMBER if x.flagged else SEA for x in lines])
    axes.axvline(0, color=STONE, linewidth=0.8)
    axes.set_yticks(range(len(lines)))
    axes.set_yticklabels([num.group_name(line.key) for line in lines])
    axes.invert_yaxis()
    for i, (line, value) in enumerate(zip(lines, values, strict=True)):
        text = "new" if line.change_percent is None else f"{line.change_percent:+.0f}%"
        axes.annotate(
            text.replace("-", num.MINUS), (value, i), textcoords="offset points",
            xytext=(4 if value >= 0 else -4, 0), ha="left" if value >= 0 else "right", va="center",
            fontsize=7.5,
        )  # fmt: skip
    axes.margins(x=0.12)
    axes.set_xlabel(f"change from {group.base} to {group.current}, thousand {finding.currency}")
    legend(axes, [("flagged", AMBER, "bar"), ("within the limits", SEA, "bar")], above=True)
    return True
