"""Figures of limits: histogram, ranges by group, normal quantile plot, strips of points."""

from __future__ import annotations

import itertools
import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from math import nan
from typing import TYPE_CHECKING, Any

from sabueso.base.plain import Json
from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import legend, one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SAND, SEA, STONE
from sabueso.screens.finding import Finding, Points
from sabueso.screens.limits.result import Histogram, RangeGroup
from sabueso.screens.limits.scales import signed_log
from sabueso.screens.subject import Row

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_GROUPS, MOST_LABELS = 12, 3


def limits_drawing(finding: Finding[Any], kind: str = "plain") -> Drawing | None:
    """The figure of a limit: ``plain``, ``quantile`` or ``strip``."""
    groups, points = finding.groups, finding.points
    if not groups:
        return None
    if kind == "quantile" and points:
        return one_plot(lambda axes: _quantiles(axes, finding, points[0]))
    if kind == "strip" and points:
        return one_plot(lambda axes: _strip(axes, finding, points), _height(len(points)))
    # A share of the rows has no limits about a middle: there is nothing to draw of it.
    if not hasattr(groups[0], "median"):
        return None
    if len(groups) == 1 and groups[0].histogram is not None:
        return one_plot(lambda axes: _histogram(axes, finding, groups[0], groups[0].histogram))
    return one_plot(lambda axes: _ranges(axes, finding), _height(min(len(groups), MOST_GROUPS)))


def _height(groups: int) -> float:
    return max(0.7, 0.35 + groups / 14)


def _sides(finding: Finding[Any]) -> tuple[str, ...]:
    """The limits that flag: those of the side looked at."""
    side = finding.settings.get("side", "both")
    return ("low", "high") if side == "both" else (side,)


def _quantiles(axes: Axes, finding: Finding[Any], item: Points) -> bool:
    """Ordered amounts against those of a normal sample: a straight line where they are normal."""
    from scipy.special import ndtri

    points = [nan if v is None else v for v in item.points]
    log = finding.settings.get("scale") == "log"
    group = next(g for g in finding.groups if g.group == item.group)
    unit = getattr(group, "scale_unit", None) or 1.0
    heights = [signed_log(v, unit) if log else v for v in points]
    at = [float(ndtri((2 * i + 1) / (2 * len(points)))) for i in range(len(points))]
    low, high = len(points) // 4, 3 * len(points) // 4
    slope = (heights[high] - heights[low]) / (at[high] - at[low])
    ends = [at[0], at[-1]]
    axes.plot(
        ends, [heights[low] + slope * (x - at[low]) for x in ends], color=STONE, linewidth=0.9,
        label="normal, through the quartiles", zorder=1,
    )  # fmt: skip
    axes.plot(at, heights, "o", color=SEA, markersize=3.6, label="each 1% of the rows", zorder=2)
    for name in _sides(finding):
        limit = getattr(group, name, None)
        if limit is not None:
            shown = signed_log(limit, unit) if log else limit
            axes.axhline(shown, color=PLUM, linewidth=1.2, zorder=3)
            axes.annotate(
                f"{name} limit {num.number(limit)}", (ends[0], shown), fontsize=8, color=PLUM,
                textcoords="offset points", xytext=(0, 3 if name == "high" else -10),
            )  # fmt: skip
    named = f", {num.group_name(item.group)}" if item.group else ""
    scale = _log_label(group) if log else finding.currency
    axes.set_xlabel("standard normal quantile")
    axes.set_ylabel(_labelled(finding.on, scale))
    axes.set_title(
        f"n {item.n:,}{named}, flagged {group.flagged:,}", fontsize=8.5, color=INK, loc="left"
    )
    if not log:
        axes.yaxis.set_major_formatter(plain_number)
    axes.legend(frameon=False, fontsize=8, loc="upper left", bbox_to_anchor=(0, 0.93))
    return True


def _strip(axes: Axes, finding: Finding[Any], items: Sequence[Points]) -> bool:
    """A row of points for each group, each for one per cent of its rows, and the flagged rows."""
    for place, item in enumerate(items):
        points = [v for v in item.points if v is not None]
        # A fixed zigzag keeps equal amounts apart and is the same in every drawing.
        offs = [place + 0.13 * ((i * 2) % 5 - 2) / 2 for i in range(len(points))]
        axes.plot(points, offs, "o", color=SEA, markersize=2.6, alpha=0.75, zorder=2)
        group = next(g for g in finding.groups if g.group == item.group)
        for name in _sides(finding):
            if getattr(group, name, None) is not None:
                axes.vlines(
                    getattr(group, name), place - 0.36, place + 0.36, color=PLUM, linewidth=1.3
                )
    _flagged(axes, finding, [item.group for item in items])
    _by_group(axes, finding, [f"{num.group_name(i.group)}  n {i.n:,}" for i in items])
    legend(
        axes,
        [("each 1% of the rows", SEA, "dot"), ("limit", PLUM, "band"), ("flagged", AMBER, "dot")],
        above=True,
    )
    return True


