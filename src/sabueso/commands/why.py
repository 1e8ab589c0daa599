"""What drives an exception."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.case.behind import Why
from sabueso.case.folder import Case
from sabueso.case.why import why as look_behind
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console

FIGURES = (".png", ".svg")


def why(case: Case, exception: str, columns: Sequence[str] = ()) -> Answer[Why]:
    """Look behind an exception: values, rows, peers.

    Parameters
    ----------
    columns : sequence of str
        Columns to look at; by default all texts but those that name a row or the subject.

    Raises
    ------
    UserError
        If there is no such exception or column.
    """
    found = look_behind(case, exception, columns)

    def show(console: Console) -> None:
        from sabueso.show.why import show_why

        show_why(console, found)

    def data() -> Data:
        from sabueso.show.why import why_sheet

        return Data(found.as_json(), [why_sheet(found)])

    def drawing(path: Path) -> bytes:
        from sabueso.report.canvas import picture
        from sabueso.show.why_figure import why_drawing

        return picture(why_drawing(found), path)

    return Answer(found, show, data, files=dict.fromkeys(FIGURES, drawing))
