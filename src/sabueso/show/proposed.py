"""A proposed programme as terminal text."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from sabueso.case.proposed_programme import Proposed
from sabueso.report import numbers as num
from sabueso.show.console import next_steps, open_table, said, title


def show_proposed(
    console: Console, found: Sequence[Proposed], capacity: int, kept: Sequence[Proposed] | None
) -> None:
    """Print the screens that suit, what each flags, and why."""
    title(console, "a programme for this case", f"for {num.many(capacity, 'exception')} to review")
    if not found:
        console.print(
            Text(
                " no test is proposed for what these tables hold; survey TABLE says which suit, and what each needs"
            )
        )
        next_steps(console, ["sabueso survey"])
        return
    table = open_table(
        [("screen", "wrap"), ("test", "left"), ("flags", "right"), ("because", "wrap")]
    )
    for each in found:
        flags = "–" if each.refused else num.count(each.flagged)
        mark = " (in the plan already)" if each.known else ""
        table.add_row(" " + each.name, each.test, flags, (each.refused or each.because) + mark)
    console.print(table)
    console.print()
    console.print(Text(
        f" {num.many(sum(e.flagged for e in found), 'flag')} in all, of {num.many(sum(not e.refused for e in found), 'screen')}; one subject "
        "that several flag is one exception"
    ))  # fmt: skip
    if kept is None:
        said(console, " their settings: --format json, or case.toml once they are kept")
        next_steps(console, ["sabueso survey --propose --keep"])
        return
    console.print(
        Text(f" {num.many(len(kept), 'screen')} written to case.toml; what was there is as it was")
    )
    next_steps(console, ["sabueso screen", "sabueso queue"])
