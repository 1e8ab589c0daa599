"""The programme, run and recorded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.base.plain import Json
from sabueso.case.folder import Case
from sabueso.case.marked import DRAWN
from sabueso.case.programme import run_programme
from sabueso.case.queue import queue
from sabueso.case.recording import Run
from sabueso.commands.interface import Answer, Data
from sabueso.report.commands import shell

if TYPE_CHECKING:
    from rich.console import Console

GATE_PASSED = 3


def screen(
    case: Case,
    names: Sequence[str] = (),
    *,
    gate: int | None = None,
    initials: str = "",
    progress: Callable[[str, int, int], None] | None = None,
) -> Answer[Run]:
    """Run screens of the programme and record what they find.

    Parameters
    ----------
    names : sequence of str
        Screens by name, or by the beginning of one; all where none is given.
    gate : int, optional
        The exit code is 3 where more exceptions than this are open afterwards; items of samples, which
        nothing flagged, do not count.

    Raises
    ------
    UserError
        If no screen could run; then nothing is recorded.
    """
    if gate is not None and gate < 0:
        raise UserError(f"--gate {gate}: expected a number of exceptions, 0 or more")
    done = run_programme(case, names, initials=initials, progress=progress)
    every = queue(case)
    waiting = sum(item.review.status == "open" and item.kind != DRAWN for item in every)

    def show(console: Console) -> None:
        from sabueso.show.run import show_run

        show_run(console, done, every)

    fault = None
    if done.failed:
        first = done.failed[0]
        fault = UserError(
            f"{len(done.failed)} of {len(done.failed) + len(done.screens)} screens could not run; "
            f"{first.screen!r}: {first.reason}"
        )
    return Answer(
        done,
        show,
        lambda: Data(_content(done, len(every), waiting)),
        code=GATE_PASSED if gate is not None and waiting > gate else 0,
        fault=fault,
        lines=lambda: {
            number: f"sabueso queue --screen {shell(item.screen)}"
            for number, item in enumerate(done.screens, 1)
        },
    )


def _content(done: Run, every: int, waiting: int) -> Json:
    return {
        "run": done.number,
        "at": done.at,
        "screens": [
            {
                "name": item.screen,
                "test": item.test,
                "table": item.table,
                "flagged": item.flagged,
                "new": item.new,
                "tests_made": item.finding.tests_made,
                "exceptions": item.exceptions,
            }
            for item in done.screens
        ],
        "failed": [vars(item) for item in done.failed],
        "reopened": [{"id": name, "reason": reason} for name, reason in done.reopened],
        "exceptions": every,
        "open": waiting,
        "tests_made": sum(item.finding.tests_made for item in done.screens),
    }
