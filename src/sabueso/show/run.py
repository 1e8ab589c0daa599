"""A run of the programme as terminal text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from rich.console import Console
from rich.text import Text

from sabueso.case.queue import AuditException
from sabueso.case.recording import Run, ScreenRun
from sabueso.report import numbers as num
from sabueso.report.commands import shell
from sabueso.report.palette import AMBER
from sabueso.show.console import next_steps, notes, open_table, title
from sabueso.show.findings import command_of
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
            ("screen", "wrap"), ("test", "left"), ("used", "right"), ("tested", "right"),
            ("flagged", "right"), ("new", "right"), ("cautions", "wrap"),
        ]
    )  # fmt: skip
    for item in done.screens:
        f = item.finding
        cautions = ", ".join(dict.fromkeys(c.code for c in f.cautions))
        table.add_row(
            " " + item.screen, item.test, num.count(f.population.used), num.count(f.tests_made),
            num.count(item.flagged), num.count(item.new), Text(cautions, style=AMBER),
        )  # fmt: skip
    console.print(table)
    console.print()
    tests = sum(item.finding.tests_made for item in done.screens)
    marks = sum(len(item.exceptions) for item in done.screens)
    console.print(Text(f" {num.count(tests)} hypotheses tested, {num.many(marks, 'mark')}"))
    console.print(Text(f" {counts_line(every)}"))
    notes(
        console,
        "not run",
        (f"{item.screen}: {item.reason}" for item in done.failed),
    )
    notes(console, "reopened", (f"{name}: {reason}" for name, reason in done.reopened))
    capped = [item for item in done.screens if item.flags_file]
    notes(console, "note", (_capped(done, item) for item in capped))
    aimed = next((item for item in capped if "aim" in item.finding.settings), None)
    if aimed is not None and steps:
        steps = [_aimed(aimed), *steps]
    next_steps(console, steps)


def _capped(done: Run, item: ScreenRun) -> str:
    """What is said of a screen that flagged more than can be reviewed."""
    total, made = item.finding.flags.total(), len(item.exceptions)
    worth = "" if total is None else f", amount {num.amount(total, item.finding.scale)}"
    aim = (
        f"; --aim {made} solves for the limit that flags no more"
        if "aim" in item.finding.settings
        else ""
    )
    return (
        f"{item.screen}: {num.count(item.flagged)} beyond the limits{worth}; the {num.count(made)} "
        f"strongest became exceptions (capacity in case.toml), all of them are in "
        f"runs/{done.number:04d}/{item.flags_file}{aim}"
    )


def _aimed(item: ScreenRun) -> str:
    finding = item.finding
    # A limit, or a share, is what an aim solves for: both cannot be given.
    given = {name: v for name, v in finding.settings.items() if name not in ("limit", "share")}
    settings = {**given, "aim": len(item.exceptions)}
    where = settings.pop("where", None)
    kept = f" --keep {shell(item.screen)}"
    return command_of(replace(finding, settings=settings), where) + kept
