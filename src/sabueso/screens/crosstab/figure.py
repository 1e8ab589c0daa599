"""The cross table as a map: how far each group lies above or below what is expected of each kind, flagged cells framed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, SEA
from sabueso.screens.crosstab.result import CrossGroup
from sabueso.screens.finding import Finding

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_GROUPS, MOST_KINDS, LONGEST = 24, 16, 18
"""Groups and kinds that are drawn: those that are flagged, then those with the most rows; letters of a name."""


def crosstab_drawing(finding: Finding[CrossGroup]) -> Drawing | None:
    """The map; None without groups that are tested."""
    if len(finding.groups) < 2:
        return None
    return one_plot(lambda axes: _map(axes, finding))


def _map(axes: Axes, finding: Finding[CrossGroup]) -> bool:
    """The share of each group's rows that are of a kind; darker where that is more than all have."""
    from matplotlib.colors import LinearSegmentedColormap
    from matplotlib.patches import Rectangle

    whole, *groups = finding.groups
    groups = sorted(groups, key=lambda g: (-g.flagged, -g.n))[:MOST_GROUPS]
    flagged = {num.group_name(c.kind) for g in groups for c in g.cells if c.flagged}
    kinds = sorted(whole.cells, key=lambda c: (num.group_name(c.kind) not in flagged, -c.rows))[
        :MOST_KINDS
    ]
    names = [num.group_name(c.kind) for c in kinds]
    common = {num.group_name(c.kind): c.rows / whole.n for c in kinds}
    times = np.ones((len(groups), len(names)))
    for g, group in enumerate(groups):
        rows = {num.group_name(c.kind): c for c in group.cells}
        for k, name in enumerate(names):
            cell = rows.get(name)
            share = 0.0 if cell is None else cell.rows / group.n
            times[g, k] = share / common[name]
            text = num.percent(share, 1) if cell is not None else ""
            dark = times[g, k] > 3
            axes.text(
                k, g, text, ha="center", va="center", fontsize=6, color="white" if dark else INK
            )
            if cell is not None and cell.flagged:
                frame = Rectangle(
                    (k - 0.5, g - 0.5), 1, 1, fill=False, edgecolor=AMBER, linewidth=2
                )
                axes.add_patch(frame)
    colours = LinearSegmentedColormap.from_list("times", ["#ffffff", SEA])
    axes.imshow(np.log2(np.clip(times, 1, 8)), cmap=colours, aspect="auto", vmin=0, vmax=3)
    axes.set_xticks(range(len(names)), _short(names), rotation=40, ha="right", fontsize=7)
    axes.set_yticks(
        range(len(groups)), _short([num.group_name(g.group) for g in groups]), fontsize=7
    )
    shown = "" if len(kinds) == len(whole.cells) else f", {len(kinds)} of {len(whole.cells)} kinds"
    axes.set_title(
        f"share of each one's rows, n {whole.n:,}{shown}; coloured: more than all have; framed: flagged",
        fontsize=9, color=INK, loc="left",
    )  # fmt: skip
    return True


def _short(names: Sequence[str]) -> list[str]:
    return [name if len(name) <= LONGEST else f"{name[: LONGEST - 1]}…" for name in names]
