"""Samples as terminal text: drawn, listed, evaluated."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from sabueso.case.sampling import SampleState
from sabueso.report import numbers as num
from sabueso.report.commands import shell
from sabueso.report.palette import STONE
from sabueso.screens import find_screen
from sabueso.show.account import account_lines
from sabueso.show.beside import flagged_text
from sabueso.show.blocks import show_blocks
from sabueso.show.console import next_steps, notes, open_table, title

CHANGED = (
    "the table is made of other files now than when the sample was drawn: what follows is of the table as it "
    "was then"
)


def show_drawn(console: Console, state: SampleState) -> None:
    """Print what was drawn, and what it was drawn of."""
    finding = state.recorded.finding
    view = find_screen(finding.test).view(finding)
    account = finding.population
    what = " · ".join([finding.source, *([finding.on] if finding.on else []), view.headline()])
    title(console, what, num.many(account.rows, "row"))
    show_blocks(console, view.blocks())
    console.print()
    _cautions(console, state)
    for line in account_lines(account, finding.scale, finding.currency, finding.on):
        console.print(Text(line))
    console.print(Text(f" {flagged_text(view)}"))
    _provenance(console, state)
    name = shell(state.recorded.screen)
    next_steps(
        console,
        [f"sabueso queue --screen {name}", f"sabueso sample --evaluate {name}"],
    )


def show_evaluated(console: Console, state: SampleState) -> None:
    """Print what the reviews of a sample say."""
    finding = state.recorded.finding
    what = f"{state.recorded.screen} · {finding.table}"
    title(console, what, f"{state.evaluated.items:,} of {num.many(finding.looked_at, 'row')}")
    show_blocks(console, state.evaluated.blocks)
    console.print()
    _cautions(console, state)
    for line in account_lines(finding.population, finding.scale, finding.currency, finding.on):
        console.print(Text(line))
    _provenance(console, state)
    name = shell(state.recorded.screen)
    steps = [f"sabueso queue --screen {name} --status open"]
    if state.evaluated.judged == state.evaluated.items:
        steps = [f"sabueso note {name} --conclusion TEXT", "sabueso paper"]
    next_steps(console, steps)


def show_samples(console: Console, every: Sequence[SampleState]) -> None:
    """Print every sample with what follows from it so far."""
    title(console, "samples", f"{len(every):,} drawn")
    table = open_table(
        [
            ("sample", "left"), ("rows", "right"), ("drawn", "right"), ("judged", "right"),
            ("what follows", "wrap"),
        ]
    )  # fmt: skip
    for state in every:
        found = state.evaluated
        table.add_row(
            f" {state.recorded.screen}", num.count(state.recorded.finding.looked_at),
            num.count(found.items), num.count(found.judged),
            found.conclusion or f"no conclusion: {found.lacking}",
        )  # fmt: skip
    console.print(table)
    first = shell(every[0].recorded.screen)
    next_steps(console, [f"sabueso sample --evaluate {first}", f"sabueso queue --screen {first}"])


def _cautions(console: Console, state: SampleState) -> None:
    told = [f"{c.code}: {c.text}" for c in state.recorded.finding.cautions]
    if state.changed:
        told.append(f"population_changed: {CHANGED}")
    notes(console, "caution", told)
    if told:
        console.print()


def _provenance(console: Console, state: SampleState) -> None:
    """What it takes to draw the same again."""
    seed = state.recorded.finding.used.get("seed")
    console.print(
        Text(
            f" drawn in run {state.recorded.run}, seed {seed}, of files whose hashes have the SHA-256 "
            f"{state.population[:16]}…",
            style=STONE,
        )
    )
