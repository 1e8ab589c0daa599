"""The figure of traits: the rarest entries, each a bar of the bits that its traits make."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.report.blocks import Drawing
from sabueso.report.canvas import one_plot
from sabueso.report.palette import AMBER, INK, PLUM, SAND, SEA, STONE
from sabueso.screens.finding import Finding
from sabueso.screens.traits.marks import WORDS
from sabueso.screens.traits.result import TraitGroup

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_ENTRIES = 16
COLORS = (AMBER, SEA, PLUM, STONE, INK, "#5FA8A3", "#E8B765", "#B58AA5")


def traits_drawing(finding: Finding[TraitGroup]) -> Drawing | None:
    """Bits of the first entries; None where none is flagged."""
    if not len(finding.flags):
        return None
    many = min(len(finding.flags), MOST_ENTRIES)
    return one_plot(lambda axes: _bars(axes, finding), max(0.7, 0.25 + many / 14))


def _bars(axes: Axes, finding: Finding[TraitGroup]) -> bool:
    flags = list(finding.flags.rows(MOST_ENTRIES))
    names = list(dict.fromkeys(name for flag in flags for name in flag["traits"]))
    colors = {
        name: COLORS[i % len(COLORS)] if i < len(COLORS) else SAND for i, name in enumerate(names)
    }
    left = [0.0] * len(flags)
    for name in names:
        widths = [
            flag["each"][flag["traits"].index(name)] if name in flag["traits"] else 0.0
            for flag in flags
        ]
        axes.barh(range(len(flags)), widths, left=left, color=colors[name], label=WORDS[name])
        left = [a + b for a, b in zip(left, widths, strict=True)]
    axes.set_yticks(range(len(flags)))
    axes.set_yticklabels(
        [
            flag["keys"][0]
            if flag["entries"] == 1
            else f"{flag['keys'][0]} and {flag['entries'] - 1} alike"
            for flag in flags
        ]
    )
    axes.invert_yaxis()
    axes.set_xlabel("bits of surprise")
    axes.legend(frameon=False, fontsize=7.5, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    return True
