"""The programme that suits a case, proposed, and kept where that is asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.proposed_programme import (
    CAPACITY,
    Proposed,
    keep_programme,
    proposed_programme,
)
from sabueso.commands.interface import Answer, Data
from sabueso.report.blocks import Sheet

if TYPE_CHECKING:
    from rich.console import Console


def propose(
    case: Case,
    table: str | None = None,
    *,
    capacity: int | None = None,
    keep: bool = False,
    progress: Callable[[str, int, int], None] | None = None,
) -> Answer[list[Proposed]]:
    """Screens that suit the tables of a case, with settings taken from their rows.

    Parameters
    ----------
    table : str, optional
        One table; all of them without one.
    capacity : int, optional
        Exceptions that can be reviewed, shared over the screens.
    keep : bool
        Write the screens to the plan; those it has stay as they are.

    Raises
    ------
    UserError
        If there is no such table, or none has rows.
    """
    wanted = CAPACITY if capacity is None else capacity
    if wanted < 1:
        raise UserError(f"--capacity {wanted}: expected at least 1")
    names = [name for name in case.plan.tables if case.sources(name)]
    if table is not None:
        names = [case.table(table, links=0).name]
    if not names:
        raise UserError(
            "the case has no table yet; take files in with: sabueso intake PATH --as TABLE"
        )
    found = proposed_programme(case, names, wanted, progress)
    kept = keep_programme(case, found) if keep else None

    def show(console: Console) -> None:
        from sabueso.show.proposed import show_proposed

        show_proposed(console, found, wanted, kept)

    def data() -> Data:
        head = ["name", "test", "table", "flagged", "because", "known", "refused"]
        sheet = Sheet("proposed", head, [[vars(p)[n] for n in head] for p in found])
        return Data({"capacity": wanted, "screens": [p.as_json() for p in found],
                     "kept": [p.name for p in kept or ()]}, [sheet])  # fmt: skip

    return Answer(found, show, data)
