"""Figures of a distance: ordered d² against what the law has, two measures with the ellipses of both fits,
one distance against the other, the measures' correlations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SEA, STONE
from sabueso.screens.distance.result import DistanceGroup
from sabueso.screens.finding import Finding
from sabueso.stats.distance import chi_square_limit, chi_square_tail

if TYPE_CHECKING:
    from matplotlib.axes import Axes


MOST_NAMED = 4
"""Subjects of a group that the figure of quantiles names."""
MOST_MARKED, MOST_NAMES = 400, 12


def distance_drawing(finding: Finding[DistanceGroup], kind: str) -> Drawing | None:
    """One of the figures, of the group with most flagged subjects; None where it has none."""
    if not finding.groups:
        return None
    if kind == "quantiles":
        return one_plot(lambda axes: _quantiles(axes, finding))
    g = max(finding.groups, key=lambda g: g.flagged)
    if kind == "distances":
        return one_plot(lambda axes: _both(axes, finding, g)) if g.distances else None
    if kind == "scatter":
        return one_plot(lambda axes: _scatter(axes, finding, g), 1.3) if g.points else None
    return one_plot(lambda axes: _matrix(axes, g), 1.2) if len(g.measures) > 1 else None


def _scatter(axes: Axes, finding: Finding[DistanceGroup], g: DistanceGroup) -> bool:
    """Subjects on the two measures that tell most, with the ellipses at the limit: that of the classical
    fit thin, that of the robust one bold."""
    assert g.points and g.axes and g.ellipses
    points = np.array(g.points)
    axes.plot(points[:, 0], points[:, 1], "o", color=SEA, markersize=3.4, alpha=0.75, zorder=2)
    turn = np.linspace(0, 2 * np.pi, 181)
    limit = chi_square_limit(_tail_of(g), 2)
    for ellipse in g.ellipses:
        values, vectors = np.linalg.eigh(np.array(ellipse.covariance))
        circle = np.stack([np.cos(turn), np.sin(turn)])
        edge = np.array(ellipse.center)[:, None] + vectors @ (
            np.sqrt(np.maximum(values, 0) * limit)[:, None] * circle
        )
        bold = ellipse.fit == "robust"
        axes.plot(
            edge[0], edge[1], color=PLUM if bold else STONE, linewidth=2.0 if bold else 0.9, zorder=3,
            label=f"{ellipse.fit} fit",
        )  # fmt: skip
    _mark_flagged(axes, finding, g)
    scale = finding.settings["transform"]
    told = "" if scale == "none" else f", {scale}"
    axes.set_xlabel(g.axes[0] + told)
    axes.set_ylabel(g.axes[1] + told)
    shown = "" if len(points) == g.n else f", {len(points):,} of them drawn"
    of = f"{num.group_name(g.group)}: " if g.group else ""
    more = "" if len(g.measures) == 2 else f" on 2 of {len(g.measures)} measures"
    axes.set_title(f"{of}n {g.n:,}{shown}{more}", fontsize=9, color=INK, loc="left")
    axes.xaxis.set_major_formatter(plain_number)
    axes.yaxis.set_major_formatter(plain_number)
    axes.margins(0.08)
    axes.autoscale_view()
    # An ellipse may reach where no amount can be: the axes do not.
    if points[:, 0].min() >= 0:
        axes.set_xlim(left=max(0.0, axes.get_xlim()[0]))
    if points[:, 1].min() >= 0:
        axes.set_ylim(bottom=max(0.0, axes.get_ylim()[0]))
    axes.legend(frameon=False, fontsize=8, loc="best")
    return True


def _tail_of(g: DistanceGroup) -> float:
    """The share of a normal population that lies beyond the limit, by chi-square."""
    return min(max(float(chi_square_tail(g.limit, len(g.measures))), 1e-12), 0.5)


def _mark_flagged(axes: Axes, finding: Finding[DistanceGroup], g: DistanceGroup) -> None:
    """Flagged subjects of a group, the furthest by name."""
    assert g.points
    middle = float(np.mean(axes.get_xlim()))
    flags = [f for f in finding.flags.rows(MOST_MARKED) if (f.get("group") or {}) == g.group]
    # The points of the flagged stand first, the furthest before others.
    for place, (flag, (x, y)) in enumerate(zip(flags, g.points, strict=False)):
        axes.plot([x], [y], "o", color=AMBER, markersize=5.5, zorder=4)
        if place < MOST_NAMES:
            left = x > middle
            axes.annotate(
                finding.flags.named(flag).short()[:24], (x, y), textcoords="offset points",
                fontsize=7, color=INK, xytext=(-6 if left else 6, 3 if place % 2 else -8),
                ha="right" if left else "left",
            )  # fmt: skip


def _both(axes: Axes, finding: Finding[DistanceGroup], g: DistanceGroup) -> bool:
    """The robust distance of each subject against its classical one: what one fit hides, the other shows."""
    assert g.distances
    roots = np.sqrt(np.array(g.distances))
    axes.plot(roots[:, 0], roots[:, 1], "o", color=SEA, markersize=3.4, alpha=0.75, zorder=2)
    used = 1 if finding.settings["fit"] == "robust" else 0
    beyond = roots[roots[:, used] ** 2 > g.limit]
    axes.plot(beyond[:, 0], beyond[:, 1], "o", color=AMBER, markersize=5.5, zorder=3)
    flags = [f for f in finding.flags.rows(MOST_MARKED) if (f.get("group") or {}) == g.group]
    for place, flag in enumerate(flags[:MOST_NAMES]):
        at = (float(np.sqrt(flag["classical"])), float(np.sqrt(flag["robust"] or 0)))
        axes.annotate(
            finding.flags.named(flag).short()[:24], at, textcoords="offset points", fontsize=7,
            color=INK, xytext=((-6, -3), (6, 3), (-6, 5))[place % 3],
            ha=("right", "left", "right")[place % 3],
        )  # fmt: skip
    line = float(np.sqrt(g.limit))
    draw = axes.axhline if used else axes.axvline
    draw(line, color=PLUM, linewidth=1)
    top = float(roots.max())
    lower = float(min(roots[:, 0].max(), roots[:, 1].max()))
    axes.plot([0, lower], [0, lower], color=STONE, linewidth=0.8, zorder=1)
    axes.set_xlim(0, roots[:, 0].max() * 1.1)
    axes.set_ylim(0, top * 1.08)
    of = f"{num.group_name(g.group)}: " if g.group else ""
    axes.set_title(f"{of}n {g.n:,}, limit {line:.2f}", fontsize=9, color=INK, loc="left")
    axes.set_xlabel("classical distance")
    axes.set_ylabel("robust distance")
    return True


def _matrix(axes: Axes, g: DistanceGroup) -> bool:
    """Correlations of the measures by the fit that flags."""
    covariance = np.array(g.covariance)
    spread = np.sqrt(np.diag(covariance))
    r = covariance / np.outer(spread, spread)
    p = len(g.measures)
    from matplotlib.colors import LinearSegmentedColormap

    colors = LinearSegmentedColormap.from_list("r", [PLUM, "#FFFFFF", SEA])
    axes.imshow(r, cmap=colors, vmin=-1, vmax=1)
    for i in range(p):
        for j in range(p):
            axes.text(
                j, i, f"{r[i, j]:.2f}".replace("-", num.MINUS), ha="center", va="center",
                fontsize=8 if p <= 8 else 6, color="#FFFFFF" if abs(r[i, j]) > 0.7 else INK,
            )  # fmt: skip
    axes.set_xticks(range(p))
    axes.set_yticks(range(p))
    axes.set_xticklabels(g.measures, rotation=30, ha="right")
    axes.set_yticklabels(g.measures)
    of = f"{num.group_name(g.group)}: " if g.group else ""
    axes.set_title(
        f"{of}correlations by the {g.fit} fit, n {g.n:,}", fontsize=9, color=INK, loc="left"
    )
    return True


def _quantiles(axes: Axes, finding: Finding[DistanceGroup]) -> bool:
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
