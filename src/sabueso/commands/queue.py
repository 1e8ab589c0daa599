"""The exceptions in their order."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.base.errors import UserError, nearest
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException
from sabueso.case.queue import queue as every_exception
from sabueso.case.recording import last_failures
from sabueso.case.selecting import chosen_by
from sabueso.commands.interface import Answer, Data
from sabueso.show.queue_sheet import queue_sheet

if TYPE_CHECKING:
    from rich.console import Console

ALL = "all"


def queue(
    case: Case,
    *,
    status: str = ALL,
    screen: str | None = None,
    table: str | None = None,
    where: str | None = None,
    top: int = 20,
) -> Answer[list[AuditException]]:
    """The exceptions of the case, the most telling first.

    Parameters
    ----------
    status : str
        ``open``, ``cleared``, ``error``, ``referred`` or ``all``.
    screen, table : str, optional
        Only those that a screen of such a name marked, or those of a table.
    where : str, optional
        Only those that meet a condition over the queue's columns.
    top : int
        How many are printed; files and the value hold all.

    Raises
    ------
    UserError
        If no run is recorded, or there is no such screen or table.
    """
    if top < 1:
        raise UserError(f"--top {top}: expected at least 1")
    every = every_exception(case)
    failures = last_failures(case)
    if not every and not case.register.events("run"):
        raise UserError("no run is recorded yet; run the programme with: sabueso screen")
    chosen = every
    if status != ALL:
        chosen = [item for item in chosen if item.review.status == status]
    if screen:
        names = [section.name for section in case.plan.screens]
        fitting = [n for n in names if screen.lower() in n.lower()]
        if not fitting:
            raise UserError(f"there is no screen {screen!r}{nearest(screen, names)}")
        chosen = [item for item in chosen if any(m.screen in fitting for m in item.marks)]
    if table:
        if table not in case.plan.tables:
            raise UserError(f"there is no table {table!r}{nearest(table, case.plan.tables)}")
        chosen = [item for item in chosen if item.table == table]
    if where:
        chosen = chosen_by(chosen, where)

    def show(console: Console) -> None:
        from sabueso.show.queue import show_queue

        show_queue(console, every, chosen[:top], case.plan.case.currency, failures)

    def data(items: list[AuditException]) -> Data:
        return Data([item.as_json() for item in items], [queue_sheet(items)])

    return Answer(chosen, show, lambda: data(chosen[:top]), lambda: data(chosen))
