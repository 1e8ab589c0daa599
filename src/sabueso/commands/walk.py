"""The queue gone through one exception after another, at a terminal."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, exceptions_by_id, queue
from sabueso.case.selecting import chosen_by
from sabueso.case.walking import Walk
from sabueso.commands.interface import Answer

if TYPE_CHECKING:
    from rich.console import Console


def walk(
    case: Case, *, where: str | None = None, initials: str = ""
) -> Answer[list[AuditException]]:
    """Go through the queue, or what a condition chooses of it, and record judgements by single keys.

    Raises
    ------
    UserError
        If this is no terminal, there is nothing to go through, or no initials are given.
    """
    items = queue(case)
    if where is not None:
        items = chosen_by(items, where)
    if not items:
        raise UserError("no exception is in the queue, or meets --where; run sabueso screen first")
    way = Walk.begin(case, items, initials)
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UserError(
            "--walk needs a terminal; elsewhere review by id, with --where, or through --sheet and --from"
        )
    from prompt_toolkit import PromptSession

    from sabueso.show.console import make_console
    from sabueso.show.walk import show_walked, walk_through

    walk_through(way, make_console(), PromptSession())
    seen = list(dict.fromkeys(done.event.subject for done in way.recorded))
    found = exceptions_by_id(case, seen) if seen else []

    def show(console: Console) -> None:
        from sabueso.show.console import next_steps

        show_walked(console, way)
        next_steps(console, ["sabueso review --walk", "sabueso queue --status open"])

    return Answer(found, show)
