"""A file or a table taken out of the case."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from sabueso.case.folder import Case
from sabueso.case.withdrawing import Withdrawal, withdraw_files
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console


def withdraw(
    case: Case, table: str, files: Sequence[str] = (), *, reason: str, initials: str = ""
) -> Answer[Withdrawal]:
    """Take files of a table, or all of it, out of the case; the register keeps what was.

    Parameters
    ----------
    files : sequence of str
        Names of files as they were taken in, or patterns; all where none is given.
    reason : str
        Why; recorded.

    Raises
    ------
    UserError
        If there is no such table or file, or no reason is given.
    """
    done = withdraw_files(case, table, files, reason, initials)

    def show(console: Console) -> None:
        from sabueso.show.withdraw import show_withdrawal

        show_withdrawal(console, done)

    return Answer(done, show, lambda: Data(vars(done) | {"files": list(done.files)}))
