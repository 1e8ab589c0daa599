"""The week as a map: batches by weekday and hour, flagged cells framed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from sabueso.population import sql
from sabueso.population.moments import HOURS
from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, SEA
from sabueso.screens.calendar.result import CalendarGroup, side_values
from sabueso.screens.finding import Finding

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def calendar_drawing(finding: Finding[CalendarGroup]) -> Drawing | None:
    """The map; None without rows."""
    if not finding.groups or not finding.groups[0].n:
        return None
    return one_plot(lambda axes: _map(axes, finding))


def _map(axes: Axes, finding: Finding[CalendarGroup]) -> bool:
    """Batches of all groups by weekday and hour, on a log scale; who is flagged stands at the cell."""
    from matplotlib.colors import LinearSegmentedColormap
    from matplotlib.patches import Rectangle

    whole = finding.groups[0]
    hours = HOURS if any("hour" in cell.cell for cell in whole.cells) else ("",)
    counts = np.zeros((7, len(hours)))
    for cell in whole.cells:
        h = hours.index(str(cell.cell.get("hour", "")))
        counts[sql.WEEKDAYS.index(str(cell.cell["weekday"])), h] = cell.count
    colours = LinearSegmentedColormap.from_list("batches", ["#ffffff", SEA])
    axes.imshow(np.log10(1 + counts), cmap=colours, aspect="auto", vmin=0)
    axes.set_yticks(range(7), sql.WEEKDAYS)
    axes.set_xticks(range(len(hours)), hours if len(hours) > 1 else ["all day"])
    top = np.log10(1 + counts.max())
    for w in range(7):
        for h in range(len(hours)):
            if counts[w, h]:
                dark = np.log10(1 + counts[w, h]) > 0.6 * top
                axes.text(
                    h, w, num.count(int(counts[w, h])), ha="center", va="center", fontsize=6,
                    color="white" if dark else INK,
                )  # fmt: skip
    for flag in finding.flags.rows(60):
        weekday, hour = side_values(flag)
        left = -0.5 if hour is None else hours.index(hour) - 0.5
        low = -0.5 if weekday is None else sql.WEEKDAYS.index(weekday) - 0.5
        wide = len(hours) if hour is None else 1
        high = 7 if weekday is None else 1
        axes.add_patch(
            Rectangle((left, low), wide, high, fill=False, edgecolor=AMBER, linewidth=2, zorder=4)
        )
    axes.set_xlabel("hour")
    axes.set_title(
        f"batches by weekday and hour, n {whole.n:,} of {whole.rows:,} rows; framed: flagged",
        fontsize=9, color=INK, loc="left",
    )  # fmt: skip
    for side in axes.spines.values():
        side.set_visible(False)
    return True
