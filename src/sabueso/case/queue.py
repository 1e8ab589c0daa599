"""The queue: exceptions, the most telling first, with what marked them and where they stand."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any

from sabueso.base.plain import ByColumn, Json
from sabueso.case.before import Before
from sabueso.case.folder import Case
from sabueso.case.marked import DRAWN, FLAGGED, Mark, Marked, last_runs
from sabueso.case.reviews import known_ids
from sabueso.case.standing import Review, reviews
from sabueso.report import numbers as num
from sabueso.screens.subject import KINDS, Line, Subject, of_key


class AuditException:
    """An exception with its marks, strongest standing first, and its review.

    A queue may hold a hundred thousand: what the register has of one is read when it is asked for.
    """

    def __init__(self, identity: str, marked: Marked, review: Review, place: int | None) -> None:
        self.id = identity
        self.review = review
        self._marked = marked
        self._place = place

    @property
    def _rows(self) -> Sequence[Mapping[str, Any]]:
        return self._marked.rows(self.id)

    @cached_property
    def place(self) -> int:
        """Its number in the queue; 0 where no screen marks it any more."""
        return self._marked.place(self.id) if self._place is None else self._place

    def whole(self) -> AuditException:
        """Itself, with all that the register has of it read: nothing is asked for later, which only the
        thread may do that opened the register."""
        _ = self.place, self.marks, self.before
        return self

    @property
    def table(self) -> str:
        return str(self._rows[0]["table_name"])

    @property
    def kind(self) -> str:
        known = None if self._place is None else self._marked.kind(self.id)
        if known is not None:
            return known
        kind = str(self._rows[0]["kind"])
        if kind != DRAWN or all(self._marked.is_drawn(row["screen"]) for row in self._rows):
            return kind
        return FLAGGED  # drawn before a screen flagged it

    @cached_property
    def key(self) -> ByColumn:
        return dict(json.loads(self._rows[0]["key"]))

    @cached_property
    def marks(self) -> list[Mark]:
        drawn = self._marked.is_drawn
        rows = sorted(self._rows, key=lambda row: (drawn(row["screen"]), *_standing(row)))
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

    @property
    def families(self) -> frozenset[str]:
        """The families of tests that marked it, each of a table."""
        drawn = self._marked.is_drawn
        return frozenset(
            self._marked.family(mark.screen) for mark in self.marks if not drawn(mark.screen)
        )

    @property
    def evidence_bits(self) -> float:
        """Bits of surprise: the most of each family of tests, added up."""
        of: dict[str, float] = {}
        for mark in self.marks:
            if self._marked.is_drawn(mark.screen):
                continue
            family = self._marked.family(mark.screen)
            own = self._marked.bits(mark)
            of[family] = max(of.get(family, 0.0), own)
        return sum(of.values())

    @cached_property
    def before(self) -> Before | None:
        """What the same line was judged to be in an earlier period; of other kinds nothing."""
        subject = self.subject
        if not isinstance(subject, Line):
            return None
        return self._marked.judgements.before(self.table, subject)

    @property
    def because(self) -> str:
        """Why it stands where it stands, in a sentence."""
        place = self._marked.of_kind(self.id)
        marks = [mark for mark in self.marks if not self._marked.is_drawn(mark.screen)]
        if place is None or not marks:
            mark = self.marks[0]
            if not self._marked.is_drawn(mark.screen):
                return "No screen of the programme marks it any more."
            return (
                f"Item {mark.rank:,} of {mark.flagged:,} of {mark.screen!r}, drawn and flagged by no screen: it "
                "stands after all that were."
            )
        mark, families = marks[0], self._marked.families(m.screen for m in marks)
        tests = num.many(len(marks), "screen")
        if len(marks) > 1:
            tests += " of one family" if families == 1 else f" of {families} families of tests"
        number, many = place
        word = self.kind if many == 1 else KINDS[self.kind].several or f"{self.kind}s"
        return (
            f"Number {number:,} of {many:,} {word}, which take turns with the other "
            f"kinds: {tests} marked it, and it stands {mark.rank:,} of {mark.flagged:,} in {mark.screen!r}."
        )

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
            "because": self.because,
            "before": None if self.before is None else self.before.as_json(),
            "evidence_bits": round(self.evidence_bits, 2),
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


def queue(case: Case, *, hashed: bool = False) -> list[AuditException]:
    """Every exception of each screen's newest run, in queue order.

    Their order is that of ``ordering.in_turns``. What was drawn into a sample, and flagged by no screen, comes
    after all of them.
    """
    marked, now, none = Marked(case, hashed=hashed), reviews(case.register), Review()
    return [
        AuditException(identity, marked, now.get(identity) or none, place)
        for place, identity in enumerate(marked.order(), 1)
    ]


def marked_by(case: Case, screens: Iterable[str]) -> set[str]:
    """The ids of exceptions that the newest runs of some screens mark."""
    runs, found = last_runs(case), set()
    query = "SELECT exception FROM marks WHERE run = :run AND screen = :screen"
    for screen in screens:
        if screen in runs:
            asked = {"run": runs[screen].run, "screen": screen}
            found |= {str(next(iter(row))) for row in case.register.read(query, asked)}
    return found


def of_table(case: Case, table: str) -> set[str]:
    """The ids of exceptions of a table."""
    query = "SELECT id FROM exceptions WHERE table_name = :table"
    return {str(next(iter(row))) for row in case.register.read(query, {"table": table})}


def one_exception(case: Case, given: str) -> AuditException:
    """An exception by id, also one that no screen marks any more.

    Raises
    ------
    UserError
        If there is none.
    """
    return exceptions_by_id(case, [given])[0]


def exceptions_by_id(
    case: Case, given: Sequence[str], *, hashed: bool = False
) -> list[AuditException]:
    """Exceptions by id, each once, in the order given; also those that no screen marks any more.

    Raises
    ------
    UserError
        If one is unknown.
    """
    ids = known_ids(case, given)
    marked, now = Marked(case, hashed=hashed), reviews(case.register)
    marked.read(ids)
    return [AuditException(one, marked, now.get(one) or Review(), None) for one in ids]


def _standing(row: Mapping[str, Any]) -> tuple[int, str]:
    return row["rank"], row["screen"]
