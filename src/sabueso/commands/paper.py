"""The working papers, written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.case.folder import Case
from sabueso.commands.interface import Answer
from sabueso.show.paper import write_paper

if TYPE_CHECKING:
    from rich.console import Console


def paper(case: Case) -> Answer[list[Path]]:
    """Write the working papers into the case; the value is their paths.

    Raises
    ------
    UserError
        If no run is recorded, or the register was altered.
    """
    written = write_paper(case)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        said(console, *(f"written {path}" for path in written))

    return Answer(written, show)
