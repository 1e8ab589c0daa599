"""The seal of a case, set and checked."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.sealing import Checked, Sealed, check_seal, seal_case
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console


def seal(case: Case, *, initials: str) -> Answer[Sealed]:
    """Hash every file of a case and every row of its register, and record the seal.

    Raises
    ------
    UserError
        If something is not what the register has of it, or no initials are given.
    """
    done = seal_case(case, initials)

    def show(console: Console) -> None:
        from sabueso.show.seal import show_sealed

        show_sealed(console, done)

    return Answer(done, show, lambda: Data(vars(done)))


def check(case: Case) -> Answer[Checked]:
    """Compare a case with its seal, or without one with what its register has of it."""
    found = check_seal(case)

    def show(console: Console) -> None:
        from sabueso.show.seal import show_checked

        show_checked(console, found)

    fault = None
    if found.faults:
        fault = UserError(f"the case is not what was recorded: {found.faults[0]}")
    return Answer(
        found, show, lambda: Data({"unaltered": not found.faults, **vars(found)}), fault=fault
    )
