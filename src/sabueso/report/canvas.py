"""The looks that every figure shares: size, type, key, and a file without a date in it."""

from __future__ import annotations

import io
import warnings
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.visible import clipped, visible
from sabueso.report import numbers as num
from sabueso.report.blocks import Drawing
from sabueso.report.palette import INK, STONE

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

SIZE = (8.4, 3.9)  # inches
DOTS = 150  # an inch, of a figure that is made of dots
LONGEST_LABEL, LONGEST_TITLE = 40, 110


def one_plot(draw_on: Callable[[Axes], bool], height: float = 1.0) -> Drawing:
    """A drawing of one plot."""
    return Drawing(lambda figure: draw_on(figure.add_subplot()), height)


def drawn(drawing: Drawing, form: str) -> bytes | None:
    """A figure in the looks of this program, as ``svg`` or ``png``; None where nothing was drawn."""
    found, lacking = _drawn(drawing, form, [FONT])
    if found is not None and lacking and (others := _other_fonts()):
        found, lacking = _drawn(drawing, form, [FONT, *others])
    if found is not None and lacking:
        found, _ = _drawn(drawing, form, [FONT, *_other_fonts()], note=LACKING)
    return found


FONT = "DejaVu Sans"
OTHER_FONTS = (
    "Noto Sans CJK JP", "Noto Sans CJK SC", "Noto Sans JP", "Noto Sans SC", "Noto Sans KR", "Yu Gothic", "Meiryo",
    "MS Gothic", "Hiragino Sans", "PingFang SC", "Heiti SC", "Microsoft YaHei", "SimHei", "Malgun Gothic",
    "Apple SD Gothic Neo", "WenQuanYi Zen Hei", "IPAexGothic", "Noto Sans Thai", "Leelawadee UI", "Noto Sans Arabic",
    "Noto Sans Hebrew", "Noto Sans Devanagari", "Nirmala UI", "Arial Unicode MS",
)  # fmt: skip
"""Fonts of systems that have the letters which the first lacks."""
LACKING = "letters that no font of this machine has stand as boxes"


def _other_fonts() -> list[str]:
    from matplotlib.font_manager import fontManager

    known = {font.name for font in fontManager.ttflist}
    return [name for name in OTHER_FONTS if name in known]


def _drawn(
    drawing: Drawing, form: str, fonts: list[str], note: str = ""
) -> tuple[bytes | None, bool]:
    """A figure in some fonts, and whether they lack a letter of it."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure as NewFigure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    style: Any = {
        "font.family": fonts,
        "font.size": 8.5,
        "axes.edgecolor": STONE,
        "axes.labelcolor": INK,
        "text.color": INK,
        "xtick.color": INK,
        "ytick.color": INK,
        "axes.spines.top": False,
        "axes.spines.right": False,
        "svg.fonttype": "path",
        # A dollar sign of a client's is no mathematics.
        "text.parse_math": False,
        "svg.hashsalt": "sabueso",
    }
    with matplotlib.rc_context(style):
        figure = NewFigure(figsize=(SIZE[0], SIZE[1] * drawing.height), dpi=DOTS)
        (FigureCanvasSVG if form == "svg" else FigureCanvasAgg)(figure)
        if not drawing.draw(figure):
            return None, False
        _clean(figure)
        if note:
            figure.text(0.995, 0.005, note, ha="right", va="bottom", fontsize=6, color=STONE)
        buffer = io.BytesIO()
        # No date in the file: the same finding gives the same bytes.
        metadata = {"Date": None} if form == "svg" else {}
        with warnings.catch_warnings(record=True) as told:
            warnings.filterwarnings("always", message="Glyph")
            # By itself: a figure that has a layout is drawn once more, only to be laid out.
            ConstrainedLayoutEngine().execute(figure)
            figure.savefig(buffer, format=form, dpi=DOTS, metadata=metadata)
        return buffer.getvalue(), any("Glyph" in str(each.message) for each in told)


def picture(drawing: Drawing | None, path: Path) -> bytes:
    """The file of a drawing in the form that its suffix says.

    Raises
    ------
    UserError
        If there is nothing to draw.
    """
    found = None if drawing is None else drawn(drawing, path.suffix[1:].lower())
    if found is None:
        raise UserError(f"--out {path}: there is nothing to draw")
    return found


def _clean(figure: Figure) -> None:
    """Every text of a figure as it can be seen and as long as there is room for."""
    from matplotlib.text import Text
    from matplotlib.ticker import FixedFormatter, FuncFormatter

    for axes in figure.axes:
        for axis in (axes.xaxis, axes.yaxis):
            names = axis.get_major_formatter()
            if isinstance(names, FixedFormatter):
                names.seq = [_label(str(name)) for name in names.seq]
            elif isinstance(names, FuncFormatter):
                names.func = partial(_named, names.func)
    titles: set[Any] = {
        each
        for axes in figure.axes
        for each in (axes.xaxis.label, axes.yaxis.label, axes.title, axes._left_title)  # type: ignore[attr-defined]
    }
    for text in figure.findobj(Text):
        most = LONGEST_TITLE if text in titles else LONGEST_LABEL
        text.set_text(_label(text.get_text(), most))


def _named(name_of: Callable[[float, int | None], str], value: float, place: int | None) -> str:
    return _label(name_of(value, place))


def _label(text: str, most: int = LONGEST_LABEL) -> str:
    return "\n".join(clipped(visible(line), most) for line in text.split("\n")[:6])


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
