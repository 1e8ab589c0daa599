"""Observations and conclusions, on a screen, a table, a view or a matter: all are kept."""

from __future__ import annotations

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Json
from sabueso.case.folder import Case
from sabueso.case.register import Writer
from sabueso.case.reviews import Recorded, check_initials
from sabueso.case.standing import matters, notes

WHOLE = "case"
"""What a note on the whole of the case is on."""


def record_note(
    case: Case, subject: str, kind: str, text: str, initials: str, replaces: int | None = None
) -> Recorded:
    """Record an observation or conclusion. The same words by the same initials twice in a row are
    recorded once.

    Parameters
    ----------
    subject : str
        A screen of the programme, a table, a view, a matter, or ``case`` for the whole; or the beginning
        of one's name.
    replaces : int, optional
        The event of an earlier note that this one stands for.

    Raises
    ------
    UserError
        If there is no such subject or note, or the text is empty.
    """
    who = check_initials(initials)
    with case.locked() as writer:
        return record_note_of(case, writer, (subject, kind, text), who, replaces)


def record_note_of(
    case: Case,
    writer: Writer,
    note: tuple[str, str, str],
    who: str,
    replaces: int | None = None,
) -> Recorded:
    """The same within a transaction. ``note`` is its subject, kind and text.

    Raises
    ------
    UserError
        As :func:`record_note`.
    """
    given, kind, text = note
    if not text.strip():
        raise UserError(f"the {kind} is empty")
    subject = _subject(case, given)
    body: Json = {"kind": kind, "text": text.strip()}
    known = notes(case.register).get(subject, {}).get(kind, [])
    if replaces is not None:
        if replaces not in [event.seq for event in known]:
            have = ", ".join(str(event.seq) for event in known) or "none"
            raise UserError(
                f"--replaces {replaces}: no {kind} on {subject!r} was recorded as that event; there is {have}"
            )
        body["replaces"] = replaces
    elif known and (known[-1].initials, known[-1].body["text"]) == (who, body["text"]):
        return Recorded(known[-1], again=True)
    return Recorded(writer.append("note", subject, who, body))


def _subject(case: Case, given: str) -> str:
    """What a note is on, by its name or the beginning of it."""
    plan = case.plan
    names = [*(s.name for s in plan.screens), *plan.tables, *(v.name for v in plan.views)]
    names += [*matters(case.register), WHOLE]
    if given in names:
        return given
    starting = [name for name in names if name.lower().startswith(given.lower())]
    if len(starting) != 1:
        raise UserError(
            f"there is no screen, table, view or matter {given!r}{nearest(given, names)}"
        )
    return starting[0]