def _histogram(axes: Axes, finding: Finding[Any], group: RangeGroup, data: Histogram) -> bool:
    """All rows used, with the limits; rows outside the drawn range are stated."""
    edges, counts = data.edges, data.counts
    # The bins of a log-scale test are on that scale.
    log = finding.settings.get("scale") == "log"
    low, high = group.low, group.high
    if log:
        unit = getattr(group, "scale_unit", None) or 1.0
        low, high = (None if v is None else signed_log(v, unit) for v in (low, high))
    middle = [(a + b) / 2 for a, b in itertools.pairwise(edges)]
    colors = [
        AMBER if (low is not None and m < low) or (high is not None and m > high) else SEA
        for m in middle
    ]
    axes.bar(middle, counts, width=edges[1] - edges[0], color=colors, linewidth=0)
    for limit, shown, name in ((low, group.low, "low"), (high, group.high, "high")):
        if limit is not None:
            axes.axvline(limit, color=PLUM, linewidth=1.4)
            axes.annotate(
                f"{name} limit {num.number(shown)}", (limit, 1), xycoords=("data", "axes fraction"),
                textcoords="offset points", xytext=(4 if name == "high" else -4, -4), fontsize=8,
                ha="left" if name == "high" else "right", va="top", color=PLUM,
            )  # fmt: skip
    outside = [
        f"{rows:,} rows {side}"
        for rows, side in ((data.below, "below"), (data.above, "above"))
        if rows
    ]
    scale = _log_label(group) if log else finding.currency
    axes.set_xlabel(
        f"{_labelled(finding.on, scale)}, n = {group.n:,}"
        + (f"; beyond the axis: {', '.join(outside)}" if outside else "")
    )
    axes.set_ylabel("rows")
    return True


def _labelled(measure: str | None, scale: str) -> str:
    """A measure with its scale or currency, where it has one."""
    return f"{measure} ({scale})" if scale else measure or ""


def _log_label(group: Any) -> str:
    unit = getattr(group, "scale_unit", None) or 1.0
    return f"log10(1 + |x|/{num.number(unit)}), signed"


def _ranges(axes: Axes, finding: Finding[Any]) -> bool:
    """Groups with flagged rows: the range within the limits, the middle, the flagged amounts."""
    chosen = sorted((g for g in finding.groups if g.flagged), key=lambda g: -g.flagged)
    chosen = chosen[:MOST_GROUPS]
    if not chosen:
        chosen = sorted(finding.groups, key=lambda g: -g.n)[:MOST_GROUPS]
    names = [num.group_name(g.group) for g in chosen]
    quartiles = hasattr(chosen[0], "q1")
    for i, g in enumerate(chosen):
        low = g.low if g.low is not None else g.median
        high = g.high if g.high is not None else g.median
        axes.hlines(i, low, high, color=SAND, linewidth=9, zorder=1)
        if quartiles and g.q1 is not None and g.q3 is not None:
            axes.hlines(i, g.q1, g.q3, color=SEA, linewidth=9, zorder=2)
        axes.vlines(g.median, i - 0.28, i + 0.28, color=INK, linewidth=1.6, zorder=3)
    _flagged(axes, finding, [g.group for g in chosen])
    _by_group(axes, finding, names)
    items = [("within the limits", SAND, "bar"), ("median", INK, "band"), ("flagged", AMBER, "dot")]
    if quartiles:
        items.insert(1, ("Q1 to Q3", SEA, "bar"))
    legend(axes, items, above=True)
    return True


def _flagged(axes: Axes, finding: Finding[Any], groups: list[Json]) -> None:
    """Flagged rows on their group's line, the strongest of each named."""
    where = {tuple(group.values()): place for place, group in enumerate(groups)}
    named: dict[int, int] = {}
    for flag in finding.flags.rows():
        place = where.get(tuple((flag.get("group") or {}).values()))
        if place is None:
            continue
        amount = float(Decimal(flag["amount"]))
        axes.plot(amount, place, "o", color=AMBER, markersize=4.5, zorder=4)
        named[place] = named.get(place, 0) + 1
        if named[place] <= MOST_LABELS:
            axes.annotate(
                _row_name(flag), (amount, place), fontsize=6.5, color=INK,
                textcoords="offset points", xytext=(0, 5 if named[place] % 2 else -11), ha="center",
            )  # fmt: skip


def _row_name(flag: Mapping[str, Any]) -> str:
    """A flagged row by its id, else by the party or account on it, else by its line."""
    row = Row(flag["subject"])
    names = list(row.clients().values())
    names += [
        v for v in (flag.get("context") or {}).values() if not re.match(r"\d{4}-\d\d-\d\d", str(v))
    ]
    found = [str(v) for v in names if v is not None]
    return found[0][:18] if found else row.short()


def _by_group(axes: Axes, finding: Finding[Any], names: list[str]) -> None:
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 0.4, -0.6)
    if finding.settings.get("scale") == "log":
        axes.set_xscale("symlog", linthresh=1)
    axes.xaxis.set_major_formatter(plain_number)
    axes.set_xlabel(_labelled(finding.on, finding.currency))
    axes.margins(x=0.08)
