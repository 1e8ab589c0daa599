"""The looks that every figure shares: size, type, key, and a file without a date in it."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from sabueso.show import numbers as num
from sabueso.show.palette import INK, STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

SIZE = (8.4, 3.9)  # inches


def drawn(draw_on: Callable[[Axes], bool], form: str, height: float = 1.0) -> bytes | None:
    """A figure of one plot in the looks of this program; None where nothing was drawn."""
    return framed(lambda figure: draw_on(figure.add_subplot()), form, height)


def framed(draw_on: Callable[[Figure], bool], form: str, height: float = 1.0) -> bytes | None:
    """A figure in the looks of this program, as ``svg`` or ``png``; None where nothing was drawn."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure as NewFigure

    style: Any = {
        "font.family": "DejaVu Sans",
        "font.size": 8.5,
        "axes.edgecolor": STONE,
        "axes.labelcolor": INK,
        "text.color": INK,
        "xtick.color": INK,
        "ytick.color": INK,
        "axes.spines.top": False,
        "axes.spines.right": False,
        "svg.fonttype": "path",
        "svg.hashsalt": "sabueso",
    }
    with matplotlib.rc_context(style):
        figure = NewFigure(figsize=(SIZE[0], SIZE[1] * height), layout="constrained")
        if not draw_on(figure):
            return None
        buffer = io.BytesIO()
        # No date in the file: the same finding gives the same bytes.
        metadata = {"Date": None} if form == "svg" else {}
        figure.savefig(buffer, format=form, dpi=150, metadata=metadata)
        return buffer.getvalue()


def handles(items: list[tuple[str, str, str]]) -> list[Any]:
    """Marks of a key: (label, colour, kind), the kind a bar, dot, tick or band."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    found: list[Any] = []
    for label, color, kind in items:
        if kind == "bar":
            found.append(Patch(color=color, label=label))
        elif kind == "dot":
            found.append(Line2D([], [], marker="o", linestyle="", color=color, label=label))
        else:
            marker = "_" if kind == "tick" else "|"
            found.append(
                Line2D([], [], marker=marker, linestyle="", color=color, label=label, markersize=9)
            )
    return found


def legend(axes: Axes, items: list[tuple[str, str, str]], *, above: bool = False) -> None:
    """The key of a plot, within it or above it."""
    marks = handles(items)
    if above:
        # Where data may lie anywhere, the key stands outside of them.
        axes.legend(
            handles=marks, frameon=False, fontsize=8, loc="lower right", bbox_to_anchor=(1, 1),
            ncols=len(marks), borderaxespad=0.2,
        )  # fmt: skip
    else:
        axes.legend(handles=marks, frameon=False, fontsize=8, loc="upper right")


def plain_number(value: float, _position: object = None) -> str:
    """1,000 and not a power of ten: the reader thinks in amounts."""
    return f"{value:,.0f}".replace("-", num.MINUS)
