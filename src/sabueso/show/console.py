"""The terminal: width, colour, open tables."""

from __future__ import annotations

import io
import os
import sys
from collections.abc import Iterable, Sequence
from typing import Any, TextIO

from rich.box import Box
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.padding import Padding
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from sabueso.base.visible import visible
from sabueso.report.palette import AMBER, SEA, STONE

# A rule under the header, nothing between columns.
OPEN = Box("    \n    \n ── \n    \n    \n    \n    \n    \n")
GAP = 2  # spaces between columns
LEAST_WRAP = 12
LEAST_FLEX = 8
PLAIN_WIDTH = 100
LEAST_WIDTH, MOST_WIDTH = 40, 1000


class SafeConsole(Console):
    """A console on which a client's text steers nothing: whatever is rendered, controls in it and
    marks of text direction are shown as escapes. The library's own colours are no part of a text.
    ``steps`` are the commands that were last printed as next ones."""

    steps: Sequence[str] = ()

    def print(self, *objects: Any, **options: Any) -> None:
        """Print; what does not fit is wrapped by the terminal, and no figure is cut off."""
        super().print(*objects, **{"crop": False, **options})

    def on_broken_pipe(self) -> None:
        """The reader has gone: no fault, and the caller's to end quietly."""
        raise BrokenPipeError

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            seen = segment.text if segment.control else visible(segment.text, "\n")
            yield segment if seen == segment.text else Segment(seen, segment.style)


def make_console(file: TextIO | None = None) -> SafeConsole:
    """A console that follows the terminal; plain and 100 wide in a pipe, a file, or TERM=dumb."""
    stream = file or sys.stdout
    terminal = stream.isatty() and os.environ.get("TERM") != "dumb"
    if isinstance(stream, io.TextIOWrapper) and not terminal:
        # A pipe gets UTF-8 on every system: figures' bars and minus signs have no other form.
        stream.reconfigure(encoding="utf-8")
    given = os.environ.get("COLUMNS", "")
    width = int(given) if given.isascii() and given.isdigit() else PLAIN_WIDTH
    if terminal and not given:
        width = _columns_of(stream)
    width = min(max(width, LEAST_WIDTH), MOST_WIDTH)
    return SafeConsole(
        file=stream,
        width=width,
        force_terminal=terminal,
        highlight=False,
        soft_wrap=False,
        no_color=not terminal or "NO_COLOR" in os.environ,
        legacy_windows=False,
    )


def _columns_of(stream: TextIO) -> int:
    """The width of the terminal behind a stream, asked of itself: Python's own stdout may be another by
    now."""
    try:
        return os.get_terminal_size(stream.fileno()).columns or PLAIN_WIDTH
    except (OSError, ValueError):  # a stream that is no file, or a terminal without a size
        return PLAIN_WIDTH


class OpenTable:
    """A table with a rule under its header and nothing between its columns.

    Columns are of (header, kind): ``left``, ``right``, ``wrap`` (folds onto more lines), or
    ``flex`` (cut with an ellipsis where the table would not fit). Figures are never cut.
    """

    def __init__(self, columns: Sequence[tuple[str, str]]) -> None:
        self._columns = list(columns)
        self._rows: list[tuple[list[str | Text], str]] = []

    def add_row(self, *cells: str | Text, style: str = "") -> None:
        self._rows.append(([_seen(cell) for cell in cells], style))

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        widths = [
            max([cell_len(header), *(_width(row[i]) for row, _ in self._rows if i < len(row))])
            for i, (header, _) in enumerate(self._columns)
        ]
        over = sum(widths) + GAP * (len(widths) - 1) + 1 - options.max_width
        flexible = [i for i, (_, kind) in enumerate(self._columns) if kind == "flex"]
        while over > 0 and flexible:
            widest = max(flexible, key=lambda i: widths[i])
            if widths[widest] <= LEAST_FLEX:
                break
            widths[widest] -= 1
            over -= 1
        for i in (i for i, (_, kind) in enumerate(self._columns) if kind == "wrap"):
            over -= max(min(over, widths[i] - LEAST_WRAP), 0)
        # A figure is never cut: rather a line longer than the terminal is wide.
        room = options.update_width(options.max_width + max(over, 0))
        yield from console.render(self._table(widths), room)

    def _table(self, widths: list[int]) -> Table:
        table = Table(
            box=OPEN, pad_edge=False, padding=(0, GAP - 1, 0, 0), show_edge=False,
            header_style=STONE, border_style=STONE,
        )  # fmt: skip
        for i, (header, kind) in enumerate(self._columns):
            table.add_column(
                Text(header, no_wrap=True),
                justify="right" if kind == "right" else "left",
                no_wrap=kind != "wrap",
                overflow="fold" if kind == "wrap" else "ellipsis",
                width=None if kind == "wrap" else widths[i],
            )
        for cells, style in self._rows:
            # Texts are texts: what a client wrote in brackets is no markup of this program's.
            texts = [Text(c) if isinstance(c, str) else c for c in cells]
            folds = self._columns[0][1] == "wrap" and texts[0].plain.startswith(" ")
            first = Padding(texts[0][1:], (0, 0, 0, 1)) if folds else texts[0]
            table.add_row(first, *texts[1:], style=style)
        return table


def _seen(cell: str | Text) -> str | Text:
    """A cell on one line, as its width is reckoned."""
    if isinstance(cell, str):
        return visible(cell)
    seen = visible(cell.plain)
    return cell if seen == cell.plain else Text(seen, style=cell.style)


def _width(cell: str | Text) -> int:
    return cell_len(cell if isinstance(cell, str) else cell.plain)


def open_table(columns: Sequence[tuple[str, str]]) -> OpenTable:
    """An open table; the first header is set in by one, as its cells are."""
    (first, kind), *rest = columns
    return OpenTable([(" " + first if kind != "right" else first, kind), *rest])


def title(console: Console, left: str, right: str = "") -> None:
    """A heading with what it covers at the right."""
    room = min(console.width, 120) - cell_len(left) - cell_len(right)
    text = Text(left, style="bold")
    if room < 2 and right:
        console.print(text)
        console.print(Text(right, style=STONE))
    else:
        text.append(" " * max(room, 1) + right if right else "", style=f"not bold {STONE}")
        console.print(text)
    console.print()


def notes(console: Console, label: str, lines: Iterable[str], style: str = AMBER) -> None:
    """Labelled sentences, wrapped under themselves."""
    for line in lines:
        grid = Table.grid(padding=(0, 1))
        grid.add_column(no_wrap=True)
        grid.add_column(overflow="fold")
        grid.add_row(Text(f" {label}", style=style), Text(line))
        console.print(grid)


def next_steps(console: Console, commands: Sequence[str]) -> None:
    """The commands that a practitioner would type now, ready to paste, never wrapped."""
    if isinstance(console, SafeConsole):
        console.steps = list(commands[:2])
    for position, command in enumerate(commands[:2]):
        label = " next: " if position == 0 else "       "
        line = Text(label, style=STONE).append(command, style=SEA)
        console.print(line, soft_wrap=True)


def said(console: Console, *lines: str) -> None:
    """Print lines of words as they are, never wrapped."""
    for line in lines:
        console.print(Text(line), soft_wrap=True)
