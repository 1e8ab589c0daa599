"""The figure of a drill-down: bars of its groups, or a heat map where a column stands across."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from sabueso.population.drill import Drill, Node
from sabueso.report import numbers as num
from sabueso.report.bars import Bar, draw_bars
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, SAND, SEA, STONE
from sabueso.show.drill import across_ranked, as_number, measure_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_BARS, MOST_CELLS = 40, 40
MOST_WRITTEN = 14
"""Columns of a heat map up to which each cell says its figure."""


def drill_drawing(result: Drill) -> Drawing | None:
    """The figure of a view; None where there is nothing to draw."""
    lines = _lines(result)
    if not lines:
        return None
    height = max(0.7, min(len(lines), MOST_BARS) / 15 + 0.25)
    if result.across_values:
        return one_plot(lambda axes: _heat(axes, result), height)
    return one_plot(lambda axes: _bars(axes, result), height)


@dataclass(frozen=True)
class _Line:
    name: str
    node: Node
    others: int = 0
    """How many groups it stands for that are not shown one by one."""


def _lines(result: Drill) -> list[_Line]:
    """The narrowest groups that are shown, under the names of those above them."""

    def walk(node: Node, above: str) -> list[_Line]:
        found: list[_Line] = []
        for child in node.children:
            own = num.shown(child.key[-1])
            name = f"{above} · {own}" if above else own
            found += walk(child, name) if child.children else [_Line(name, child)]
        for others, told in ((node.others, " other"), (node.unmet, " not meeting the condition")):
            if others is not None and result.figures[0].additive:
                words = num.count(others.groups) + told
                found.append(_Line(f"{above} · {words}".lstrip(" ·"), others.node, others.groups))
        return found

    return walk(result.total, "")


def _unit(result: Drill) -> str:
    unit = f", {result.currency}" if result.currency and result.figures[0].column else ""
    return (
        measure_text(result) + unit if len(result.figures) == 1 else result.figures[0].label + unit
    )


def _bars(axes: Axes, result: Drill) -> bool:
    every = _lines(result)
    lines = every[:MOST_BARS]
    bars = [
        Bar(
            line.name,
            value := as_number(line.node.value),
            color=SAND if line.others else SEA if value >= 0 else AMBER,
            edge=STONE if line.others else "none",
        )
        for line in lines
    ]
    return draw_bars(axes, bars, _unit(result), _heading(result, len(every) - len(lines)))


def _heading(result: Drill, hidden: int) -> str:
    by = f" by {', '.join(result.by)}" if result.by else ""
    across = f", across {result.across}" if result.across and len(result.across) < 30 else ""
    rest = f"; {num.many(hidden, 'further group')} not drawn" if hidden > 0 else ""
    return f"{result.table}{by}{across}, {num.many(result.population.used, 'row')}{rest}"


def _heat(axes: Axes, result: Drill) -> bool:
    from matplotlib.colors import LinearSegmentedColormap

    # Groups that are told together would outshine those that are told one by one.
    every = [line for line in _lines(result) if not line.others] or [_Line("total", result.total)]
    lines, hidden = every[:MOST_BARS], max(len(every) - MOST_BARS, 0)
    hidden += sum(line.others for line in _lines(result))
    kept = set(across_ranked(result)[:MOST_CELLS])
    names = [name for name in result.across_values if name in kept]
    cells = np.array(
        [
            [np.nan if (v := node.across.get(name)) is None else as_number(v) for name in names]
            for node in (line.node for line in lines)
        ]
    )
    low, high = float(np.nanmin(cells)), float(np.nanmax(cells))
    # Values of one sign go from light to dark; of both from amber over white to sea.
    if low < 0:
        colours = LinearSegmentedColormap.from_list("both", [AMBER, "white", SEA])
        most = max(abs(low), abs(high)) or 1.0
        span = (-most, most)
    else:
        colours = LinearSegmentedColormap.from_list("one", ["#F7F3EA", SEA, INK])
        span = (0.0, high or 1.0)
    colours.set_bad("white")
    image = axes.imshow(cells, cmap=colours, vmin=span[0], vmax=span[1], aspect="auto")
    if len(names) <= MOST_WRITTEN:
        for i, j in np.ndindex(*cells.shape):
            if not np.isnan(cells[i, j]):
                share = (cells[i, j] - span[0]) / (span[1] - span[0])
                dark = share > 0.45 if low >= 0 else abs(share - 0.5) > 0.35
                axes.text(
                    j, i, _short(float(cells[i, j])), ha="center", va="center", fontsize=7,
                    color="white" if dark else INK,
                )  # fmt: skip
    axes.set_xticks(range(len(names)), names, rotation=0 if len(names) <= 8 else 60)
    axes.set_yticks(range(len(lines)), [line.name for line in lines])
    for side in ("left", "bottom"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)
    bar = axes.figure.colorbar(image, ax=axes, label=_unit(result), shrink=0.9, format="{x:,.0f}")
    bar.outline.set_visible(False)
    left = len(result.across_values) - len(names)
    title = _heading(result, hidden) + (
        f"; {num.many(left, 'further column')} not drawn" if left else ""
    )
    axes.set_title(title, fontsize=9, loc="left")
    return True


def _short(value: float) -> str:
    """A figure with as many digits as a cell has room for."""
    for size, letter in ((1e9, "bn"), (1e6, "m"), (1e4, "k")):
        if abs(value) >= size:
            scaled = value / (1e3 if letter == "k" else size)
            return num.number(scaled, 0 if letter == "k" or abs(scaled) >= 100 else 1) + letter
    return num.number(value, 0 if float(value).is_integer() or abs(value) >= 100 else 1)
