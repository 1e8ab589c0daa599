"""The files of a table read anew, by the plan as it is now."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from sabueso.case.again import take_again
from sabueso.case.folder import Case
from sabueso.case.taken import TakeReport
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console

Progress = Callable[[str, int, int], None]


def intake_again(
    case: Case,
    table: str,
    paths: Sequence[str] = (),
    *,
    yes: bool = False,
    confirm: Callable[[TakeReport], bool] | None = None,
    initials: str = "",
    progress: Progress | None = None,
) -> Answer[TakeReport]:
    """Read the files of a table once more, by the roles, rules, columns and ``read`` of the plan.

    Parameters
    ----------
    paths : sequence of str
        Where the files are, if not where the plan's ``sources`` say.
    yes : bool
        Keep the new reading; without it, and without ``confirm``, what would change is told and
        nothing is kept.
    confirm : callable, optional
        Asked with what would change.

    Raises
    ------
    UserError
        If a file is not found, is not what was taken in, or cannot be read.
    """

    def consent(report: TakeReport) -> bool:
        return yes or (confirm is not None and confirm(report))

    def step(name: str, rows: int, size: int) -> None:
        if progress is not None:
            progress(f"{name}: {rows:,} rows", rows, max(rows, 1))

    report = take_again(case, table, paths, consent=consent, initials=initials, progress=step)

    def show(console: Console) -> None:
        from sabueso.show.intake import show_again

        show_again(console, report)

    return Answer(report, show, lambda: Data(report.as_json()))
