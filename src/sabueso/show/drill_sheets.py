"""Views of a table and its rows as sheets."""

from __future__ import annotations

from typing import Any

from sabueso.population.drill import Drill, Node, Rows
from sabueso.report.blocks import Sheet


def drill_sheet(result: Drill) -> Sheet:
    """Every group of a drill-down, wider groups before the narrower, the total last."""
    labels = [figure.label for figure in result.figures]
    header = [*result.by, "rows", *labels, *result.across_values]
    rows: list[list[Any]] = []

    def add(node: Node, name: str = "") -> None:
        key: list[Any] = [*node.key, *([name] if name else [])]
        pad: list[Any] = [*key, *[None] * (len(result.by) - len(key))][: len(result.by)]
        across = (node.across.get(value) for value in result.across_values)
        rows.append([*pad, node.rows, *node.values, *across])

    def walk(node: Node) -> None:
        for child in node.children:
            add(child)
            walk(child)
        for others, what in ((node.others, "others"), (node.unmet, "not meeting --having")):
            if others is not None:
                add(others.node, f"({others.groups:,} {what})")

    walk(result.total)
    add(result.total, "total" if result.by else "")
    return Sheet("drill-down", header, rows)


def rows_sheet(result: Rows) -> Sheet:
    names = [c.name for c in result.columns]
    return Sheet("rows", names, [[row[name] for name in names] for row in result.rows])
