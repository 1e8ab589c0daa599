"""Drill-downs as terminal text: totals at every level, then the rows."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.population.drill import Drill, Node, Rows
from sabueso.population.population import Account
from sabueso.report import numbers as num
from sabueso.report.palette import STONE
from sabueso.show.account import account_lines
from sabueso.show.console import next_steps, open_table, title


def show_drill(
    console: Console, result: Drill, *, where: str | None, limit: int, steps: list[str]
) -> None:
    """Print a drill-down; ``limit`` groups a level, the others in one line so that totals tie."""
    what = "rows" if result.measure == "count" else f"{result.measure} of {result.on}"
    by = f" by {', '.join(result.by)}" if result.by else ""
    unit = f", {result.currency}" if result.currency and result.on else ""
    title(
        console, f"{result.table} · {what}{by}", f"{num.many(result.population.used, 'row')}{unit}"
    )
    head = [
        (" / ".join(result.by) or "total", "flex"),
        ("rows", "right"),
        (result.measure, "right"),
    ]
    additive = result.measure in ("sum", "count")
    if additive:
        head.append(("share", "right"))
    room = max((console.width - 56) // 13, 1)
    across = result.across_values[-room:]
    head += [(value, "right") for value in across]
    table = open_table(head)
    places = 0 if across and result.measure == "sum" else result.scale
    total = result.total

    def row(name: str, node: Node, depth: int, style: str = "") -> None:
        cells = [num.count(node.rows), _value(node.value, result)]
        if additive:
            whole = float(total.value or 0)
            cells.append(num.percent(float(node.value or 0) / whole) if whole else "–")
        cells += [_value(node.across.get(value), result, places) for value in across]
        table.add_row(" " + "  " * depth + name, *cells, style=style)

    def level(node: Node, depth: int) -> None:
        for child in node.children[:limit]:
            last = child.key[-1]
            row("(missing)" if last is None else str(last), child, depth)
            level(child, depth + 1)
        rest = node.children[limit:]
        if rest:
            row(f"{num.many(len(rest), 'other')}", _together(rest, result), depth, STONE)

    level(total, 0)
    row("total", total, 0, "bold")
    console.print(table)
    if len(across) < len(result.across_values):
        hidden = len(result.across_values) - len(across)
        console.print(
            Text(
                f" {hidden} earlier columns do not fit; all of them with --out FILE.csv or .xlsx",
                style=STONE,
            )
        )
    console.print()
    _reconcile(console, result.population, result.scale, result.currency)
    next_steps(console, steps)


def _together(nodes: list[Node], result: Drill) -> Node:
    """The groups that are not shown, as one."""
    together = Node([], sum(n.rows for n in nodes), None)
    if result.measure in ("sum", "count"):
        together.value = sum(
            (n.value or 0 for n in nodes), Decimal(0) if result.measure == "sum" else 0
        )
        for name in result.across_values:
            values = [n.across[name] for n in nodes if n.across.get(name) is not None]
            if values:
                together.across[name] = sum(values)
    return together


def _value(value: Decimal | float | int | None, result: Drill, places: int | None = None) -> str:
    if value is None:
        return ""
    if result.measure == "count":
        return num.count(int(value))
    if places is not None and places < result.scale:
        return (
            num.amount(round(value, places), places)
            if isinstance(value, Decimal)
            else num.number(value, places)
        )
    return (
        num.amount(value, result.scale) if isinstance(value, Decimal) else num.number(float(value))
    )


def show_rows(console: Console, result: Rows, *, steps: list[str]) -> None:
    """Print rows, largest first, with where each came from."""
    shown = len(result.rows)
    title(
        console,
        f"{result.table} · rows" + (f", largest {result.on} first" if result.on else ""),
        f"{shown:,} of {num.many(result.population.used, 'row')} shown",
    )
    columns = [c for c in result.columns if not c.is_place]
    head = [(c.name, {"number": "right", "text": "flex"}.get(c.type, "left")) for c in columns]
    table = open_table([*head, ("source", "flex")])
    for row in result.rows:
        cells = [_cell(row[c.name], c.type, c.scale) for c in columns]
        cells[0] = " " + cells[0]
        table.add_row(*cells, Text(f"{row['_file']}:{row['_line']}", style=STONE))
    console.print(table)
    console.print()
    scale = next((c.scale for c in columns if c.name == result.on), 2)
    _reconcile(console, result.population, scale, result.currency)
    next_steps(console, steps)


def _cell(value: Any, kind: str, scale: int) -> str:
    if value is None:
        return "–"
    if kind == "number":
        return num.amount(value, scale) if scale else num.count(int(value))
    return " ".join(str(value).split())


def _reconcile(console: Console, account: Account, scale: int, currency: str) -> None:
    for line in account_lines(account, scale, currency):
        console.print(Text(line))
