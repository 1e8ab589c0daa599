"""The figure of a look at numbers: each series from its first to its last, and where numbers are missing."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import legend, one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SEA
from sabueso.screens.finding import Finding
from sabueso.screens.sequence.each import named as named_period
from sabueso.screens.sequence.each import numbered
from sabueso.screens.sequence.result import Series

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_SERIES, MOST_NAMED, MOST_MARKED = 12, 6, 2_000


def sequence_drawing(finding: Finding[Series]) -> Drawing | None:
    """The series with most rows, each on its own line; None without one."""
    if not finding.groups:
        return None
    many = min(len(finding.groups), MOST_SERIES)
    return one_plot(lambda axes: _lines(axes, finding), 0.55 + 0.09 * many)


def _lines(axes: Axes, finding: Finding[Series]) -> bool:
    each = str(finding.settings.get("each") or "")
    names = (finding.more and finding.more.occasions) or []
    noun = each or ("occasion" if names else "")
    chosen = sorted(finding.groups, key=lambda s: (bool(noun) * -s.missing, -s.count))[:MOST_SERIES]

    def _number(series: Series, text: str) -> float:
        if names:
            return float(names.index(text))
        return float(numbered(text, each)) if each else _digits(series, text)

    places = {(*s.group.values(), s.series): i for i, s in enumerate(chosen)}
    for i, s in enumerate(chosen):
        axes.plot([_number(s, s.first), _number(s, s.last)], [i, i], color=SEA, linewidth=5)
    named = 0
    for flag in finding.flags.rows(MOST_MARKED):
        place = next(
            (
                i
                for key, i in places.items()
                if key[:-1] == tuple(flag["group"].values())
                and (noun or _is_of(flag["before"], chosen[i].series))
            ),
            None,
        )
        if place is None:
            continue
        series = chosen[place]
        at = _number(series, flag["from"])
        color = AMBER if flag["missing"] else PLUM
        axes.plot([at], [place], marker="|", color=color, markersize=14, markeredgewidth=2)
        if named < MOST_NAMED:
            axes.annotate(
                finding.flags.named(flag).short()[:28], (at, place), textcoords="offset points",
                xytext=(0, 10 if named % 2 else -16), ha="center", fontsize=7, color=INK,
            )  # fmt: skip
            named += 1
    axes.set_yticks(range(len(chosen)))
    axes.set_yticklabels(
        [
            f"{num.group_name(s.group) + ' ' if s.group else ''}{'' if noun else s.series}"
            for s in chosen
        ]
    )
    axes.set_ylim(len(chosen) - 0.4, -0.6)
    axes.xaxis.set_major_formatter(
        partial(_occasion, names) if names else partial(_period, each) if each else plain_number
    )
    axes.margins(x=0.05)
    axes.set_xlabel(f"{noun}s" if noun else f"numbers of {finding.used['of']}")
    legend(
        axes,
        [("first to last", SEA, "bar"), ("missing", AMBER, "band")]
        + ([] if noun else [("twice, out of order", PLUM, "band")]),
        above=True,
    )
    return True


def _period(each: str, value: float, _position: object = None) -> str:
    return named_period(int(value), each) if value == int(value) else ""


def _occasion(names: Sequence[str], value: float, _position: object = None) -> str:
    return names[int(value)] if value == int(value) and 0 <= value < len(names) else ""


def _is_of(text: str, series: str) -> bool:
    head, _, tail = series.partition("…")
    return text.startswith(head) and text.endswith(tail)


def _digits(series: Series, text: str) -> float:
    head, _, tail = series.series.partition("…")
    digits = re.sub(r"\D", "", text[len(head) : len(text) - len(tail)])
    return float(digits or 0)
