"""A run of the programme as terminal text."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from sabueso.case.queue import AuditException
from sabueso.case.runs import Run
from sabueso.show import numbers as num
from sabueso.show.console import next_steps, open_table, title
from sabueso.show.palette import AMBER
from sabueso.show.queue import counts_line


def show_run(
    console: Console,
    done: Run,
    every: Sequence[AuditException],
    steps: Sequence[str] = ("sabueso queue", "sabueso paper"),
) -> None:
    """Print what each screen found, and where the queue stands after it."""
    title(console, f"run {done.number}", done.at.replace("T", " ").replace("+00:00", " UTC"))
    table = open_table(
        [
            ("screen", "flex"), ("test", "left"), ("used", "right"), ("tested", "right"),
            ("flagged", "right"), ("new", "right"), ("cautions", "wrap"),
        ]
    )  # fmt: skip
    for item in done.screens:
        f = item.finding
        cautions = ", ".join(dict.fromkeys(c.code for c in f.cautions))
        table.add_row(
            " " + item.screen, item.test, num.count(f.population.used), num.count(f.tests_made),
            num.count(len(item.exceptions)), num.count(item.new), Text(cautions, style=AMBER),
        )  # fmt: skip
    console.print(table)
    console.print()
    tests = sum(item.finding.tests_made for item in done.screens)
    marks = sum(len(item.exceptions) for item in done.screens)
    console.print(Text(f" {num.count(tests)} hypotheses tested, {num.many(marks, 'mark')}"))
    console.print(Text(f" {counts_line(every)}"))
    next_steps(console, steps)
