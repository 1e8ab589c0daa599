"""The figure of a look below a limit: rows of each bin around it, the curve, the band."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.report.blocks import Drawing
from sabueso.report.canvas import legend, one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SEA
from sabueso.screens.finding import Finding
from sabueso.screens.split.result import SplitGroup

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def split_drawing(finding: Finding[SplitGroup]) -> Drawing | None:
    """Bins around the limit with the least likely excess; None where none has enough rows."""
    judged = [g for g in finding.groups if g.bins]
    if not judged:
        return None
    one = min(judged, key=lambda g: 1.0 if g.p is None else g.p)
    return one_plot(lambda axes: _bins(axes, finding, one))


def _bins(axes: Axes, finding: Finding[SplitGroup], g: SplitGroup) -> bool:
    assert g.bins is not None
    width = float(g.band.high - g.band.low)
    for each in g.bins:
        color = AMBER if each.inside else SEA
        axes.bar(float(each.low), each.count, width=width * 0.92, align="edge", color=color)
    middle = [float(each.low) + width / 2 for each in g.bins]
    axes.plot(middle, [each.expected for each in g.bins], color=INK, linewidth=1.2)
    axes.axvline(float(g.limit), color=PLUM, linewidth=1)
    axes.xaxis.set_major_formatter(plain_number)
    axes.yaxis.set_major_formatter(plain_number)
    axes.set_xlabel(f"{finding.measured}; {g.around:,} rows around the limit")
    axes.set_ylabel("rows")
    legend(
        axes,
        [
            ("around", SEA, "bar"),
            ("just below", AMBER, "bar"),
            ("expected", INK, "tick"),
            ("limit", PLUM, "band"),
        ],
        above=True,
    )
    return True
