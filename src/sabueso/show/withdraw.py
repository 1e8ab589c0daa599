"""What was taken out of a case, as terminal text."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from sabueso.case.withdrawing import Withdrawal
from sabueso.report import numbers as num
from sabueso.show.console import next_steps, title

LISTED = 12


def show_withdrawal(console: Console, done: Withdrawal) -> None:
    """Print a withdrawal."""
    title(console, f"{done.table} · {num.many(len(done.files), 'file')} withdrawn")
    for name in done.files[:LISTED]:
        console.print(Text(f" {name}"))
    if len(done.files) > LISTED:
        console.print(Text(f" and {len(done.files) - LISTED:,} more"))
    left = num.many(done.left, "file")
    console.print(
        Text(
            f" {done.rows:,} rows are no part of table {done.table} any more, which has {left} now; the register "
            "keeps what was recorded of them, runs and reviews included"
        )
    )
    console.print(Text(f" reason: {done.reason}"))
    if done.kept:
        console.print(Text(f" the plan still names the table: {done.kept}"))
    next_steps(console, ["sabueso screen", "sabueso survey"])
