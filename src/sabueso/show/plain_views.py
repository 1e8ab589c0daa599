"""The views of a test that has none of its own: its groups' figures, and what it flagged."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.screens.interface import Finding, plain
from sabueso.screens.subject import of_key
from sabueso.show import numbers as num
from sabueso.show.console import open_table
from sabueso.show.palette import AMBER, STONE

MOST_GROUPS, MOST_FLAGS, MOST_FIGURES = 12, 20, 6


def show_plain(console: Console, finding: Finding) -> None:
    """Print groups and flags."""
    head, rows = group_figures(finding.groups)
    if rows:
        table = open_table([(head[0], "flex"), *((name, "right") for name in head[1:])])
        for row in rows:
            table.add_row(" " + row[0], *row[1:])
        console.print(table)
        if len(finding.groups) > len(rows):
            more = num.many(len(finding.groups) - len(rows), "group")
            console.print(Text(f" … and {more} more", style=STONE))
        console.print()
    if not len(finding.flags):
        console.print(Text(" nothing is flagged"))
        return
    table = open_table(
        [
            ("subject", "flex"),
            ("amount", "right"),
            ("score", "right"),
            ("adj. p", "right"),
            ("", "left"),
        ]
    )
    for flag in finding.flags.rows(MOST_FLAGS):
        name = of_key(finding.flags.kind, flag["subject"]).short()
        table.add_row(
            " " + name,
            num.amount(flag.get("amount"), finding.scale),
            _figure(flag.get("score")),
            num.p_value(flag.get("p_adjusted")),
            Text(f"▲ {flag.get('direction') or 'flagged'}", style=AMBER),
        )
    console.print(table)
    if len(finding.flags) > MOST_FLAGS:
        rest = len(finding.flags) - MOST_FLAGS
        console.print(Text(f" … and {rest:,} more; all of them with --out FILE.csv", style=STONE))


def plain_result(finding: Mapping[str, Any], flagged: str) -> dict[str, Any]:
    """The same for a paper: a sentence, and the groups as a table."""
    head, rows = group_figures(finding["groups"])
    return {"text": f"{flagged}.", "head": head, "rows": rows}


def group_figures(groups: Sequence[Mapping[str, Any]]) -> tuple[list[str], list[list[str]]]:
    """The single figures of the groups with most flags, under the names that the test gave them."""
    chosen = sorted(groups, key=lambda g: -(g.get("flagged") or 0))[:MOST_GROUPS]
    names = [
        name
        for name, value in (chosen[0].items() if chosen else ())
        if name != "group" and _is_figure(value)
    ][:MOST_FIGURES]
    if not names:
        return ["group"], []
    rows = [
        [num.group_name(g.get("group") or {}), *(_figure(g.get(name)) for name in names)]
        for g in chosen
    ]
    return ["group", *names], rows


def _is_figure(value: Any) -> bool:
    return isinstance(plain(value), (int, float, str)) or value is None


def _figure(value: Any) -> str:
    if isinstance(value, Decimal):
        return num.amount(value)
    shown = plain(value)
    if isinstance(shown, (bool, str)):
        return str(shown)
    if isinstance(shown, int):
        return num.count(shown)
    return num.number(shown)
