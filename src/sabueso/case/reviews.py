"""Reviews recorded: dispositions, sign-offs and notes, each an event that supersedes and never edits."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path

from sabueso.base.errors import UserError, nearest
from sabueso.base.files import flush_file, sync_folder
from sabueso.base.hashing import file_hash
from sabueso.base.plain import Json
from sabueso.case.exceptions import parse_id
from sabueso.case.folder import Case
from sabueso.case.register import Event, Writer
from sabueso.case.standing import Review, reviews

DISPOSITIONS = ("cleared", "error", "referred")
_INITIALS = re.compile(r"[A-Za-zÀ-ÿ]{1,6}")


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
    """Ids as typed, checked against the exceptions there have been, each once.

    Raises
    ------
    UserError
        If one is unknown; the sentence names the nearest.
    """
    wanted = list(dict.fromkeys(map(parse_id, given)))
    query = "SELECT id FROM exceptions WHERE id IN (SELECT value FROM json_each(:ids))"
    known = {row["id"] for row in case.register.read(query, {"ids": json.dumps(wanted)})}
    for identity in wanted:
        if identity not in known:
            raise UserError(f"there is no exception {identity}{_nearest_id(case, identity)}")
    return wanted


def _nearest_id(case: Case, identity: str) -> str:
    """The id most like one that there is not, among those that begin like it."""
    query = "SELECT id FROM exceptions WHERE substr(id, 1, length(:p)) = :p LIMIT 2000"
    prefix = identity[: identity.rindex("-") + 1]
    for beginning in (prefix, ""):
        found = [row["id"] for row in case.register.read(query, {"p": beginning})]
        if found:
            return nearest(identity, found)
    return "; run the programme first: sabueso screen"


@dataclass(frozen=True)
class Recorded:
    """What a command recorded of one exception: an event, or the same one from before, which is
    not recorded twice."""

    event: Event
    again: bool = False


@dataclass(frozen=True)
class Disposition:
    """What is judged of exceptions: one of :data:`DISPOSITIONS`, and why; of an error its amount; files that
    show it; and whether the subject is left out of later statistics."""

    what: str
    reason: str
    error_amount: Decimal | None = None
    evidence: Sequence[Path] = ()
    set_aside: bool = False
    selected_by: str = ""
    """The condition that chose the exceptions, where one did."""

    def body(self) -> Json:
        """What its event says, but for the evidence."""
        body: Json = {"disposition": self.what, "reason": self.reason.strip()}
        if self.error_amount is not None:
            body["error_amount"] = format(self.error_amount, "f")
        if self.set_aside:
            body["set_aside"] = True
        if self.selected_by:
            body["selected_by"] = self.selected_by
        return body

    def check(self) -> None:
        """Refuse what cannot be recorded.

        Raises
        ------
        UserError
            If the reason is empty, an evidence file does not exist, or an amount of error is given
            without an error.
        """
        if not self.reason.strip():
            raise UserError("a disposition needs its reason: --reason TEXT")
        if self.what not in DISPOSITIONS:
            raise UserError(
                f"there is no disposition {self.what!r}{nearest(self.what, DISPOSITIONS)}"
            )
        if self.error_amount is not None and self.what != "error":
            raise UserError("--amount is the amount of an error; it goes with --error alone")
        for path in self.evidence:
            if not path.is_file():
                raise UserError(f"{path}: there is no such evidence file")


class Desk:
    """Reviews recorded within one transaction of the register: all of them, or none.

    What another command has just recorded counts: standings are read when the desk is set up, within
    the transaction.
    """

    def __init__(self, case: Case, writer: Writer, initials: str) -> None:
        self._case, self._writer, self.who = case, writer, initials
        self._now = reviews(case.register)
        self._stakes: dict[str, dict[str, str]] = {}

    def standing(self, identity: str) -> Review:
        return self._now.get(identity, Review())

    def prepare(self, ids: Sequence[str]) -> None:
        """Read at once what dispositions of these need."""
        self._stakes |= _at_stake(self._case, ids)

    def dispose(self, identity: str, body: Json) -> Recorded:
        if identity not in self._stakes:
            self.prepare([identity])
        stakes = self._stakes.get(identity)
        return self._append(
            "disposition", identity, body | ({"at_stake": stakes} if stakes else {})
        )

    def sign_off(self, identity: str) -> Recorded:
        """Raises UserError where there is nothing to sign off, or the same initials disposed of it."""
        review = self.standing(identity)
        if review.status == "open":
            raise UserError(f"{identity} is open: there is no disposition to sign off")
        if review.signed_off and review.signed_off != self.who:
            raise UserError(f"{identity} is signed off already by {review.signed_off}")
        if review.initials == self.who:
            raise UserError(
                f"{identity} was disposed of by {self.who}: the sign-off needs other initials"
            )
        if review.signed_off:
            last = next(e for e in reversed(review.history) if e.kind == "sign-off")
            return Recorded(last, again=True)
        assert review.disposed is not None, identity
        return self._append("sign-off", identity, {"of": review.disposed.seq})

    def reopen(self, identity: str, reason: str) -> Recorded:
        """Raises UserError where it is open already, but for the same reopening recorded twice."""
        review, body = self.standing(identity), {"reason": reason}
        if review.status == "open" and not self._is_last(review, "reopen", body):
            raise UserError(f"{identity} is open already")
        return self._append("reopen", identity, body)

    def put(self, kind: str, identity: str, body: Json) -> Recorded:
        """An event that changes nothing of how the exception stands."""
        return self._append(kind, identity, body)

    def _append(self, kind: str, identity: str, body: Json) -> Recorded:
        """Append an event, unless the last one of its subject is the same."""
        review = self._now.setdefault(identity, Review())
        if self._is_last(review, kind, body):
            return Recorded(review.history[-1], again=True)
        event = self._writer.append(kind, identity, self.who, body)
        review.apply(event)
        return Recorded(event)

    def _is_last(self, review: Review, kind: str, body: Json) -> bool:
        last = review.history[-1] if review.history else None
        return last is not None and (last.kind, last.initials, last.body) == (kind, self.who, body)


def record_disposition(
    case: Case, given: Sequence[str], initials: str, disposition: Disposition
) -> list[Recorded]:
    """Record the same disposition for some exceptions, in one transaction.

    Evidence files are copied into the case under their SHA-256 before anything is recorded. A
    disposition that is the last event of an exception already, word for word, is recognised.

    Raises
    ------
    UserError
        If an id is unknown, initials are missing, or as :meth:`Disposition.check`.
    """
    ids = known_ids(case, given)
    who = check_initials(initials)
    disposition.check()
    body = disposition.body()
    if disposition.evidence:
        body["evidence"] = _keep_evidence(case, disposition.evidence)
    with case.locked() as writer:
        desk = Desk(case, writer, who)
        desk.prepare(ids)
        return [desk.dispose(identity, body) for identity in ids]


def _at_stake(case: Case, ids: Sequence[str]) -> dict[str, dict[str, str]]:
    """Of each exception the amount of every screen's newest mark."""
    rows = case.register.read(
        "SELECT exception, screen, amount FROM marks WHERE amount IS NOT NULL AND exception IN "
        "(SELECT value FROM json_each(:ids)) ORDER BY run",
        {"ids": json.dumps(list(ids))},
    )
    found: dict[str, dict[str, str]] = {}
    for row in rows:
        found.setdefault(row["exception"], {})[row["screen"]] = row["amount"]
    return found


