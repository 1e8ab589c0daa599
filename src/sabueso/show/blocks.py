"""Blocks on a terminal."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console
from rich.text import Text

from sabueso.report.blocks import Bar, Block, Cell, Gap, Line, Marked, Table, Tone
from sabueso.report.palette import AMBER, INK, SEA, STONE
from sabueso.show.console import open_table

EIGHTHS = " ▏▎▍▌▋▊▉█"
STYLES: dict[Tone, str] = {"plain": "", "muted": STONE, "mark": AMBER, "strong": "bold"}
BESIDE_BAR, LEAST_BAR, MOST_BAR = 78, 16, 60


def show_blocks(console: Console, blocks: Iterable[Block]) -> None:
    """Print blocks one after another."""
    for block in blocks:
        if isinstance(block, Gap):
            console.print()
        elif isinstance(block, Line):
            console.print(Text(f" {block.text}", style=STYLES[block.tone]))
        else:
            _show_table(console, block)


def _show_table(console: Console, block: Table) -> None:
    kinds = [("left" if kind == "bar" else kind) for _, kind in block.columns]
    table = open_table(
        [(column.name, kind) for column, kind in zip(block.columns, kinds, strict=True)]
    )
    width = min(max(console.width - BESIDE_BAR, LEAST_BAR), MOST_BAR)
    set_in = bool(kinds) and kinds[0] != "right"
    for place, row in enumerate(block.rows):
        cells = [_text(cell, width) for cell in row]
        if set_in and cells:
            cells[0] = Text(" ").append_text(cells[0])
        table.add_row(*cells, style="bold" if place in block.strong else "")
    console.print(table)
    if block.rest:
        console.print(Text(f" {block.rest}", style=STONE))


def _text(cell: Cell, width: int) -> Text:
    if isinstance(cell, Bar):
        return _bar(cell, width)
    if isinstance(cell, Marked):
        return Text(cell.text, style=STYLES[cell.tone])
    return Text(cell)


def _bar(bar: Bar, width: int) -> Text:
    """Observed as a filled bar, the band as a thin line, expected as a tick."""
    filled = bar.share / bar.largest * (width - 1)
    whole, part = int(filled), int((filled % 1) * 8)
    cells = ["█"] * whole + ([EIGHTHS[part]] if part else [])
    cells += [" "] * (width - len(cells))
    styles = [AMBER if bar.flagged else SEA] * width
    low, high = (round(end / bar.largest * (width - 1)) for end in (bar.low, bar.high))
    for i in range(low, high + 1):
        if cells[i] == " ":
            cells[i], styles[i] = "─", STONE
    tick = round(bar.expected / bar.largest * (width - 1))
    cells[tick], styles[tick] = "┃", f"bold {INK} on {SEA}" if tick < whole else "bold"
    text = Text()
    for cell, style in zip(cells, styles, strict=True):
        text.append(cell, style=style)
    return text
