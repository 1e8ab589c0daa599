"""The demo's summary."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from sabueso.report import numbers as num
from sabueso.report.commands import shell
from sabueso.show.console import next_steps, open_table, title
from sabueso.show.run import show_run

if TYPE_CHECKING:
    from sabueso.case.taken import TakeReport
    from sabueso.demo.build import Demo


def _totals(report: TakeReport) -> str:
    lines = [t for f in report.files for t in f.totals_lines]
    if not lines:
        return "–"
    return f"{sum(t.agrees for t in lines)} of {len(lines)}"


def show_demo(console: Console, demo: Demo, folder: Path) -> None:
    """Print what was taken in, what the programme found, and what to try next."""
    title(console, f"{demo.case.plan.case.name}: the sample case, in {folder}")
    table = open_table(
        [
            ("table", "left"), ("files", "right"), ("lines read", "right"), ("accepted", "right"),
            ("quarantined", "right"), ("sum of amounts", "right"), ("totals lines that agree", "left"),
        ]
    )  # fmt: skip
    for report in demo.taken:
        table.add_row(
            " " + report.table, num.count(len(report.files)), num.count(report.total("read")),
            num.count(report.total("accepted")), num.count(report.total("quarantined")),
            num.amount(report.amount_sum), _totals(report),
        )  # fmt: skip
    console.print(table)
    console.print()
    show_run(console, demo.run, demo.queue, steps=())
    for path in demo.papers:
        console.print(Text(f" written {path.relative_to(demo.case.folder.parent)}"))
    next_steps(console, [f"cd {shell(str(folder))}", "sabueso queue"])
