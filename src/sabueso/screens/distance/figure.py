"""The figure of a distance: ordered d² against what the law has."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SEA, STONE
from sabueso.screens.distance.result import DistanceGroup
from sabueso.screens.finding import Finding
from sabueso.stats.distance import chi_square_limit

if TYPE_CHECKING:
    from matplotlib.axes import Axes


MOST_NAMED = 4
"""Subjects of a group that the figure names."""


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
    limit = max(g.limit for g in chosen)
    for color, g in zip(colors, chosen, strict=False):
        axes.axhline(g.limit, color=PLUM if len(chosen) == 1 else color, linewidth=1)
    lowest = min(g.limit for g in chosen)
    name = (
        f"limit {limit:.1f}"
        if lowest == limit
        else f"limits of the groups, {lowest:.1f} to {limit:.1f}"
    )
    axes.annotate(
        name, (0, limit), xycoords=("axes fraction", "data"), xytext=(4, 3),
        textcoords="offset points", fontsize=8, color=PLUM,
    )  # fmt: skip
    axes.set_yscale("symlog", linthresh=max(limit, 1))
    # No distance is below 0, and the furthest points are whole.
    highest = max(max(g.quantiles.observed) for g in chosen)
    axes.set_ylim(0, max(highest, limit) * 1.6)
    axes.set_xlim(-0.02 * top, 1.08 * top)
    _named(axes, finding, chosen)
    axes.yaxis.set_major_formatter(plain_number)
    axes.set_xlabel("d² expected of a normal population (chi-square)")
    axes.set_ylabel("d² observed")
    axes.legend(frameon=False, fontsize=8, loc="upper left")
    return True


def _named(axes: Axes, finding: Finding[DistanceGroup], chosen: Sequence[DistanceGroup]) -> None:
    """The furthest subjects by name, each at its place among those of its group."""
    places: dict[Any, list[Any]] = {tuple(g.group.values()): [0, g] for g in chosen}
    for flag in finding.flags.rows(MOST_NAMED * len(chosen)):
        found = places.get(tuple((flag.get("group") or {}).values()))
        if found is None or found[0] >= MOST_NAMED:
            continue
        rank, g = found
        at = chi_square_limit((rank + 0.5) / g.n, len(g.measures))
        found[0] = rank + 1
        axes.annotate(
            finding.flags.named(flag).short()[:24], (at, flag["score"]), textcoords="offset points",
            xytext=(-5, 3 if rank % 2 else -9), ha="right", fontsize=6.5, color=INK,
        )  # fmt: skip
