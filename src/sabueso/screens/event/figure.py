"""The figure of a look around a known date: the days of the window and what other days have."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.report.blocks import Drawing
from sabueso.report.canvas import legend, one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SAND
from sabueso.screens.event.result import EventGroup
from sabueso.screens.finding import Finding

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def event_drawing(finding: Finding[EventGroup]) -> Drawing | None:
    """The days of the window; None where it has no rows."""
    (g,) = finding.groups
    return one_plot(lambda axes: _days(axes, finding, g)) if g.rows_inside else None


def _days(axes: Axes, finding: Finding[EventGroup], g: EventGroup) -> bool:
    places = range(len(g.days))
    axes.axhspan(max(0.0, g.mean - g.sd), g.mean + g.sd, color=SAND, zorder=0)
    axes.axhline(g.mean, color=INK, linewidth=1, zorder=1)
    axes.bar(places, [float(d.sum) for d in g.days], color=AMBER, width=0.7, zorder=2)
    at = (g.at - g.window.first).days
    if -1 <= at <= len(g.days):
        axes.axvline(at, color=PLUM, linewidth=1.2)
    step = -(-len(g.days) // 9)
    axes.set_xticks(list(places)[::step])
    axes.set_xticklabels([f"{d.day:%d %b}" for d in g.days][::step])
    axes.yaxis.set_major_formatter(plain_number)
    axes.set_ylabel(f"{finding.measured} a day")
    axes.set_xlabel(f"{g.window.first} to {g.window.last}")
    marks = [
        ("in the window", AMBER, "bar"), ("mean of other days", INK, "tick"),
        ("± one standard deviation", SAND, "bar"), (f"{g.at}", PLUM, "band"),
    ]  # fmt: skip
    legend(axes, marks, above=True)
    return True
