"""A recorded run performed again and compared."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.redoing import Again, redo_run
from sabueso.commands.interface import Answer, Data
from sabueso.report.blocks import Sheet

if TYPE_CHECKING:
    from rich.console import Console


def redo(case: Case, run: int | None = None) -> Answer[Again]:
    """Perform a recorded run again from its inputs and settings, and compare every figure and mark.

    Parameters
    ----------
    run : int, optional
        The run's number; the last one where none is given.

    Raises
    ------
    UserError
        If there is no such run, or what it was made of is gone or was altered.
    """
    done = redo_run(case, run)

    def show(console: Console) -> None:
        from sabueso.show.redo import show_redone

        show_redone(console, done)

    def data() -> Data:
        rows = [[s.name, d.where, d.recorded, d.now] for s in done.screens for d in s.differences]
        return Data(
            done.as_json(), [Sheet("differences", ["screen", "where", "recorded", "now"], rows)]
        )

    fault = None
    if not done.equal:
        many = sum(len(screen.differences) for screen in done.screens)
        fault = UserError(
            f"run {done.run} performed again differs in {many:,} places from what it recorded"
        )
    return Answer(done, show, data, fault=fault)
