"""Figures of digit tests: one profile, profiles of groups side by side, two periods."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import handles, legend, one_plot
from sabueso.report.palette import AMBER, INK, PLUM, SEA
from sabueso.screens.digits.result import ChangedClass, DigitChange, DigitClass, DigitGroup
from sabueso.screens.finding import Finding

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MULTIPLES = 9
KEY = [
    ("observed", SEA, "bar"),
    ("flagged", AMBER, "bar"),
    ("expected", INK, "tick"),
    ("band", PLUM, "band"),
]


def digits_drawing(finding: Finding[DigitGroup], change: DigitChange | None) -> Drawing | None:
    """The figure of a digit test."""
    groups = finding.groups
    if not groups:
        return None
    if change is not None:
        return one_plot(lambda axes: _change(axes, finding, change))
    if len(groups) == 1:
        return one_plot(lambda axes: _whole(axes, finding, groups[0]))
    rows = (min(len(groups), MULTIPLES) + 2) // 3
    return Drawing(lambda figure: _multiples(figure, finding), 0.25 + 0.42 * rows)


def _multiples(figure: Figure, finding: Finding[DigitGroup]) -> bool:
    """The groups furthest from expectation, on one scale, so that they can be compared."""
    ranked = sorted(finding.groups, key=lambda g: -g.times_chance)
    chosen = ranked[:MULTIPLES]
    rows, columns = (len(chosen) + 2) // 3, min(len(chosen), 3)
    plots = figure.subplots(rows, columns, sharex=True, sharey=True, squeeze=False)
    for axes in plots.flat[len(chosen) :]:
        axes.set_visible(False)
    for axes, group in zip(plots.flat, chosen, strict=False):
        _bars(axes, group)
        axes.set_title(
            f"{num.group_name(group.group)}, n {group.n:,}, MAD {group.times_chance:.1f} × chance",
            fontsize=7.5, color=INK, loc="left",
        )  # fmt: skip
    plots.flat[0].margins(y=0.14)
    figure.legend(
        handles=handles(KEY), loc="outside upper right", ncols=4, frameon=False, fontsize=8
    )
    what = f"{finding.settings['digits']} digits of {finding.on} by {', '.join(finding.by)}"
    if len(ranked) > len(chosen):
        what += f": the {len(chosen)} furthest from expectation, of {len(ranked):,} groups"
    figure.supxlabel(what, fontsize=8.5, color=INK)
    figure.supylabel("% of the rows", fontsize=8.5, color=INK)
    return True


def _change(axes: Axes, finding: Finding[DigitGroup], change: DigitChange) -> bool:
    """The earlier period as an outline, the later one as bars, expectation as ticks."""
    classes = change.classes
    expected = [100 * c.expected for c in finding.groups[0].classes]
    at = range(len(classes))
    colors = [AMBER if c.flagged else SEA for c in classes]
    axes.bar(at, [100 * c.after for c in classes], width=0.78, color=colors, zorder=2)
    axes.step(
        [i - 0.5 for i in range(len(classes) + 1)],
        [100 * c.before for c in classes] + [100 * classes[-1].before],
        where="post", color=PLUM, linewidth=1.3, zorder=3,
    )  # fmt: skip
    few = len(classes) <= 10
    axes.scatter(at, expected, marker="_", s=160 if few else 16, color=INK, linewidths=1, zorder=4)
    _ticks(axes, classes)
    before, after = num.group_name(change.before), num.group_name(change.after)
    axes.set_ylabel("% of the rows")
    axes.set_xlabel(
        f"{finding.settings['digits']} digits of {finding.on}, {after} against {before}"
    )
    legend(
        axes,
        [
            (after, SEA, "bar"),
            ("changed", AMBER, "bar"),
            (before, PLUM, "band"),
            ("expected", INK, "tick"),
        ],
    )
    return True


def _whole(axes: Axes, finding: Finding[DigitGroup], group: DigitGroup) -> bool:
    """Observed as filled bars, expected as ticks, the tolerance as a thin band."""
    _bars(axes, group)
    axes.set_ylabel("% of the rows")
    named = f", {num.group_name(group.group)}" if group.group else ""
    what = (
        "digits of the differences of" if finding.settings["of"] == "differences" else "digits of"
    )
    axes.set_xlabel(f"{finding.settings['digits']} {what} {finding.on}{named}, n = {group.n:,}")
    legend(axes, KEY)
    return True


def _bars(axes: Axes, group: DigitGroup) -> None:
    classes = group.classes
    at = range(len(classes))
    share = [100 * c.share for c in classes]
    colors = [AMBER if c.flagged else SEA for c in classes]
    axes.bar(at, share, width=0.78, color=colors, zorder=2)
    low = [100 * c.band_low for c in classes]
    high = [100 * c.band_high for c in classes]
    few = len(classes) <= 10
    axes.vlines(at, low, high, color=PLUM, linewidth=1.6 if few else 0.7, zorder=3)
    axes.scatter(
        at, [100 * c.expected for c in classes], marker="_", s=160 if few else 16, color=INK,
        linewidths=1.6 if few else 0.9, zorder=4,
    )  # fmt: skip
    lift = 4
    for i, c in enumerate(classes):
        if c.flagged:
            top = max(share[i], high[i])
            # Names of neighbours stand above one another where classes are narrow.
            lift = lift + 13 if not few and i and classes[i - 1].flagged else 4
            axes.annotate(
                f"{c.digits} {'▲' if c.share > c.expected else '▼'}", (i, top),
                textcoords="offset points", xytext=(0, lift), ha="center", fontsize=8, color=INK,
            )  # fmt: skip
    _ticks(axes, classes)


def _ticks(axes: Axes, classes: Sequence[DigitClass | ChangedClass]) -> None:
    step = 1 if len(classes) <= 10 else 5 if len(classes) <= 100 else 50
    shown = [i for i, c in enumerate(classes) if int(c.digits) % step == 0]
    axes.set_xticks(shown, [classes[i].digits for i in shown])
