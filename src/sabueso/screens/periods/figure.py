"""Figures of a comparison of periods: changes, pairs, a bridge between totals, shares, months."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import handles, legend, one_plot, plain_number
from sabueso.report.palette import AMBER, INK, PLUM, SAND, SEA, STONE
from sabueso.screens.finding import Finding
from sabueso.screens.periods.judging import moved
from sabueso.screens.periods.result import ComparedLine, Comparison

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_LINES, MOST_STEPS, MOST_MONTHS_LINES = 16, 8, 6
ROUGH = 6
"""Lines above which a figure needs more height."""


def periods_drawing(finding: Finding[Comparison], kind: str) -> Drawing | None:
    """One of the figures; None without a line, or without what it draws."""
    group = next(iter(finding.groups), None)
    if group is None or not group.lines:
        return None
    if kind == "months":
        lines = [line for line in _foremost(finding, MOST_MONTHS_LINES) if line.history]
        rows = (len(lines) + 1) // 2
        return Drawing(lambda f: _months(f, finding, lines), 0.3 + 0.5 * rows) if lines else None
    draw: dict[str, Callable[[Axes, Finding[Comparison]], bool]] = {
        "changes": _changes, "pairs": _pairs, "bridge": _bridge, "shares": _shares,
    }  # fmt: skip
    many = min(len(group.lines), MOST_LINES)
    tall = max(1.0, many / ROUGH * 0.55) if kind != "bridge" else 1.0
    return one_plot(lambda axes: draw[kind](axes, finding), tall)


def _foremost(finding: Finding[Comparison], most: int) -> list[ComparedLine]:
    """Flagged lines first, the largest change before smaller ones."""
    by = finding.settings["flag_by"]
    return sorted(
        finding.groups[0].lines, key=lambda line: (not line.flagged, -abs(moved(line, by)))
    )[:most]


def _unit(values: Sequence[float]) -> tuple[float, str]:
    """What amounts are divided by so that they can be read on an axis."""
    most = max(map(abs, values), default=0.0)
    if most >= 1e9:
        return 1e6, "million "
    return (1e3, "thousand ") if most >= 1e4 else (1.0, "")


def _names(axes: Axes, lines: Sequence[ComparedLine]) -> None:
    axes.set_yticks(range(len(lines)))
    axes.set_yticklabels([num.group_name(line.key) for line in lines])
    axes.invert_yaxis()


def _percent(line: ComparedLine) -> str:
    if line.change_percent is None:
        return "new" if line.current else ""
    return f"{line.change_percent:+.0f}%".replace("-", num.MINUS)


def _changes(axes: Axes, finding: Finding[Comparison]) -> bool:
    """Changes of the lines, flagged ones marked, the largest first."""
    group, lines = finding.groups[0], _foremost(finding, MOST_LINES)
    unit, word = _unit([float(line.change) for line in lines])
    values = [float(line.change) / unit for line in lines]
    axes.barh(range(len(lines)), values, color=[AMBER if x.flagged else SEA for x in lines])
    axes.axvline(0, color=STONE, linewidth=0.8)
    _names(axes, lines)
    for i, (line, value) in enumerate(zip(lines, values, strict=True)):
        axes.annotate(
            _percent(line), (value, i), textcoords="offset points",
            xytext=(4 if value >= 0 else -4, 0), ha="left" if value >= 0 else "right", va="center",
            fontsize=7.5,
        )  # fmt: skip
    axes.margins(x=0.12)
    axes.set_xlabel(f"change from {group.base} to {group.current}, {word}{finding.unit}")
    legend(axes, [("flagged", AMBER, "bar"), ("within the limits", SEA, "bar")], above=True)
    return True


def _pairs(axes: Axes, finding: Finding[Comparison]) -> bool:
    """Both amounts of each line one above the other, the change beside them, the band where one is
    expected."""
    group, lines = finding.groups[0], _foremost(finding, MOST_LINES)
    amounts = [float(v) for line in lines for v in (line.base, line.current)]
    unit, word = _unit(amounts)
    for i, line in enumerate(lines):
        base, current = float(line.base) / unit, float(line.current) / unit
        if line.low is not None and line.high is not None:
            low, high = float(line.low) / unit, float(line.high) / unit
            axes.barh(i, high - low, left=low, height=0.9, color=SAND, zorder=0)
        axes.barh(i - 0.2, base, height=0.36, color=STONE, zorder=2)
        axes.barh(i + 0.2, current, height=0.36, color=AMBER if line.flagged else SEA, zorder=2)
        furthest = max(base, current, 0.0) if max(base, current) > 0 else min(base, current)
        axes.annotate(
            _percent(line), (furthest, i), textcoords="offset points",
            xytext=(4 if furthest >= 0 else -4, 0), ha="left" if furthest >= 0 else "right",
            va="center", fontsize=7.5,
        )  # fmt: skip
    axes.axvline(0, color=STONE, linewidth=0.8)
    _names(axes, lines)
    axes.xaxis.set_major_formatter(plain_number)
    axes.margins(x=0.12)
    axes.set_xlabel(f"{word}{finding.unit}")
    marks = [
        (group.base, STONE, "bar"),
        (f"{group.current}, flagged", AMBER, "bar"),
        (group.current, SEA, "bar"),
    ]
    if any(line.low is not None for line in lines):
        marks.append(("expected", SAND, "bar"))
    legend(axes, marks, above=True)
    return True


def _bridge(axes: Axes, finding: Finding[Comparison]) -> bool:
    """From the total of the base to that of the current period, step by step: by volume, rate and mix
    where there are quantities, else by the lines with the largest changes."""
    group = finding.groups[0]
    parts = group.rate_volume
    if parts is not None:
        steps = [
            ("volume", float(parts.volume)), ("rate", float(parts.rate)), ("mix", float(parts.mix))
        ]  # fmt: skip
    else:
        lines = sorted(group.lines, key=lambda line: -abs(line.change))[:MOST_STEPS]
        steps = [(num.group_name(line.key), float(line.change)) for line in lines]
        rest = float(group.total.change) - sum(value for _, value in steps)
        others = len(group.lines) - len(lines)
        if others:
            steps.append((num.many(others, "other line"), rest))
    base, current = float(group.total.base), float(group.total.current)
    unit, word = _unit([base, current])
    at, edges = base, [base, current]
    axes.bar(0, base / unit, color=STONE, width=0.62)
    for i, (_, value) in enumerate(steps, 1):
        up = value >= 0
        axes.bar(i, value / unit, bottom=at / unit, color=SEA if up else PLUM, width=0.62)
        axes.plot([i - 0.69, i + 0.31], [at / unit] * 2, color=INK, linewidth=0.6)
        top = max(at, at + value) / unit
        axes.annotate(
            f"{value / unit:+,.1f}".replace("-", num.MINUS), (i, top), textcoords="offset points",
            xytext=(0, 3), ha="center", fontsize=7.5,
        )  # fmt: skip
        at += value
        edges.append(at)
    axes.bar(len(steps) + 1, current / unit, color=STONE, width=0.62)
    axes.plot([len(steps) + 0.31, len(steps) + 0.69], [at / unit] * 2, color=INK, linewidth=0.6)
    axes.set_xticks(range(len(steps) + 2))
    axes.set_xticklabels(
        [group.base, *(name for name, _ in steps), group.current],
        rotation=0 if len(steps) < ROUGH else 30, ha="center" if len(steps) < ROUGH else "right",
    )  # fmt: skip
    axes.yaxis.set_major_formatter(plain_number)
    # The steps can be seen: what all bars have in common is cut off, and that is said.
    low, high = min(edges) / unit, max(edges) / unit
    room = (high - low) or abs(high) or 1.0
    cut = low > 0 and room < 0.4 * low
    if cut:
        axes.set_ylim(low - 0.6 * room, high + 0.25 * room)
    else:
        axes.margins(y=0.12)
        axes.axhline(0, color=STONE, linewidth=0.8)
    axes.set_ylabel(f"{word}{finding.unit}" + (", not from 0" if cut else ""))
    legend(axes, [("total", STONE, "bar"), ("up", SEA, "bar"), ("down", PLUM, "bar")], above=True)
    return True


def _shares(axes: Axes, finding: Finding[Comparison]) -> bool:
    """Each line's share of the total in both periods, in per cent, and by how many points it shifted."""
    group = finding.groups[0]
    lines = [x for x in group.lines if x.share_shift is not None]
    lines = sorted(lines, key=lambda x: -abs(x.share_shift or 0.0))[:MOST_LINES]
    if not lines:
        return False
    for i, line in enumerate(lines):
        before, now = 100 * (line.base_share or 0.0), 100 * (line.current_share or 0.0)
        axes.barh(i - 0.2, before, height=0.36, color=STONE)
        axes.barh(i + 0.2, now, height=0.36, color=AMBER if line.flagged else SEA)
        furthest = max(before, now) if max(before, now) > 0 else min(before, now)
        axes.annotate(
            f"{line.share_shift:+.1f} points".replace("-", num.MINUS), (furthest, i),
            textcoords="offset points", xytext=(4 if furthest >= 0 else -4, 0),
            ha="left" if furthest >= 0 else "right", va="center", fontsize=7.5,
        )  # fmt: skip
    axes.axvline(0, color=STONE, linewidth=0.8)
    _names(axes, lines)
    axes.margins(x=0.14)
    axes.set_xlabel("share of the total, %")
    marks = [
        (group.base, STONE, "bar"),
        (f"{group.current}, flagged", AMBER, "bar"),
        (group.current, SEA, "bar"),
    ]
    legend(axes, marks, above=True)
    return True


