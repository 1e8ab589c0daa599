"""Where each exception stands: its review, put together from the events that brought it there."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sabueso.case.register import Event, Register

REVIEW_KINDS = ("disposition", "sign-off", "reopen", "assignment", "matter")


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
    assigned: str = ""
    matter: str = ""
    at_stake: dict[str, str] = field(default_factory=dict)
    """By screen, the amount that it stood for when it was disposed of."""
    disposed: Event | None = None
    history: list[Event] = field(default_factory=list)

    def apply(self, event: Event) -> None:
        body = event.body
        self.history.append(event)
        if event.kind == "sign-off":
            self.signed_off = event.initials
            return
        if event.kind == "assignment":
            self.assigned = body["to"]
            return
        if event.kind == "matter":
            self.matter = body["matter"]
            return
        self.disposed = event if event.kind == "disposition" else None
        self.at_stake = dict(body.get("at_stake", {}))
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


def notes(register: Register) -> dict[str, dict[str, list[Event]]]:
    """Observations and conclusions on each subject, oldest first, but for those that a later one
    replaces."""
    found: dict[str, dict[str, list[Event]]] = {}
    for event in register.events("note"):
        own = found.setdefault(event.subject, {}).setdefault(event.body["kind"], [])
        replaced = event.body.get("replaces")
        own[:] = [each for each in own if each.seq != replaced]
        own.append(event)
    return found


def matters(register: Register) -> dict[str, list[str]]:
    """The exceptions of each matter by its name."""
    found: dict[str, list[str]] = {}
    for identity, review in reviews(register).items():
        if review.matter:
            found.setdefault(review.matter, []).append(identity)
    return found
