"""The terminal: width, colour, open tables."""

from __future__ import annotations

import io
import os
import shutil
import sys
from collections.abc import Iterable, Sequence
from typing import TextIO

from rich.box import Box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from sabueso.show.palette import AMBER, SEA, STONE

# A rule under the header, nothing between columns.
OPEN = Box("    \n    \n ── \n    \n    \n    \n    \n    \n")
PLAIN_WIDTH = 100


def make_console(file: TextIO | None = None) -> Console:
    """A console that follows the terminal; plain and 100 wide in a pipe, a file, or TERM=dumb."""
    stream = file or sys.stdout
    terminal = stream.isatty() and os.environ.get("TERM") != "dumb"
    if isinstance(stream, io.TextIOWrapper) and not terminal:
        # A pipe gets UTF-8 on every system: figures' bars and minus signs have no other form.
        stream.reconfigure(encoding="utf-8")
    width = None if terminal else int(os.environ.get("COLUMNS", PLAIN_WIDTH))
    if terminal:
        width = shutil.get_terminal_size((PLAIN_WIDTH, 24)).columns
    return Console(
        file=stream,
        width=width,
        force_terminal=terminal,
        highlight=False,
        soft_wrap=False,
        no_color=not terminal or "NO_COLOR" in os.environ,
        legacy_windows=False,
    )


def open_table(columns: Sequence[tuple[str, str]], *, indent: int = 1) -> Table:
    """A table with columns of (header, "left" or "right" or "wrap")."""
    table = Table(
        box=OPEN, pad_edge=False, padding=(0, 1), show_edge=False, header_style=STONE, border_style=STONE
    )
    for position, (header, kind) in enumerate(columns):
        pad = " " * indent if position == 0 else ""
        table.add_column(
            pad + header if kind == "left" else header,
            justify="right" if kind == "right" else "left",
            no_wrap=kind != "wrap",
            overflow="ellipsis" if kind != "wrap" else "fold",
        )
    return table


def title(console: Console, left: str, right: str = "") -> None:
    """A heading with what it covers at the right."""
    room = min(console.width, 120) - len(left) - len(right)
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
    for position, command in enumerate(commands[:2]):
        label = " next: " if position == 0 else "       "
        line = Text(label, style=STONE).append(command, style=SEA)
        console.print(line, soft_wrap=True)


def shell(text: str) -> str:
    """An argument that every shell passes on as it is."""
    if text and all(c.isalnum() or c in "_-./:,+%" for c in text):
        return text
    return '"' + text.replace('"', '\\"') + '"'
