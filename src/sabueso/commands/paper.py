"""The working papers, written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.commands.interface import Answer
from sabueso.show.paper import write_paper

if TYPE_CHECKING:
    from rich.console import Console


def paper(
    case: Case,
    screen: str | None = None,
    *,
    matter: str | None = None,
    exception: str | None = None,
    data: str = "csv",
) -> Answer[list[Path]]:
    """Write the working papers into the case; the value is their paths.

    Parameters
    ----------
    screen : str, optional
        Only the part of this screen, as a page of its own.
    matter, exception : str, optional
        Only the exceptions of this matter, or this one, with marks, causes, rows and reviews.
    data : {"csv", "json", "parquet"}
        The form of the data files of the whole papers.

    Raises
    ------
    UserError
        If no run is recorded, or the register was altered.
    """
    if sum(given is not None for given in (screen, matter, exception)) > 1:
        raise UserError("one of --screen, --matter and --exception at a time")
    if matter is not None or exception is not None:
        from sabueso.show.exception_paper import write_exception, write_matter

        one = (
            write_matter(case, matter)
            if matter is not None
            else write_exception(case, str(exception))
        )
        written = [one]
    else:
        written = write_paper(case, screen, data)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        said(console, *(f"written {path}" for path in written))

    return Answer(written, show)
