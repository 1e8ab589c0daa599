"""Drill-downs as terminal text: totals at every level."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.population.drill import Drill, Figure, Node
from sabueso.report import numbers as num
from sabueso.report.palette import STONE
from sabueso.show.account import account_lines
from sabueso.show.console import GAP, next_steps, notes, open_table, title

NAME_WIDTH = 24
MOST_BLOCKS = 3
"""Tables one under another in which values across stand that one is too narrow for."""
LATEST = ("year", "quarter", "month")


def show_drill(console: Console, result: Drill, *, heading: str = "", steps: Sequence[str]) -> None:
    """Print a drill-down; groups that are not shown stand in one line, so that totals tie."""
    by = f" by {', '.join(result.by)}" if result.by else ""
    # Of several measures the currency is one's, and not that of litres beside it.
    of_one = {figure.column for figure in result.figures} <= {result.on, None}
    unit = f", {result.currency}" if result.currency and result.on and of_one else ""
    title(
        console, heading or f"{result.table} · {measure_text(result)}{by}",
        f"{num.many(result.population.used, 'row')}{unit}",
    )  # fmt: skip
    across, left = _fitting(console, result)
    first = across[0] if across else []
    _table(console, result, first, plain=True, left=left if len(across) < 2 else [])
    for block in across[1:]:
        console.print()
        _table(console, result, block, plain=False, left=left if block is across[-1] else [])
    if left:
        told = f" {left_text(result, left)}; all with --out FILE.csv or .xlsx"
        console.print(Text(told, style=STONE))
    console.print()
    notes(console, "caution", (f"{code}   {text}" for code, text in result.cautions))
    for line in account_lines(result.population, amount_scale(result), result.currency, result.on):
        console.print(Text(line))
    next_steps(console, list(steps))


def measure_text(result: Drill) -> str:
    """What is measured, for a heading."""
    figure = result.figures[0]
    if len(result.figures) > 1:
        return ", ".join(each.label for each in result.figures)
    if figure.label == "count":
        return "rows"
    return (
        f"{figure.label} of {result.on}" if figure.label.isalpha() and result.on else figure.label
    )


def amount_scale(result: Drill) -> int:
    """Decimals of the amounts in the account of rows."""
    return next((f.scale for f in result.figures if f.column is not None), result.scale)


def _fitting(console: Console, result: Drill) -> tuple[list[list[str]], list[str]]:
    """Values across by the table they stand in, and those that stand in none.

    Those that are kept stay in their own order.
    """
    names = result.across_values
    if not names:
        return [], []
    figure = result.figures[0]
    widths = {name: max(len(name), _widest(result.total, name, figure)) + GAP for name in names}
    share = 7 if _shared(result) else 0
    own = sum(max(len(f.label), len(_value(v, f))) + GAP for f, v in _valued(result, result.total))
    head = max((len(num.shown(key)) for key in _names(result.total)), default=5)
    head = min(max(head + 2, 8), NAME_WIDTH)
    room = [console.width - head - 8 - own - share, *[console.width - head] * (MOST_BLOCKS - 1)]

    def placed(wanted: Sequence[str], rest: int) -> list[list[str]] | None:
        blocks: list[list[str]] = [[]]
        free = room[0]
        for width, name in [*((widths[n], n) for n in wanted), *([(rest, "")] if rest else [])]:
            if width > free and (blocks[-1] or len(blocks) == 1):
                if len(blocks) == len(room):
                    return None
                blocks.append([])
                free = room[len(blocks) - 1]
            free -= width
            if name:
                blocks[-1].append(name)
        return blocks

    every = placed(names, 0)
    if every is not None:
        return [block for block in every if block or block is every[0]], []
    ranked = across_ranked(result)
    most = max(widths.values())
    # No more than there would be room for if each were as narrow as the narrowest.
    kept = min(len(names) - 1, sum(room) // min(widths.values()) + len(room))
    while kept > 1:
        chosen = set(ranked[:kept])
        found = placed([n for n in names if n in chosen], most + 4)
        if found is not None:
            return found, [n for n in names if n not in chosen]
        kept -= 1
    return [[ranked[0]]], [n for n in names if n != ranked[0]]


def across_ranked(result: Drill) -> list[str]:
    """Values across in the order in which they are kept where there is no room for all: of years, quarters
    and months the latest, of others those with most."""
    names = result.across_values
    if (result.across or "").strip().lower() in LATEST:
        return list(reversed(names))
    return sorted(names, key=lambda n: -abs(as_number(result.total.across.get(n))))


def as_number(value: Any) -> float:
    """A value of a measure as a number; 0 of a date or a text, which has no size."""
    return float(value) if isinstance(value, (int, float, Decimal)) else 0.0


def left_text(result: Drill, left: Sequence[str]) -> str:
    """Which values across have no column of their own, and whether one holds them together."""
    listed = ", ".join(left[:6]) + (f", … {left[-1]}" if len(left) > 6 else "")
    together = " (together under rest)" if result.figures[0].additive else ""
    return f"of {result.across}, {num.many(len(left), 'value')} not shown{together}: {listed}"


def _names(node: Node) -> list[Any]:
    found = [child.key[-1] for child in node.children]
    for child in node.children:
        found += _names(child)
    return found


def _widest(node: Node, name: str, figure: Figure) -> int:
    return max(
        len(_value(node.across.get(name), figure)),
        *(_widest(c, name, figure) for c in node.children),
        0,
    )


def _shared(result: Drill) -> bool:
    """Whether the share of the total is told beside the first measure."""
    return result.figures[0].additive and not any(f.share for f in result.figures)


def _valued(result: Drill, node: Node) -> list[tuple[Figure, Any]]:
    """Measures with their values, but for a count of rows: that is told of every view."""
    pairs = list(zip(result.figures, node.values, strict=True))
    if len(pairs) == 1:
        return pairs
    return [p for p in pairs if "".join(p[0].label.lower().split()) != "count(*)"]


@dataclass(frozen=True)
class Line:
    """A line of a view: a group, groups that are not shown, or the total."""

    depth: int
    name: str
    cells: list[str]
    kind: str = ""
    """``total``, ``others``, or nothing for a group."""


def view_lines(
    result: Drill, across: Sequence[str], *, plain: bool = True, left: Sequence[str] = ()
) -> tuple[list[str], list[Line]]:
    """Headers of the figures, and the lines of a view from the widest group to the total.

    Parameters
    ----------
    across : sequence of str
        Values across that get a column.
    plain : bool
        Whether rows and measures have columns too.
    left : sequence of str
        Values across that share one column.
    """
    head: list[str] = []
    if plain:
        head.append("rows")
        for place, (figure, _) in enumerate(_valued(result, result.total)):
            head.append(figure.label)
            if place == 0 and _shared(result):
                head.append("share")
    rest = bool(left) and result.figures[0].additive
    head += [*across, *(["rest"] if rest else [])]
    whole = result.total.value
    lines: list[Line] = []

    def add(name: str, node: Node, depth: int, kind: str = "") -> None:
        cells: list[str] = []
        if plain:
            cells.append(num.count(node.rows))
            for place, (figure, value) in enumerate(_valued(result, node)):
                cells.append(_value(value, figure))
                if place == 0 and _shared(result):
                    part = float(node.value or 0) / float(whole) if whole else None
                    cells.append("–" if part is None else num.percent(part))
        cells += [_value(node.across.get(value), result.figures[0]) for value in across]
        if rest:
            cells.append(_value(_together(node, left), result.figures[0]))
        lines.append(Line(depth, name, cells, kind))

    def level(node: Node, depth: int) -> None:
        for child in node.children:
            add(num.shown(child.key[-1]), child, depth)
            level(child, depth + 1)
        if node.others is not None:
            add(num.many(node.others.groups, "other"), node.others.node, depth, "others")
        if node.unmet is not None:
            name = f"{num.many(node.unmet.groups, 'group')} not meeting the condition"
            add(name, node.unmet.node, depth, "others")

    level(result.total, 0)
    add("total", result.total, 0, "total")
    return head, lines


def _table(
    console: Console, result: Drill, across: Sequence[str], *, plain: bool, left: Sequence[str]
) -> None:
    head, lines = view_lines(result, across, plain=plain, left=left)
    name = " / ".join(result.by) or "total"
    table = open_table([(name, "flex"), *((each, "right") for each in head)])
    styles = {"total": "bold", "others": STONE}
    for line in lines:
        label = " " + "  " * line.depth + line.name
        table.add_row(label, *line.cells, style=styles.get(line.kind, ""))
    console.print(table)


def _together(node: Node, names: Sequence[str]) -> Any:
    values = [node.across[name] for name in names if node.across.get(name) is not None]
    return sum(values, 0 * values[0]) if values else None


def _value(value: Any, figure: Figure) -> str:
    """A value of a measure, as it is told."""
    if value is None:
        return ""
    if figure.share:
        return num.percent(value)
    if isinstance(value, Decimal):
        return num.amount(value, max(-int(value.as_tuple().exponent), 0))
    if isinstance(value, int):
        return num.count(value)
    return num.number(float(value)) if isinstance(value, float) else str(value)
