"""The working papers, written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.case.folder import Case
from sabueso.commands.interface import Answer
from sabueso.show.paper import write_paper

if TYPE_CHECKING:
    from rich.console import Console


def paper(case: Case, screen: str | None = None) -> Answer[list[Path]]:
    """Write the working papers into the case; the value is their paths.

    Parameters
    ----------
    screen : str, optional
        Only the part of this screen, as a page of its own.

    Raises
    ------
    UserError
        If no run is recorded, or the register was altered.
    """
    written = write_paper(case, screen)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        said(console, *(f"written {path}" for path in written))

    return Answer(written, show)
