"""Reviews: dispositions, sign-offs and notes, each an event that supersedes and never edits."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from sabueso.case.exceptions import parse_id
from sabueso.case.folder import Case
from sabueso.case.register import Event, Register
from sabueso.errors import UserError, nearest
from sabueso.intake.hashing import file_hash

DISPOSITIONS = ("cleared", "error", "referred")
REVIEW_KINDS = ("disposition", "sign-off", "reopen")
_INITIALS = re.compile(r"[A-Za-zÀ-ÿ]{1,6}")


@dataclass
class Review:
    """Where an exception stands now, and every event that brought it there."""

    status: str = "open"
    reason: str = ""
    initials: str = ""
    at: str = ""
    error_amount: Decimal | None = None
    set_aside: bool = False
    evidence: list[dict[str, str]] = field(default_factory=list)
    signed_off: str = ""
    history: list[Event] = field(default_factory=list)

    def apply(self, event: Event) -> None:
        body = event.body
        self.history.append(event)
        if event.kind == "sign-off":
            self.signed_off = event.initials
            return
        self.status = body.get("disposition", "open")
        self.reason = body["reason"]
        self.initials, self.at, self.signed_off = event.initials, event.at, ""
        amount = body.get("error_amount")
        self.error_amount = None if amount is None else Decimal(amount)
        self.set_aside = bool(body.get("set_aside"))
        self.evidence = [*self.evidence, *body.get("evidence", [])]


def reviews(register: Register) -> dict[str, Review]:
    """The review of every exception that has one."""
    found: dict[str, Review] = {}
    for event in register.events(*REVIEW_KINDS):
        found.setdefault(event.subject, Review()).apply(event)
    return found


def set_aside_selectors(register: Register, table: str) -> tuple[str, ...]:
    """Conditions of the rows that reviewers took out of later statistics of a table."""
    aside = [name for name, review in reviews(register).items() if review.set_aside]
    if not aside:
        return ()
    found = register.read(
        "SELECT id, selector FROM exceptions JOIN marks ON marks.exception = exceptions.id "
        "WHERE id IN (SELECT value FROM json_each(:ids)) AND table_name = :table ORDER BY id, run",
        {"ids": json.dumps(aside), "table": table},
    )
    return tuple({row["id"]: row["selector"] for row in found}.values())


def check_initials(initials: str) -> str:
    """Initials as recorded: one to six letters, upper case.

    Raises
    ------
    UserError
        If there are none, or they are something else.
    """
    if not initials:
        raise UserError(
            "whose review is it? give initials with --as KL, or set SABUESO_REVIEWER, or "
            "prepared_by under [case] in case.toml"
        )
    if not _INITIALS.fullmatch(initials):
        raise UserError(f"initials {initials!r}: expected one to six letters")
    return initials.upper()


def known_ids(case: Case, given: Sequence[str]) -> list[str]:
    """Ids as typed, checked against the exceptions there have been.

    Raises
    ------
    UserError
        If one is unknown; the sentence names the nearest.
    """
    every = [row["id"] for row in case.register.read("SELECT id FROM exceptions")]
    known = set(every)
    found = []
    for text in given:
        identity = parse_id(text)
        if identity not in known:
            hint = (
                nearest(identity, every) if every else "; run the programme first: sabueso screen"
            )
            raise UserError(f"there is no exception {identity}{hint}")
        found.append(identity)
    return found


def record_disposition(
    case: Case,
    given: Sequence[str],
    disposition: str,
    reason: str,
    initials: str,
    *,
    error_amount: Decimal | None = None,
    evidence: Sequence[Path] = (),
    set_aside: bool = False,
) -> list[Event]:
    """Record the same disposition for some exceptions, in one transaction.

    Evidence files are copied into the case under their SHA-256 before anything is recorded.

    Raises
    ------
    UserError
        If an id is unknown, the reason is empty, initials are missing, an evidence file does not
        exist, or an amount of error is given without an error.
    """
    ids = known_ids(case, given)
    who = check_initials(initials)
    if not reason.strip():
        raise UserError("a disposition needs its reason: --reason TEXT")
    if disposition not in DISPOSITIONS:
        raise UserError(
            f"there is no disposition {disposition!r}{nearest(disposition, DISPOSITIONS)}"
        )
    if error_amount is not None and disposition != "error":
        raise UserError("--amount is the amount of an error; it goes with --error alone")
    for path in evidence:
        if not path.is_file():
            raise UserError(f"{path}: there is no such evidence file")
    kept = [_keep_evidence(case, path) for path in evidence]
    body: dict[str, Any] = {"disposition": disposition, "reason": reason.strip()}
    if error_amount is not None:
        body["error_amount"] = format(error_amount, "f")
    if kept:
        body["evidence"] = kept
    if set_aside:
        body["set_aside"] = True
    with case.register.writing() as writer:
        return [writer.append("disposition", identity, who, body) for identity in ids]


def record_sign_off(case: Case, given: Sequence[str], initials: str) -> list[Event]:
    """Sign off dispositions by initials other than those that made them.

    Raises
    ------
    UserError
        If an exception is open, signed off already, or disposed of by the same initials.
    """
    ids = known_ids(case, given)
    who = check_initials(initials)
    now = reviews(case.register)
    for identity in ids:
        review = now.get(identity, Review())
        if review.status == "open":
            raise UserError(f"{identity} is open: there is no disposition to sign off")
        if review.signed_off:
            raise UserError(f"{identity} is signed off already by {review.signed_off}")
        if review.initials == who:
            raise UserError(
                f"{identity} was disposed of by {who}: the sign-off needs other initials"
            )
    with case.register.writing() as writer:
        return [
            writer.append("sign-off", identity, who, {"of": now[identity].history[-1].seq})
            for identity in ids
        ]


def record_reopening(case: Case, given: Sequence[str], reason: str, initials: str) -> list[Event]:
    """Reopen exceptions; what was recorded stays in their history.

    Raises
    ------
    UserError
        If one is open already, or the reason is empty.
    """
    ids = known_ids(case, given)
    who = check_initials(initials)
    if not reason.strip():
        raise UserError("reopening needs its reason: --reason TEXT")
    now = reviews(case.register)
    for identity in ids:
        if now.get(identity, Review()).status == "open":
            raise UserError(f"{identity} is open already")
    with case.register.writing() as writer:
        return [
            writer.append("reopen", identity, who, {"reason": reason.strip()}) for identity in ids
        ]


def record_note(case: Case, screen: str, kind: str, text: str, initials: str) -> Event:
    """Record an observation or conclusion on a screen of the programme, or on a table.

    Raises
    ------
    UserError
        If there is no such screen or table, or the text is empty.
    """
    who = check_initials(initials)
    names = [section.name for section in case.plan.screens] + list(case.plan.tables)
    if screen not in names:
        starting = [name for name in names if name.lower().startswith(screen.lower())]
        if len(starting) != 1:
            raise UserError(f"there is no screen or table {screen!r}{nearest(screen, names)}")
        screen = starting[0]
    if not text.strip():
        raise UserError(f"the {kind} is empty")
    with case.register.writing() as writer:
        return writer.append("note", screen, who, {"kind": kind, "text": text.strip()})


def notes(register: Register) -> dict[str, dict[str, Event]]:
    """The last observation and the last conclusion on each screen or table."""
    found: dict[str, dict[str, Event]] = {}
    for event in register.events("note"):
        found.setdefault(event.subject, {})[event.body["kind"]] = event
    return found


def _keep_evidence(case: Case, path: Path) -> dict[str, str]:
    digest = file_hash(path)
    folder = case.folder / "evidence"
    folder.mkdir(exist_ok=True)
    target = folder / f"{digest}{path.suffix.lower()}"
    if not target.exists():
        temporary = folder / f".{digest}.part"
        shutil.copyfile(path, temporary)
        temporary.replace(target)
    return {"file": path.name, "sha256": digest}
