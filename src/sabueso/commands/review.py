"""Reviews of exceptions, and notes on screens and tables."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, exceptions_by_id
from sabueso.case.reviews import (
    DISPOSITIONS,
    Disposition,
    Recorded,
    record_disposition,
    record_note,
    record_reopening,
    record_sign_off,
)
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console

SIGN_OFF, REOPEN = "sign-off", "reopen"


def review(
    case: Case,
    exceptions: Sequence[str],
    what: str | None = None,
    *,
    reason: str = "",
    initials: str = "",
    error_amount: Decimal | None = None,
    evidence: Sequence[Path] = (),
    set_aside: bool = False,
) -> Answer[list[AuditException]]:
    """Record a disposition of exceptions, sign it off, reopen it, or look at the history.

    Parameters
    ----------
    what : str, optional
        ``cleared``, ``error``, ``referred``, ``sign-off`` or ``reopen``; nothing is recorded
        without one.
    initials : str
        Whose review it is.

    Raises
    ------
    UserError
        If an id is unknown, or what is given does not suffice for what is to be recorded.
    """
    done: list[Recorded] = []
    if what is not None and what in DISPOSITIONS:
        judged = Disposition(what, reason, error_amount, evidence, set_aside)
        done = record_disposition(case, exceptions, initials, judged)
    elif what == SIGN_OFF:
        done = record_sign_off(case, exceptions, initials)
    elif what == REOPEN:
        done = record_reopening(case, exceptions, reason, initials)
    elif what is not None:
        known = ", ".join((*DISPOSITIONS, SIGN_OFF, REOPEN))
        raise UserError(f"there is nothing {what!r} to record; expected {known}")
    elif reason or evidence or error_amount is not None or set_aside:
        raise UserError(
            "say what to record: --cleared, --error, --referred, --sign-off or --reopen"
        )
    found = exceptions_by_id(case, exceptions)
    steps = _steps(found, what)

    def show(console: Console) -> None:
        from sabueso.show.console import next_steps, notes
        from sabueso.show.queue import show_exception

        for item in found:
            show_exception(console, item)
            console.print()
        notes(console, "note", map(_again, (each for each in done if each.again)))
        next_steps(console, steps)

    def data() -> Data:
        again = {each.event.subject for each in done if each.again}
        return Data([item.as_json() | {"recorded_before": item.id in again} for item in found])

    return Answer(found, show, data)


def _again(each: Recorded) -> str:
    return (
        f"{each.event.subject}: the same was recorded before, as event {each.event.seq}, and is not "
        "recorded again"
    )


def _steps(found: Sequence[AuditException], what: str | None) -> list[str]:
    ids = " ".join(item.id for item in found)
    sign_off = f"sabueso review {ids} --sign-off --as MR"
    if what is not None:
        return ["sabueso queue --status open", *([sign_off] if what in DISPOSITIONS else [])]
    steps = [f"sabueso dig {found[0].id}"]
    if any(item.review.status == "open" for item in found):
        steps.append(f'sabueso review {ids} --cleared --reason "…" --as KL')
    elif not all(item.review.signed_off for item in found):
        steps.append(sign_off)
    return steps


def note(
    case: Case,
    subject: str,
    kind: Literal["observation", "conclusion"],
    text: str,
    *,
    initials: str = "",
) -> Answer[Recorded]:
    """Record an observation or a conclusion on a screen of the programme or a table.

    Raises
    ------
    UserError
        If there is no such screen or table, or no initials or text are given.
    """
    done = record_note(case, subject, kind, text, initials)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        event, before = done.event, " before, and not again" if done.again else ""
        said(
            console,
            f"{kind} on {event.subject!r} recorded{before} for {event.initials}, event {event.seq}",
            " next: sabueso paper",
        )

    return Answer(done, show)
