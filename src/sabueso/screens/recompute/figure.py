"""The figure of a recomputation: instalments beside the terms, or the differences by their size."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING

from sabueso.report.blocks import Drawing
from sabueso.report.canvas import legend, one_plot, plain_number
from sabueso.report.palette import AMBER, INK, SEA, STONE
from sabueso.screens.finding import Finding
from sabueso.screens.recompute.result import RecomputeGroup, Scheduled

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_BARS = 20


def recompute_drawing(finding: Finding[RecomputeGroup]) -> Drawing | None:
    """The instalments, or the largest differences; None where nothing differs."""
    (g,) = finding.groups
    if g.schedule:
        schedule = g.schedule
        return one_plot(lambda axes: _schedule(axes, finding, schedule))
    if not len(finding.flags):
        return None
    many = min(len(finding.flags), MOST_BARS)
    return one_plot(lambda axes: _differences(axes, finding), max(0.6, many / 9))


def _schedule(axes: Axes, finding: Finding[RecomputeGroup], lines: list[Scheduled]) -> bool:
    """Differences of the instalments as bars, cumulated as a line."""
    numbers = [s.number for s in lines]
    axes.bar(
        numbers,
        [float(s.difference) for s in lines],
        color=[AMBER if s.difference else SEA for s in lines],
    )
    axes.plot(
        numbers,
        [float(s.cumulated) for s in lines],
        color=INK,
        linewidth=1.2,
        marker="o",
        markersize=2.5,
    )
    axes.axhline(0, color=STONE, linewidth=0.8)
    axes.yaxis.set_major_formatter(plain_number)
    axes.set_xlabel(f"instalment, from {lines[0].due} to {lines[-1].due}")
    axes.set_ylabel(f"recorded less expected, {finding.unit}")
    legend(axes, [("difference", AMBER, "bar"), ("cumulated", INK, "tick")], above=True)
    return True


def _differences(axes: Axes, finding: Finding[RecomputeGroup]) -> bool:
    flags = list(finding.flags.rows(MOST_BARS))
    values = [float(Decimal(flag["difference"])) for flag in flags]
    axes.barh(range(len(flags)), values, color=AMBER)
    axes.axvline(0, color=STONE, linewidth=0.8)
    axes.set_yticks(range(len(flags)))
    axes.set_yticklabels([finding.flags.named(flag).short() for flag in flags])
    axes.invert_yaxis()
    axes.xaxis.set_major_formatter(plain_number)
    axes.set_xlabel(f"recorded less expected, {finding.unit}")
    return True
