"""The figure of a distance: ordered d² against what the law has."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SEA, STONE
from sabueso.screens.distance.result import DistanceGroup
from sabueso.screens.finding import Finding

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def distance_drawing(finding: Finding[DistanceGroup]) -> Drawing | None:
    """Quantiles of the groups with most flagged subjects; None without a group."""
    return one_plot(lambda axes: _distance(axes, finding)) if finding.groups else None


def _distance(axes: Axes, finding: Finding[DistanceGroup]) -> bool:
    """Ordered d² against what chi-square gives: a straight line where the measures are normal."""
    colors = (SEA, PLUM, INK, STONE)
    chosen = sorted(finding.groups, key=lambda g: -g.flagged)[:4]
    for color, g in zip(colors, chosen, strict=False):
        data = g.quantiles
        name = num.group_name(g.group) if g.group else "all subjects"
        axes.plot(
            data.expected, data.observed, "o", color=color, markersize=3.6,
            label=f"{name}, n = {g.n:,}", zorder=2,
        )  # fmt: skip
        beyond = [(e, o) for e, o in zip(data.expected, data.observed, strict=True) if o > g.limit]
        axes.plot(
            [e for e, _ in beyond],
            [o for _, o in beyond],
            "o",
            color=AMBER,
            markersize=5.5,
            zorder=3,
        )
    top = max(max(g.quantiles.expected) for g in chosen)
    axes.plot([0, top], [0, top], color=STONE, linewidth=0.8, zorder=1)
    limit = chosen[0].limit
    axes.axhline(limit, color=PLUM, linewidth=1)
    axes.annotate(
        f"limit {limit:.1f}", (0, limit), xycoords=("axes fraction", "data"), xytext=(4, 3),
        textcoords="offset points", fontsize=8, color=PLUM,
    )  # fmt: skip
    axes.set_yscale("symlog", linthresh=max(limit, 1))
    axes.yaxis.set_major_formatter(plain_number)
    axes.set_xlabel("d² expected of a normal population (chi-square)")
    axes.set_ylabel("d² observed")
    axes.legend(frameon=False, fontsize=8, loc="upper left")
    return True
