"""A finding as terminal text: heading, what was found, cautions, reconciliation, next commands."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text

from sabueso.report import numbers as num
from sabueso.report.commands import shell
from sabueso.report.palette import STONE
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.view import View
from sabueso.show.account import account_lines
from sabueso.show.beside import beside_blocks, flagged_text, not_tested_text
from sabueso.show.blocks import show_blocks
from sabueso.show.console import next_steps, notes, title


def show_finding(
    console: Console, finding: Finding[Any], *, where: str | None, kept: str = ""
) -> None:
    """Print a finding."""
    account = finding.population
    view = find_screen(finding.test).view(finding)
    what = [finding.source, *([finding.on] if finding.on else []), view.headline()]
    span = f", {account.first_date} to {account.last_date}" if account.first_date else ""
    title(console, " · ".join(what), f"{num.many(account.rows, 'row')}{span}")
    first = [c for c in finding.cautions if c.code in view.foremost]
    if first:
        notes(console, "caution", (f"{c.code}: {c.text}" for c in first))
        console.print()
    show_blocks(console, [*view.blocks(), *beside_blocks(view)])
    console.print()
    rest = [c for c in finding.cautions if c not in first]
    notes(console, "caution", (f"{c.code}: {c.text}" for c in rest))
    if finding.not_tested:
        notes(console, "not tested", [not_tested_text(finding)], STONE)
    if rest or finding.not_tested:
        console.print()
    _show_reconciliation(console, view)
    if kept:
        next_steps(console, [f"sabueso screen {shell(kept)}", "sabueso queue"])
    else:
        keep = f"{command_of(finding, where)} --keep {shell(view.name())}"
        next_steps(console, [*view.steps(where), keep])


def _show_reconciliation(console: Console, view: View[Any]) -> None:
    """``rows … = used … + left out …`` and what the rows used add up to."""
    finding = view.finding
    if finding.named:
        console.print(
            Text(f" population {finding.named} of {finding.table}: {finding.named_reason}")
        )
    for line in account_lines(finding.population, finding.scale, finding.currency, finding.on):
        console.print(Text(line))
    if finding.looked_at:
        console.print(Text(f" {flagged_text(view)}"))


def command_of(finding: Finding[Any], where: str | None) -> str:
    """The command that gives this finding again."""
    usual = find_screen(finding.test).settings.usual(finding.settings)
    parts = [f"sabueso try {finding.test} {finding.source}"]
    for name, value in finding.settings.items():
        if name == "where" or name not in usual or value in (None, [], usual[name]):
            continue
        text = ",".join(value) if isinstance(value, list) else str(value)
        option = f"--{name.replace('_', '-')}"
        parts.append(option if value is True else f"{option} {shell(text)}")
    if where:
        parts.append(f"--where {shell(where)}")
    return " ".join(parts)
