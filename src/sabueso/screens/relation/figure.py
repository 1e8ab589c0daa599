"""Figures of a relation: the subjects with both lines, and the residuals against what was fitted."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SEA, STONE
from sabueso.screens.finding import Finding
from sabueso.screens.relation.result import RelationGroup
from sabueso.screens.relation.words import r_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_NAMED = 12


def relation_drawing(finding: Finding[RelationGroup], kind: str) -> Drawing | None:
    """The scatter, or the residuals; None without a line."""
    if not finding.groups or finding.groups[0].slope is None:
        return None
    if kind == "residuals":
        return one_plot(lambda axes: _residuals(axes, finding))
    return one_plot(lambda axes: _scatter(axes, finding))


def _scatter(axes: Axes, finding: Finding[RelationGroup]) -> bool:
    """Subjects, flagged ones by name, the least-squares line and the one by the median slope."""
    g = finding.groups[0]
    points = np.array(g.points)
    named = _named(finding)
    axes.plot(points[:, 0], points[:, 1], "o", color=SEA, markersize=3.4, alpha=0.75, zorder=2)
    low, high = points[:, 0].min(), points[:, 0].max()
    if named:
        low = min(low, min(x for _, x, _ in named))
        high = max(high, max(x for _, x, _ in named))
    ends = np.array([low, high])
    if g.slope is not None and g.intercept is not None:
        axes.plot(
            ends, g.intercept + g.slope * ends, color=INK, linewidth=1.6, label="least squares"
        )
    if g.slope_theil_sen is not None and g.intercept_theil_sen is not None:
        robust = g.intercept_theil_sen + g.slope_theil_sen * ends
        axes.plot(ends, robust, color=PLUM, linewidth=1.2, linestyle="--", label="median of slopes")
    _name(axes, named)
    shown = "" if len(points) == g.n else f", {len(points):,} of them drawn"
    axes.set_xlabel(g.measures[0])
    axes.set_ylabel(g.measures[1])
    axes.set_title(
        f"n {g.n:,}{shown}; r {r_text(g.r)}, rho {r_text(g.rho)}", fontsize=9, color=INK, loc="left"
    )
    _finish(axes)
    return True


def _residuals(axes: Axes, finding: Finding[RelationGroup]) -> bool:
    """What is left of y against what the line gives: a band without form where a line is enough."""
    g = finding.groups[0]
    assert g.slope is not None and g.intercept is not None
    slope, intercept = g.slope, g.intercept
    points = np.array(g.points)
    fitted = intercept + slope * points[:, 0]
    axes.plot(fitted, points[:, 1] - fitted, "o", color=SEA, markersize=3.4, alpha=0.75, zorder=2)
    axes.axhline(0, color=STONE, linewidth=0.8, zorder=1)
    at = [
        (name, intercept + slope * x, y - intercept - slope * x) for name, x, y in _named(finding)
    ]
    _name(axes, at)
    axes.set_xlabel(f"{g.measures[1]} by the least-squares line")
    axes.set_ylabel(f"{g.measures[1]} less that")
    axes.set_title(f"n {g.n:,}; r {r_text(g.r)}", fontsize=9, color=INK, loc="left")
    _finish(axes)
    return True


def _named(finding: Finding[RelationGroup]) -> list[tuple[str, float, float]]:
    """Flagged subjects with their measures, the furthest first."""
    x, y = finding.used["measures"]
    return [
        (finding.flags.named(flag).short()[:24], float(flag["values"][x]), float(flag["values"][y]))
        for flag in finding.flags.rows(MOST_NAMED)
    ]


def _name(axes: Axes, named: list[tuple[str, float, float]]) -> None:
    if named:
        axes.plot(
            [x for _, x, _ in named], [y for _, _, y in named], "o", color=AMBER, markersize=5.5,
            zorder=3, label="off the line, flagged",
        )  # fmt: skip
    middle = float(np.mean(axes.get_xlim()))
    for place, (name, x, y) in enumerate(named):
        left = x > middle
        axes.annotate(
            name, (x, y), textcoords="offset points", fontsize=7, color=INK,
            xytext=(-6 if left else 6, 3 if place % 2 else -8), ha="right" if left else "left",
        )  # fmt: skip


def _finish(axes: Axes) -> None:
    axes.xaxis.set_major_formatter(plain_number)
    axes.yaxis.set_major_formatter(plain_number)
    axes.margins(0.06)
    handles, _ = axes.get_legend_handles_labels()
    if handles:
        axes.legend(frameon=False, fontsize=8, loc="best")