def record_sign_off(case: Case, given: Sequence[str], initials: str) -> list[Recorded]:
    """Sign off dispositions by initials other than those that made them.

    Raises
    ------
    UserError
        If an exception is open, signed off already by others, or disposed of by the same initials.
    """
    ids = known_ids(case, given)
    who = check_initials(initials)
    with case.locked() as writer:
        desk = Desk(case, writer, who)
        return [desk.sign_off(identity) for identity in ids]


def record_assignment(case: Case, given: Sequence[str], to: str, initials: str) -> list[Recorded]:
    """Assign exceptions to whoever is to review them.

    Raises
    ------
    UserError
        If initials are missing or none.
    """
    return _record_plain(case, given, initials, "assignment", {"to": check_initials(to)})


def record_matter(case: Case, given: Sequence[str], matter: str, initials: str) -> list[Recorded]:
    """Put exceptions together under the name of a matter; an empty name takes them out of theirs.

    Raises
    ------
    UserError
        If initials are missing, or the name is that of a screen, view or table, which notes are on too.
    """
    return _record_plain(case, given, initials, "matter", {"matter": matter_name(case, matter)})


def matter_name(case: Case, given: str) -> str:
    """A name that a matter can have.

    Raises
    ------
    UserError
        If a screen, a view or a table has it.
    """
    plan = case.plan
    if given in (*(s.name for s in plan.screens), *(v.name for v in plan.views), *plan.tables):
        raise UserError(f"a matter cannot be called {given!r}: a screen, view or table is")
    return given.strip()


def _record_plain(
    case: Case, given: Sequence[str], initials: str, kind: str, body: Json
) -> list[Recorded]:
    ids = known_ids(case, given)
    who = check_initials(initials)
    with case.locked() as writer:
        desk = Desk(case, writer, who)
        return [desk.put(kind, identity, body) for identity in ids]


def record_reopening(
    case: Case, given: Sequence[str], reason: str, initials: str
) -> list[Recorded]:
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
    with case.locked() as writer:
        desk = Desk(case, writer, who)
        return [desk.reopen(identity, reason.strip()) for identity in ids]


def _keep_evidence(case: Case, paths: Sequence[Path]) -> list[dict[str, str]]:
    """Copy files into the case, each under the SHA-256 of what was copied.

    Raises
    ------
    UserError
        If a file there under that name is another.
    """
    folder = case.folder / "evidence"
    folder.mkdir(exist_ok=True)
    kept = []
    with case.workshop() as shop:
        for place, path in enumerate(paths):
            copy = shop / str(place)
            shutil.copyfile(path, copy)
            digest = file_hash(copy)
            target = folder / f"{digest}{path.suffix.lower()}"
            if target.exists() and file_hash(target) != digest:
                raise UserError(f"{target}: this evidence was altered; restore it from a copy")
            flush_file(copy)
            copy.replace(target)
            kept.append({"file": path.name, "sha256": digest})
        sync_folder(folder)
    return kept
