"""The figure of a test that has none of its own: what it flagged, the strongest first, by amount or by score."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, PLUM, STONE
from sabueso.screens.finding import Finding

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_BARS = 25
PER_PAGE = 15
"""Bars that fill a drawing of the usual height."""


@dataclass(frozen=True)
class Bar:
    """A bar, what it is called, and what is said behind it."""

    name: str
    value: float | None
    said: str = ""
    muted: bool = False


def flags_drawing(finding: Finding[Any], words: str) -> Drawing | None:
    """Bars of the first flags; None where nothing is flagged, or nothing tells them apart."""
    flags = list(finding.flags.rows(MOST_BARS))
    if not flags:
        return None
    by_amount = any(flag.get("amount") not in (None, "") for flag in flags)
    bars = [
        Bar(
            finding.flags.named(flag).short(),
            _number(flag.get("amount") if by_amount else flag.get("score")),
            str(flag.get("direction") or flag.get("reason") or ""),
        )
        for flag in flags
    ]
    if len({bar.value for bar in bars}) == 1 and len(bars) > 1:
        return None  # bars of one length tell nothing that their list does not
    unit = f"amount, {finding.currency}" if by_amount and finding.currency else "amount"
    where = f" where {finding.settings['where']}" if finding.settings.get("where") else ""
    rest = len(finding.flags) - len(bars)
    more = f"; {num.count(rest)} further not drawn" if rest else ""
    title = f"{words}{where}, {num.many(finding.population.used, 'row')}{more}"
    return bars_drawing(bars, unit if by_amount else "score", title)


def _number(value: Any) -> float | None:
    return None if value in (None, "") else float(value)


def bars_drawing(bars: Sequence[Bar], unit: str, title: str) -> Drawing:
    """Bars one under another in their order, each with its figure and what is said of it."""
    height = max(0.55, 0.25 + len(bars) / PER_PAGE)
    return one_plot(lambda axes: _bars(axes, bars, unit, title), height)


def _bars(axes: Axes, bars: Sequence[Bar], unit: str, title: str) -> bool:
    places = list(range(len(bars)))
    values = [b.value or 0.0 for b in bars]
    colours = [
        STONE if b.muted else AMBER if v >= 0 else PLUM for b, v in zip(bars, values, strict=True)
    ]
    axes.barh(places, values, color=colours, height=0.7)
    for place, bar, value in zip(places, bars, values, strict=True):
        whole = abs(value) >= 1000 or value.is_integer()
        figure = "–" if bar.value is None else num.number(value, 0 if whole else 2)
        said = f"{figure}  {bar.said}".rstrip()
        left = value >= 0
        axes.annotate(
            said, (value, place), textcoords="offset points", xytext=(4 if left else -4, 0),
            ha="left" if left else "right", va="center", fontsize=7, color=INK,
        )  # fmt: skip
    axes.axvline(0, color=STONE, linewidth=0.8)
    axes.set_yticks(places, [b.name for b in bars])
    axes.set_ylim(len(bars) - 0.4, -0.6)
    axes.xaxis.set_major_formatter("{x:,.0f}")
    axes.margins(x=0.25)
    axes.set_xlabel(unit)
    axes.set_title(title, fontsize=9, loc="left")
    return True
