"""Reviews of exceptions, and notes on screens, tables, views and matters."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.noting import record_note
from sabueso.case.queue import AuditException, exceptions_by_id
from sabueso.case.queue import queue as every_exception
from sabueso.case.reviews import (
    DISPOSITIONS,
    Disposition,
    Recorded,
    record_assignment,
    record_disposition,
    record_matter,
    record_reopening,
    record_sign_off,
)
from sabueso.case.selecting import chosen_by
from sabueso.commands.interface import Answer, Data

if TYPE_CHECKING:
    from rich.console import Console

SIGN_OFF, REOPEN = "sign-off", "reopen"
MOST_WHOLE = 4
"""Exceptions up to which each is shown with all its history; of more, a line each."""


@dataclass(frozen=True)
class ToRecord:
    """What is to be recorded of exceptions.

    ``what`` is ``cleared``, ``error``, ``referred``, ``sign-off`` or ``reopen``; ``assign`` are the
    initials of whoever is to review them, ``matter`` the name of what they belong to ("" for none any
    more). All of it may be missing: then nothing is recorded.
    """

    what: str | None = None
    reason: str = ""
    error_amount: Decimal | None = None
    evidence: Sequence[Path] = ()
    set_aside: bool = False
    assign: str | None = None
    matter: str | None = None

    @property
    def nothing(self) -> bool:
        return self.what is None and self.assign is None and self.matter is None


def review(
    case: Case,
    exceptions: Sequence[str],
    to_record: ToRecord | None = None,
    *,
    where: str | None = None,
    initials: str = "",
) -> Answer[list[AuditException]]:
    """Record a disposition of exceptions, sign it off, reopen it, assign them, or look at the history.

    Parameters
    ----------
    exceptions : sequence of str
        Ids; none where a condition chooses them.
    where : str, optional
        A condition over the queue, such as ``status = 'open' and amount < 100``.
    initials : str
        Whose review it is.

    Raises
    ------
    UserError
        If an id is unknown, nothing meets the condition, or what is given does not suffice for what is
        to be recorded.
    """
    asked = to_record or ToRecord()
    ids = _chosen(case, exceptions, where)
    done: list[Recorded] = []
    if asked.what is not None and asked.what in DISPOSITIONS:
        judged = Disposition(
            asked.what,
            asked.reason,
            asked.error_amount,
            asked.evidence,
            asked.set_aside,
            where or "",
        )
        done = record_disposition(case, ids, initials, judged)
    elif asked.what == SIGN_OFF:
        done = record_sign_off(case, ids, initials)
    elif asked.what == REOPEN:
        done = record_reopening(case, ids, asked.reason, initials)
    elif asked.what is not None:
        known = ", ".join((*DISPOSITIONS, SIGN_OFF, REOPEN))
        raise UserError(f"there is nothing {asked.what!r} to record; expected {known}")
    elif asked.reason or asked.evidence or asked.error_amount is not None or asked.set_aside:
        raise UserError(
            "say what to record: --cleared, --error, --referred, --sign-off or --reopen"
        )
    if asked.assign is not None:
        done += record_assignment(case, ids, asked.assign, initials)
    if asked.matter is not None:
        done += record_matter(case, ids, asked.matter, initials)
    found = exceptions_by_id(case, ids)
    steps = _steps(found, asked)

    def show(console: Console) -> None:
        from sabueso.show.console import next_steps, notes
        from sabueso.show.queue import show_exception, show_listed

        if len(found) > MOST_WHOLE:
            show_listed(console, found, recorded=not asked.nothing)
        else:
            for item in found:
                show_exception(console, item)
                console.print()
        notes(console, "note", map(_again, (each for each in done if each.again)))
        next_steps(console, steps)

    def data() -> Data:
        again = {each.event.subject for each in done if each.again}
        return Data([item.as_json() | {"recorded_before": item.id in again} for item in found])

    return Answer(found, show, data)


def _chosen(case: Case, exceptions: Sequence[str], where: str | None) -> list[str]:
    """The ids that are named, or those that meet a condition."""
    if where is None:
        if not exceptions:
            raise UserError("name exceptions by their ids, or choose them with --where")
        return list(exceptions)
    if exceptions:
        raise UserError("exceptions are named by their ids or chosen with --where, not both")
    found = [item.id for item in chosen_by(every_exception(case), where)]
    if not found:
        raise UserError(f"no exception of the queue meets --where {where!r}")
    return found


def _again(each: Recorded) -> str:
    return (
        f"{each.event.subject}: the same was recorded before, as event {each.event.seq}, and is not "
        "recorded again"
    )


def _steps(found: Sequence[AuditException], asked: ToRecord) -> list[str]:
    ids = " ".join(item.id for item in found)
    if len(found) > MOST_WHOLE:
        return ["sabueso queue --status open", "sabueso paper"]
    sign_off = f"sabueso review {ids} --sign-off --as MR"
    if not asked.nothing:
        return ["sabueso queue --status open", *([sign_off] if asked.what in DISPOSITIONS else [])]
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
    replaces: int | None = None,
) -> Answer[Recorded]:
    """Record an observation or a conclusion on a screen of the programme, a table, a view or a matter.

    Raises
    ------
    UserError
        If there is no such subject, or no initials or text are given.
    """
    done = record_note(case, subject, kind, text, initials, replaces)

    def show(console: Console) -> None:
        from sabueso.show.console import said

        event, before = done.event, " before, and not again" if done.again else ""
        stands = f", in the place of event {replaces}" if replaces is not None else ""
        said(
            console,
            f"{kind} on {event.subject!r} recorded{before} for {event.initials}, event {event.seq}{stands}",
            " next: sabueso paper",
        )

    return Answer(done, show)
