"""A run performed again, as terminal text."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from sabueso.case.redoing import Again
from sabueso.report import numbers as num
from sabueso.report.palette import AMBER, SEA
from sabueso.show.console import next_steps, notes, open_table, title

LISTED = 12


def show_redone(console: Console, done: Again) -> None:
    """Print what was compared, and the first places that differ."""
    title(
        console, f"run {done.run} performed again", f"recorded {done.at[:16].replace('T', ' ')} UTC"
    )
    table = open_table([("screen", "flex"), ("values", "right"), ("marks", "right"), ("", "left")])
    for screen in done.screens:
        same = not screen.differences
        said = "equal" if same else f"▲ {num.many(len(screen.differences), 'difference')}"
        table.add_row(
            f" {screen.name}", num.count(screen.figures), num.count(screen.marks),
            Text(said, style=SEA if same else AMBER),
        )  # fmt: skip
    console.print(table)
    console.print()
    every = [(s.name, d) for s in done.screens for d in s.differences]
    notes(
        console,
        "differs",
        (f"{name}: {d.where} was {d.recorded!r}, is {d.now!r}" for name, d in every[:LISTED]),
    )
    if len(every) > LISTED:
        console.print(Text(f" and {len(every) - LISTED:,} more; all with --format json"))
    notes(console, "not run", (f"{name}: it could not run then either" for name in done.not_run))
    figures = sum(screen.figures for screen in done.screens)
    marks = sum(screen.marks for screen in done.screens)
    then, now = done.program
    said = (
        f"by the same program, {now}" if then == now else f"recorded by {then}, performed by {now}"
    )
    console.print(
        Text(f" {figures:,} values and {num.many(marks, 'mark')} compared, {said}"), soft_wrap=True
    )
    next_steps(
        console,
        ["sabueso seal --as KL", "sabueso paper"] if done.equal else ["sabueso seal --check"],
    )
