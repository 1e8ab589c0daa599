"""Bars one under another: the one way in which groups, flags and exceptions are drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, PLUM, STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes


PER_PAGE = 15
"""Bars that fill a drawing of the usual height."""


@dataclass(frozen=True)
class Bar:
    """A bar, what it is called, and what is said behind it. Without a colour it is amber, and plum below 0."""

    name: str
    value: float | None
    said: str = ""
    color: str | None = None
    edge: str = "none"


def draw_bars(
    axes: Axes,
    bars: Sequence[Bar],
    unit: str,
    title: str,
    *,
    thick: float = 0.8,
    room: float = 0.12,
) -> bool:
    """Bars in their order, each with its figure; ``room`` is left beside the longest, as a part of it."""
    places = list(range(len(bars)))
    values = [bar.value or 0.0 for bar in bars]
    colours = [b.color or (AMBER if v >= 0 else PLUM) for b, v in zip(bars, values, strict=True)]
    axes.barh(places, values, color=colours, edgecolor=[b.edge for b in bars], height=thick)
    for place, bar, value in zip(places, bars, values, strict=True):
        whole = abs(value) >= 1000 or float(value).is_integer()
        figure = "–" if bar.value is None else num.number(value, 0 if whole else 2)
        left = value >= 0
        axes.annotate(
            f"{figure}  {bar.said}".rstrip(), (value, place), textcoords="offset points",
            xytext=(3 if left else -3, 0), ha="left" if left else "right", va="center", fontsize=7, color=INK,
        )  # fmt: skip
    axes.axvline(0, color=STONE, linewidth=0.8)
    axes.set_yticks(places, [bar.name for bar in bars])
    axes.set_ylim(len(bars) - 0.4, -0.6)
    axes.xaxis.set_major_formatter("{x:,.0f}")
    axes.margins(x=room)
    axes.set_xlabel(unit)
    axes.set_title(title, fontsize=9, loc="left")
    return True


def bars_drawing(bars: Sequence[Bar], unit: str, title: str) -> Drawing:
    """Bars with words behind them, on a sheet as high as they need."""
    height = max(0.55, 0.25 + len(bars) / PER_PAGE)
    return one_plot(lambda axes: draw_bars(axes, bars, unit, title, thick=0.7, room=0.25), height)
