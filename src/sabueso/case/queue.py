"""The queue: exceptions, the most telling first, with what marked them and where they stand."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn, Json
from sabueso.case.folder import Case
from sabueso.case.register import MARK_FIELDS, rows_hash
from sabueso.case.reviews import known_ids
from sabueso.case.standing import Review, reviews
from sabueso.screens.subject import Subject, of_key

_MARKS = (
    "SELECT " + ", ".join(f'"{name}"' for name in MARK_FIELDS) + ", run, screen FROM marks "
    "JOIN exceptions ON exceptions.id = marks.exception"
)
"""The fields that a run's hash is over come first, in their order."""


@dataclass(frozen=True)
class Mark:
    """One screen's flag of an exception: the ``rank``-th of ``flagged``."""

    screen: str
    rank: int
    flagged: int
    score: float | None
    limit: float | None
    direction: str | None
    p_adjusted: float | None
    amount: str | None
    label: str
    selector: str
    run: int


class AuditException:
    """An exception with its marks, strongest standing first, and its review.

    A queue may hold a hundred thousand: what the register has of one is read out when it is asked for.
    """

    def __init__(self, rows: Sequence[Mapping[str, Any]], review: Review, place: int = 0) -> None:
        self._rows = rows
        self.review = review
        self.place = place

    @property
    def id(self) -> str:
        return str(self._rows[0]["exception"])

    @property
    def table(self) -> str:
        return str(self._rows[0]["table_name"])

    @property
    def kind(self) -> str:
        return str(self._rows[0]["kind"])

    @cached_property
    def key(self) -> ByColumn:
        return dict(json.loads(self._rows[0]["key"]))

    @cached_property
    def marks(self) -> list[Mark]:
        rows = sorted(self._rows, key=_standing)
        return [Mark(**{name: row[name] for name in Mark.__annotations__}) for row in rows]

    @property
    def subject(self) -> Subject:
        return of_key(self.kind, self.key)

    @property
    def label(self) -> str:
        return self.marks[0].label

    @property
    def amount(self) -> str | None:
        return self.marks[0].amount

    @property
    def selector(self) -> str:
        return self.marks[0].selector

    def as_json(self) -> Json:
        review = self.review
        return {
            "place": self.place,
            "id": self.id,
            "table": self.table,
            "kind": self.kind,
            "subject": self.key,
            "label": self.label,
            "amount": self.amount,
            "rows": self.selector,
            "marks": [
                {k: v for k, v in vars(mark).items() if k not in ("label", "selector", "amount")}
                for mark in self.marks
            ],
            "status": review.status,
            "reason": review.reason,
            "initials": review.initials,
            "reviewed_at": review.at,
            "signed_off": review.signed_off,
            "error_amount": None
            if review.error_amount is None
            else format(review.error_amount, "f"),
            "set_aside": review.set_aside,
            "assigned": review.assigned,
            "matter": review.matter,
            "evidence": review.evidence,
        }


def queue(case: Case) -> list[AuditException]:
    """Every exception of each screen's newest run, in queue order.

    Order: the number of distinct screens that marked it; then its best standing in a screen (the
    first of each screen come before the second of any: scores of different tests do not compare);
    then the amount at stake; then the id.
    """
    by_id: dict[str, list[Mapping[str, Any]]] = {}
    # A screen taken out of the programme, or whose last run flagged nothing, marks no more. Marks of
    # earlier runs are never read.
    query = f"{_MARKS} WHERE run = :run AND screen = :screen ORDER BY rank"
    for screen, (run, recorded) in _last_runs(case).items():
        rows = case.register.read(query, {"run": run, "screen": screen})
        if recorded is not None and rows_hash(rows) != recorded:
            raise UserError(
                f"{case.register.location}: the review register was altered: what screen {screen!r} "
                f"marked in run {run} is not what was recorded"
            )
        for row in rows:
            by_id.setdefault(row["exception"], []).append(row)
    now = reviews(case.register)

    def order(rows: list[Mapping[str, Any]]) -> tuple[Any, ...]:
        return (
            -len(rows),
            min(r["rank"] for r in rows),
            -max(r["at_stake"] for r in rows),
            rows[0]["exception"],
        )

    ordered = sorted(by_id.values(), key=order)
    none = Review()
    return [
        AuditException(rows, now.get(rows[0]["exception"]) or none, place)
        for place, rows in enumerate(ordered, 1)
    ]


def one_exception(case: Case, given: str) -> AuditException:
    """An exception by id, also one that no screen marks any more.

    Raises
    ------
    UserError
        If there is none.
    """
    return exceptions_by_id(case, [given])[0]


def exceptions_by_id(case: Case, given: Sequence[str]) -> list[AuditException]:
    """Exceptions by id, each once, in the order given; also those that no screen marks any more.

    Raises
    ------
    UserError
        If one is unknown.
    """
    placed = {found.id: found for found in queue(case)}
    found = []
    for identity in known_ids(case, given):
        item = placed.get(identity)
        if item is None:
            query = f"{_MARKS} WHERE marks.exception = :id ORDER BY run DESC"
            rows = case.register.read(query, {"id": identity})
            last = [row for row in rows if row["run"] == rows[0]["run"]]
            item = AuditException(last, reviews(case.register).get(identity, Review()))
        found.append(item)
    return found


def _last_runs(case: Case) -> dict[str, tuple[int, str | None]]:
    """The newest run of each screen that the programme still has, and the hash of its marks."""
    current = {section.name for section in case.plan.screens}
    last: dict[str, tuple[int, str | None]] = {}
    for event in case.register.events("run"):
        for item in event.body["screens"]:
            if item["name"] in current:
                last[item["name"]] = int(event.subject), item.get("marks_sha256")
    return last


def _standing(row: Mapping[str, Any]) -> tuple[int, str]:
    return row["rank"], row["screen"]
