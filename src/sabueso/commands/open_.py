"""A new case."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from sabueso.case.folder import Case
from sabueso.commands.interface import Answer

if TYPE_CHECKING:
    from rich.console import Console


def new_case(folder: Path, *, name: str | None = None, currency: str = "EUR") -> Answer[Case]:
    """Start a case: its folder and its plan.

    Raises
    ------
    UserError
        If there is a case already.
    """
    called = name or folder.resolve().name
    case = Case.create(folder, called, currency)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        said(
            console,
            f"case {called!r} opened: {case.plan_path}",
            f" next: sabueso intake FILES --as payments --case {folder}",
        )

    return Answer(case, show)
