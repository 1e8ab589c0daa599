"""The figure of a surveyed measure, a histogram or a box for each group; of pairs, a heat map."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from sabueso.population.pairs import Correlation
from sabueso.population.survey import MeasureSurvey, Wanted
from sabueso.report import numbers as num
from sabueso.report.canvas import drawn, one_plot
from sabueso.report.palette import AMBER, INK, PLUM, SAND, SEA, STONE
from sabueso.stats.description import Bins, middle_bins

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_BOXES = 24


def draw_measure(survey: MeasureSurvey, form: str, number: Wanted) -> bytes:
    """The figure as ``svg`` or ``png``."""
    if survey.by:
        boxes = min(len(survey.groups), MOST_BOXES)
        picture = drawn(one_plot(lambda axes: _boxes(axes, survey), max(0.6, boxes / 12)), form)
    else:
        picture = drawn(one_plot(lambda axes: _histogram(axes, survey, number)), form)
    assert picture is not None
    return picture


def _label(survey: MeasureSurvey) -> str:
    return f"{survey.on}, {survey.currency}" if survey.currency else survey.on


def _histogram(axes: Axes, survey: MeasureSurvey, number: Wanted) -> bool:
    """Every row is in a bar: those asked for, or equal ones and an open one at either end."""
    found = survey.histogram(number)
    if isinstance(number, tuple):
        return _classes(axes, survey, found)
    edges, counts = [float(e) for e in found.edges], found.counts
    first, last = (0, len(counts) - 1) if number else middle_bins(counts, 120)
    axes.stairs(counts[first : last + 1], edges[first : last + 2], fill=True, color=SEA)
    shown = (edges[last + 1] - edges[first]) / min(max(last + 1 - first, 1), 24)
    for rows, at, side in (
        (sum(counts[:first]), edges[first] - shown, "below"),
        (sum(counts[last + 1 :]), edges[last + 1], "above"),
    ):
        if rows:
            axes.bar(
                at, rows, width=shown, align="edge", color=STONE, hatch="//", edgecolor="white"
            )
            axes.annotate(
                f"{rows:,} {side}", (at + shown / 2, rows), textcoords="offset points", xytext=(0, 3),
                ha="center", fontsize=7.5, color=INK,
            )  # fmt: skip
    d = survey.groups[0][1]
    for value, name, style in ((float(d.median), "median", "-"), (d.mean, "mean", "--")):
        axes.axvline(
            value, color=AMBER, linestyle=style, linewidth=1.2, label=f"{name} {num.number(value)}"
        )
    what = num.many(len(counts), "bin") if number else "hatched: all that lie beyond"
    axes.set_xlabel(f"{_label(survey)}, n {d.n:,} ({what})")
    axes.set_ylabel("rows")
    axes.yaxis.set_major_formatter("{x:,.0f}")
    axes.xaxis.set_major_formatter("{x:,.0f}")
    axes.legend(frameon=False)
    return True


def _classes(axes: Axes, survey: MeasureSurvey, found: Bins) -> bool:
    """Bins between given edges as bars of one width: of bins that differ in width, heights to scale of the
    amounts would show the widest as the fullest."""
    edges = [num.number(float(e), survey.scale) for e in found.edges]
    bars = [
        (f"{a} to\n{b}", n, False) for a, b, n in zip(edges, edges[1:], found.counts, strict=False)
    ]
    if found.below:
        bars.insert(0, (f"below\n{edges[0]}", found.below, True))
    if found.above:
        bars.append((f"above\n{edges[-1]}", found.above, True))
    for place, (_, rows, beyond) in enumerate(bars):
        style = {"hatch": "//", "edgecolor": "white"} if beyond else {}
        axes.bar(place, rows, width=0.8, color=STONE if beyond else SEA, **style)  # type: ignore[arg-type]
        axes.annotate(
            f"{rows:,}", (place, rows), textcoords="offset points", xytext=(0, 3), ha="center",
            fontsize=7.5, color=INK,
        )  # fmt: skip
    axes.set_xticks(range(len(bars)), [name for name, *_ in bars], fontsize=7.5)
    d = survey.groups[0][1]
    told = f"median {num.number(float(d.median))}, mean {num.number(d.mean)}"
    axes.set_xlabel(
        f"{_label(survey)}, n {d.n:,} ({told}); bins as given, hatched: all beyond them"
    )
    axes.set_ylabel("rows")
    axes.yaxis.set_major_formatter("{x:,.0f}")
    return True


def _boxes(axes: Axes, survey: MeasureSurvey) -> bool:
    """Quartiles as a box, the median as a line, whiskers from the 5th to the 95th percentile."""
    shown = survey.groups[:MOST_BOXES]
    for place, (_, d) in enumerate(shown):
        low, q1, median, q3, high = (float(d.percentiles[p]) for p in (5, 25, 50, 75, 95))
        axes.plot([low, high], [place, place], color=INK, linewidth=1, zorder=1)
        axes.barh(place, q3 - q1, left=q1, height=0.62, color=SAND, edgecolor=INK, zorder=2)
        axes.plot(
            [median, median], [place - 0.31, place + 0.31], color=SEA, linewidth=2.4, zorder=3
        )
        axes.plot([d.mean], [place], marker="D", markersize=3.5, color=AMBER, zorder=4)
    names = [f"{num.group_name(key)}  n {d.n:,}" for key, d in shown]
    axes.set_yticks(range(len(shown)), names)
    axes.set_ylim(len(shown) - 0.4, -0.6)
    axes.xaxis.set_major_formatter("{x:,.0f}")
    axes.set_xlabel(
        f"{_label(survey)}: 5th to 95th percentile, quartiles, median; mean as a diamond"
    )
    if len(survey.groups) > MOST_BOXES:
        axes.set_title(f"the first {MOST_BOXES} of {len(survey.groups):,} groups", fontsize=8)
    return True


def draw_pairs(found: Sequence[Correlation], form: str) -> bytes:
    """A heat map of the correlations as ``svg`` or ``png``: r and n in each cell."""
    names = list(dict.fromkeys([c.first for c in found] + [c.second for c in found]))
    picture = drawn(
        one_plot(lambda axes: _heat(axes, names, found), max(1.0, len(names) / 8)), form
    )
    assert picture is not None
    return picture


def _heat(axes: Axes, names: list[str], found: Sequence[Correlation]) -> bool:
    from matplotlib.colors import LinearSegmentedColormap

    cells = np.full((len(names), len(names)), np.nan)
    for c in found:
        i, j = names.index(c.first), names.index(c.second)
        cells[j, i] = np.nan if c.r is None else c.r
    # Plum and sea differ in lightness too, and each cell says its figure: colour is never alone.
    colours = LinearSegmentedColormap.from_list("correlation", [PLUM, "white", SEA])
    image = axes.imshow(cells, cmap=colours, vmin=-1, vmax=1, aspect="auto")
    for c in found:
        i, j = names.index(c.first), names.index(c.second)
        shown = "no spread" if c.r is None else num.signed(c.r, 2)
        dark = c.r is not None and abs(c.r) > 0.6
        axes.text(
            i, j, f"{shown}\nn {c.n:,}", ha="center", va="center", color="white" if dark else INK
        )
    axes.set_xticks(range(len(names) - 1), names[:-1])
    axes.set_yticks(range(1, len(names)), names[1:])
    axes.set_xlim(-0.5, len(names) - 1.5)
    axes.set_ylim(len(names) - 0.5, 0.5)
    for side in ("left", "bottom"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)
    axes.figure.colorbar(image, ax=axes, label="Pearson's r", shrink=0.9)
    return True
