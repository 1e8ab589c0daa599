"""Rows as terminal text: the columns that can be read side by side, or whole rows one under another."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.cells import cell_len
from rich.console import Console
from rich.table import Table
from rich.text import Text

from sabueso.base.visible import visible
from sabueso.base.words import first_few
from sabueso.population.drill import Rows
from sabueso.population.period_names import names_period
from sabueso.population.table import Column
from sabueso.report import numbers as num
from sabueso.report.palette import STONE
from sabueso.show.account import account_lines
from sabueso.show.console import GAP, next_steps, open_table, title

FIRST_ROLES = ("id", "date", "party", "account", "amount", "debit", "credit", "document", "text",
               "preparer", "approver", "entered", "quantity", "price")  # fmt: skip
MOST_TEXT, LEAST_TEXT = 28, 14
"""Characters that a text takes beside others; with more it is cut, and whole in ``--tall``."""


def show_rows(console: Console, result: Rows, *, tall: bool, steps: Sequence[str]) -> None:
    """Print rows with where each came from; what of them is not printed is said."""
    shown = len(result.rows)
    title(
        console,
        f"{result.table} · rows" + (f", {result.order}" if result.order else ""),
        f"{shown:,} of {num.many(result.population.used, 'row')} shown",
    )
    columns = [c for c in result.columns if not c.is_place]
    rows_table(console, result, tall=tall)
    console.print()
    scale = next((c.scale for c in columns if c.name == result.on), 2)
    for line in account_lines(result.population, scale, result.currency, result.on):
        console.print(Text(line))
    next_steps(console, list(steps))


def rows_table(console: Console, result: Rows, *, tall: bool = False) -> None:
    """The rows alone; a single one is shown whole."""
    columns = [c for c in result.columns if not c.is_place]
    if tall or (len(result.rows) == 1 and not result.chosen):
        _tall(console, result, columns)
    else:
        _wide(console, result, columns)


def _tall(console: Console, result: Rows, columns: Sequence[Column]) -> None:
    width = max((cell_len(c.name) for c in columns), default=6)
    for place, row in enumerate(result.rows):
        if place:
            console.print()
        console.print(Text(f" {row['_file']}:{row['_line']}", style=STONE))
        grid = Table.grid(padding=(0, 2))
        grid.add_column(width=width + 1, no_wrap=True)
        grid.add_column(overflow="fold")
        for column in columns:
            if row[column.name] is not None:
                grid.add_row(
                    Text(f" {column.name}", style=STONE), Text(cell_text(row[column.name], column))
                )
        console.print(grid)


MOST_TOLD = 20
"""Columns that are named of those that are not shown beside one another."""


def _wide(console: Console, result: Rows, columns: Sequence[Column]) -> None:
    rows = result.rows
    kept, same, empty = list(columns), {}, []
    if not result.chosen and len(rows) > 1:
        for column in columns:
            values = {cell_text(row[column.name], column) for row in rows}
            if len(values) == 1:
                kept.remove(column)
                (value,) = values
                if all(row[column.name] is None for row in rows):
                    empty.append(column.name)
                else:
                    same[column.name] = value
    fitting = kept if result.chosen else _fitting(console, result, kept)
    head = [(c.name, {"number": "right", "text": "flex"}.get(c.type, "left")) for c in fitting]
    table = open_table([*head, ("source", "flex")])
    for row in rows:
        cells = [cell_text(row[c.name], c) for c in fitting]
        if cells and head[0][1] != "right":
            cells[0] = " " + cells[0]
        table.add_row(*cells, Text(f"{row['_file']}:{row['_line']}", style=STONE))
    console.print(table)
    said = []
    if same:
        alike = [f"{name} {value}" for name, value in same.items()]
        said.append(f"the same on all of these: {first_few(alike, MOST_TOLD)}")
    if empty:
        said.append(f"empty on all of these: {first_few(empty, MOST_TOLD)}")
    hidden = [c.name for c in kept if c not in fitting]
    if hidden:
        told = first_few(hidden, MOST_TOLD)
        said.append(f"no room for {told}: --tall shows whole rows, --columns chooses")
    for line in said:
        console.print(Text(f" {line}", style=STONE))


def _fitting(console: Console, result: Rows, columns: Sequence[Column]) -> list[Column]:
    """The columns that fit beside one another, those in a role before others, in the table's order."""
    roles = [result.roles.get(role) for role in FIRST_ROLES]
    first = [c for name in roles for c in columns if c.name == name]
    if result.on:
        first.sort(key=lambda c: c.name != result.on)
    ranked = [*first, *(c for c in columns if c not in first)]
    room = (
        console.width
        - GAP
        - max((cell_len(f"{row['_file']}:{row['_line']}") for row in result.rows), default=10)
    )
    chosen: list[Column] = []
    for column in ranked:
        widest = max(
            (cell_len(cell_text(row[column.name], column)) for row in result.rows), default=0
        )
        if column.type == "text":
            widest = min(widest, MOST_TEXT)
        width = max(widest, cell_len(column.name)) + GAP
        if width > room >= LEAST_TEXT and column.type == "text":
            width = room  # a text can be cut
        if width <= room or not chosen:
            chosen.append(column)
            room -= width
    return [c for c in columns if c in chosen]


def cell_text(value: Any, column: Column) -> str:
    """A cell as it is told.

    Examples
    --------
    >>> [cell_text(2025, Column(name, "number")) for name in ("year", "hours")]
    ['2025', '2,025']
    """
    if value is None:
        return "–"
    if column.type == "number":
        if not column.scale and names_period(column.name):
            return str(int(value))  # 2025, 202503: a year has no thousands
        return num.amount(value, column.scale) if column.scale else num.count(int(value))
    return visible(" ".join(str(value).split()))