def _months(figure: Figure, finding: Finding[Comparison], lines: Sequence[ComparedLine]) -> bool:
    """The periods before of each flagged line, the band it was expected in, and what it came to."""
    columns = min(len(lines), 2)
    plots = figure.subplots((len(lines) + 1) // 2, columns, squeeze=False)
    for axes in plots.flat[len(lines) :]:
        axes.set_visible(False)
    current = finding.groups[0].current
    unit, word = _unit(
        [float(v) for line in lines for v in [line.current, *(line.history or {}).values()]]
    )
    for axes, line in zip(plots.flat, lines, strict=False):
        past = line.history or {}
        values = [float(v) / unit for v in past.values()]
        axes.plot(range(len(values)), values, color=SEA, linewidth=1.2)
        at = len(values)
        if line.low is not None and line.high is not None:
            low, high = float(line.low) / unit, float(line.high) / unit
            axes.plot([at, at], [low, high], color=PLUM, linewidth=5, alpha=0.45)
        axes.plot([at], [float(line.base) / unit], marker="_", color=INK, markersize=9)
        axes.plot([at], [float(line.current) / unit], marker="o", color=AMBER, linestyle="")
        axes.set_title(num.group_name(line.key), fontsize=7.5, loc="left", color=INK)
        names = [*past, current]
        places = sorted({0, at // 2, at})
        axes.set_xticks(places)
        axes.set_xticklabels([names[place] for place in places], fontsize=7)
        axes.yaxis.set_major_formatter(plain_number)
        axes.margins(y=0.15)
    plots.flat[0].set_ylabel(f"{word}{finding.unit}")
    marks = [
        ("before", SEA, "tick"), ("expected", INK, "tick"), ("band", PLUM, "band"),
        (current, AMBER, "dot"),
    ]  # fmt: skip
    figure.legend(
        handles=handles(marks), loc="outside upper right", ncols=4, frameon=False, fontsize=8
    )
    return True
