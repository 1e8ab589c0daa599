"""The figure of what is behind an exception: a row among its peers, or values against expectation."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.case.behind import Why
from sabueso.case.causes import is_its_own
from sabueso.population.driving import Driver
from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, SEA, STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_VALUES, MOST_COLUMNS = 5, 3


def why_drawing(found: Why) -> Drawing | None:
    """The figure; None where nothing tells anything."""
    peers = [p for p in found.peers if p.bars]
    if peers:
        return Drawing(lambda figure: _peers(figure, found), 0.4 + 0.3 * len(peers))
    drivers = [d for d in found.drivers if d.values and not is_its_own(found, d)][:MOST_COLUMNS]
    if not drivers:
        return None
    lines = sum(min(len(d.values), MOST_VALUES) + 1 for d in drivers)
    draw = _change if found.change else _shares
    return one_plot(lambda axes: draw(axes, found, drivers), 0.3 + lines / 14)


def _peers(figure: Figure, found: Why) -> bool:
    """By party, account and preparer: the peers by the logarithm of their size, and the row among them."""
    peers = [p for p in found.peers if p.bars]
    for place, peer in enumerate(peers, 1):
        axes = figure.add_subplot(len(peers), 1, place)
        colours = [AMBER if i == peer.at else SEA for i in range(len(peer.bars))]
        axes.bar(range(len(peer.bars)), peer.bars, color=colours, width=0.9)
        axes.annotate(
            "▲ this row", (peer.at, peer.bars[peer.at]), textcoords="offset points", xytext=(0, 6),
            ha="center", color=AMBER, fontsize=7.5,
        )  # fmt: skip
        axes.set_title(
            f"{peer.column} {num.shown(peer.value)}: {peer.n:,} rows, median "
            f"{num.number(peer.median, found.scale)}",
            fontsize=8.5, loc="left",
        )  # fmt: skip
        axes.set_xticks([])
        axes.set_ylabel("rows")
        axes.margins(y=0.25)
    axes.set_xlabel("from the smallest to the largest, in equal steps of the logarithm")
    return True


def _shares(axes: Axes, found: Why, drivers: list[Driver]) -> bool:
    """Rows of each value as a bar, what its share of all rows would give as a tick."""
    names: list[str] = []
    for driver in drivers:
        for value in driver.values[:MOST_VALUES]:
            place = len(names)
            telling = value.p_adjusted is not None and value.p_adjusted < 0.05
            axes.barh(place, value.rows, color=AMBER if telling else SEA, height=0.7)
            axes.plot([value.expected] * 2, [place - 0.4, place + 0.4], color=INK, linewidth=1.6)
            names.append(f"{driver.column} {num.shown(value.value)}")
        names.append("")
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 1.4, -0.6)
    axes.tick_params(axis="y", length=0)
    axes.xaxis.set_major_formatter("{x:,.0f}")
    axes.set_xlabel(
        f"of its {found.rows:,} rows; tick: what the value's share of all rows would give; amber: beyond chance"
    )
    axes.set_title(f"{found.exception.id} · {found.exception.label}", fontsize=9, loc="left")
    return True


def _change(axes: Axes, found: Why, drivers: list[Driver]) -> bool:
    """What each value adds to the change, or takes from it."""
    names: list[str] = []
    for driver in drivers:
        for value in driver.values[:MOST_VALUES]:
            change = float(value.change or 0)
            axes.barh(len(names), change, color=SEA if change >= 0 else AMBER, height=0.7)
            names.append(f"{driver.column} {num.shown(value.value)}")
        names.append("")
    axes.axvline(0, color=STONE, linewidth=0.8)
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 1.4, -0.6)
    axes.tick_params(axis="y", length=0)
    axes.xaxis.set_major_formatter("{x:,.0f}")
    unit = f", {found.currency or found.on}" if found.currency or found.on else ""
    axes.set_xlabel(f"part of the change{unit}")
    axes.set_title(f"{found.exception.id} · {found.exception.label}", fontsize=9, loc="left")
    return True
