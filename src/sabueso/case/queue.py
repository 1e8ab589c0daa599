"""The queue: exceptions, the most telling first, with what marked them and where they stand."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import astuple, dataclass
from functools import cached_property
from hashlib import sha256
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn, Json
from sabueso.case.before import Before, Judgements
from sabueso.case.evidence import bits
from sabueso.case.folder import Case
from sabueso.case.register import MARK_FIELDS, Register, rows_hash
from sabueso.case.reviews import known_ids
from sabueso.case.standing import Review, reviews
from sabueso.case.verified import Placed, keep_order, known, known_order, remember
from sabueso.report import numbers as num
from sabueso.screens.subject import KINDS, Line, Subject, of_key

TURNS = ("entity", "cluster", "row", "cell", "line", "range", "class")
"""Kinds in the order in which they take turns."""
DRAWN, FLAGGED = "sampled", "row"
"""The kind of what was drawn and marked by no screen: it comes after all that was."""
OFTENER = {"entity": 1.5, "cluster": 1.5}
"""Kinds that have three turns where others have two: who, and what belongs together, rather than single
rows."""
ORDER = 1
"""The number of the rule by which exceptions are put in order: one more when it changes."""
AT_ONCE = 500
"""Exceptions whose marks are read together."""
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


def altered_marks(register: Register, runs: Iterable[tuple[str, int, str | None]]) -> Iterator[str]:
    """Screens of runs whose marks are not those of the hash that the run recorded, in words."""
    query = f"{_MARKS} WHERE run = :run AND screen = :screen ORDER BY rank"
    for screen, run, recorded in runs:
        if recorded is not None and recorded != rows_hash(
            register.read(query, {"run": run, "screen": screen})
        ):
            yield f"what screen {screen!r} marked in run {run} is not what was recorded"


class Marked:
    """The marks of each screen's newest run, as what was recorded of them holds.

    A screen taken out of the programme, or whose last run flagged nothing, marks no more.

    Parameters
    ----------
    hashed : bool
        Whether the marks are hashed also where that is known of the register's file as it is.

    Raises
    ------
    UserError
        If the marks of a run are not what it recorded.
    """

    def __init__(self, case: Case, *, hashed: bool = False) -> None:
        self._case = case
        self._runs = _last_runs(case)
        self._of_kind: dict[str, int] = {}
        self._many: dict[str, int] = {}
        self._kinds: dict[str, str] = {}
        self._ordered: list[str] = []
        self._places: dict[str, int] = {}
        self._read: dict[str, list[Mapping[str, Any]]] = {}
        self._key = None if hashed or case.verifies else self._order_key()
        self._check(set() if hashed or case.verifies else known(case.folder, case.register))

    def _order_key(self) -> str | None:
        """What the order of the queue follows from; None where a run did not record its marks' hash."""
        if any(last.marks_sha256 is None for last in self._runs.values()):
            return None
        told = [[name, *astuple(last)] for name, last in self._runs.items()]
        return sha256(json.dumps([ORDER, told]).encode()).hexdigest()

    def _check(self, seen: set[str]) -> None:
        """Compare what lies there with what was recorded, but for what was seen to be so."""
        state = self._case.register.state()
        hashes = {name: last.marks_sha256 for name, last in self._runs.items()}
        recorded = {text for text in hashes.values() if text is not None}
        if recorded <= seen:
            return
        wanted = (
            (name, self._runs[name].run, text) for name, text in hashes.items() if text not in seen
        )
        for fault in altered_marks(self._case.register, wanted):
            raise UserError(
                f"{self._case.register.location}: the review register was altered: {fault}"
            )
        remember(self._case.folder, state, recorded)

    def order(self) -> list[str]:
        """Ids of every exception, the most telling first."""
        if not self._ordered:
            found = self._remembered()
            if found is None:
                found = self._put_in_order()
                if self._key is not None:
                    keep_order(self._case.folder, self._key, found)
            of_kind: dict[str, int] = {}
            for one, kind, flagged in found:
                self._ordered.append(one)
                self._kinds[one] = kind
                if flagged:
                    of_kind[kind] = of_kind.get(kind, 0) + 1
                    self._of_kind[one] = of_kind[kind]
            self._many = of_kind
        return self._ordered

    def _remembered(self) -> list[Placed] | None:
        """The order as it was found before of the same marks; a paper and a seal do not ask for it."""
        return None if self._key is None else known_order(self._case.folder, self._key)

    def _put_in_order(self) -> list[Placed]:
        by_id: dict[str, tuple[int, int, int, float]] = {}
        # A family's bit: how many of them marked an exception is how many bits are set.
        families = dict.fromkeys(last.family for last in self._runs.values())
        bits = {name: 1 << place for place, name in enumerate(families)}
        query = "SELECT exception, rank, at_stake FROM marks WHERE run = :run AND screen = :screen"
        drawn: dict[str, tuple[int, int]] = {}
        for screen, last in self._runs.items():
            bit = bits[last.family]
            for row in self._case.register.read(query, {"run": last.run, "screen": screen}):
                values: Any = tuple(row)
                if last.drawn:
                    drawn.setdefault(values[0], (last.run, values[1]))
                    continue
                one, rank, at_stake = values
                known, many, best, most = by_id.get(one, (0, 0, rank, -at_stake))
                by_id[one] = (known | bit, many + 1, min(best, rank), min(most, -at_stake))
        kinds: dict[str, list[tuple[int, int, int, float, str]]] = {}
        only_drawn: list[Placed] = []
        for row in self._case.register.read("SELECT id, kind FROM exceptions"):
            one, kind = tuple(row)
            if one in by_id:
                # A row that was drawn before a screen flagged it is one like all others.
                kind = FLAGGED if kind == DRAWN else kind
                marking, many, best, most = by_id[one]
                kinds.setdefault(kind, []).append((-marking.bit_count(), best, -many, most, one))
            elif one in drawn:
                only_drawn.append((one, kind, False))
        turns: list[tuple[float, int, str, str]] = []
        for kind, items in kinds.items():
            items.sort()
            turn = TURNS.index(kind) if kind in TURNS else len(TURNS)
            often = OFTENER.get(kind, 1.0)
            turns += [(place / often, turn, item[-1], kind) for place, item in enumerate(items, 1)]
        turns.sort()
        only_drawn.sort(key=lambda each: (*drawn[each[0]], each[0]))
        return [*((one, kind, True) for _, _, one, kind in turns), *only_drawn]

    @cached_property
    def judgements(self) -> Judgements:
        """What lines were judged to be in whatever period."""
        return Judgements(self._case.register, reviews(self._case.register))

    def of_kind(self, identity: str) -> tuple[int, int] | None:
        """Its place among those of its kind, and how many these are; None where it is not in the queue."""
        self.order()
        place = self._of_kind.get(identity)
        return None if place is None else (place, self._many[self._kinds[identity]])

    def kind(self, identity: str) -> str | None:
        """Its kind; None where it is not in the queue."""
        self.order()
        return self._kinds.get(identity)

    def families(self, screens: Iterable[str]) -> int:
        """How many families of tests some screens are of."""
        return len({self._runs[screen].family for screen in screens if screen in self._runs})

    def family(self, screen: str) -> str:
        """The family of tests of a screen; its own name where it is in no run any more."""
        last = self._runs.get(screen)
        return screen if last is None else last.family

    def is_drawn(self, screen: str) -> bool:
        """Whether it drew rows and flagged none: its marks are no evidence."""
        last = self._runs.get(screen)
        return last is not None and last.drawn

    def bits(self, mark: Mark) -> float:
        """Bits of surprise of a mark."""
        last = self._runs.get(mark.screen)
        subjects, lawful = (None, True) if last is None else (last.subjects, last.lawful)
        return bits(mark.rank, mark.flagged, mark.p_adjusted, subjects, lawful)

    def place(self, identity: str) -> int:
        if not self._places:
            self._places = {one: place for place, one in enumerate(self.order(), 1)}
        return self._places.get(identity, 0)

    def rows(self, identity: str) -> list[Mapping[str, Any]]:
        """The marks of an exception, and with them those of the next in the queue: they are asked for
        one after another."""
        if identity not in self._read:
            if len(self._read) < 2 * AT_ONCE or not self._ordered:
                place = self.place(identity) if self._ordered else 0
                self.read(self._ordered[place - 1 : place - 1 + AT_ONCE] if place else [identity])
            else:
                self._read_all()
        if identity not in self._read:
            self.read([identity])
        if not self._read[identity]:
            raise UserError(
                f"{self._case.register.location}: the review register is damaged or was altered: it has "
                f"no mark of exception {identity}"
            )
        return self._read[identity]

    def _read_all(self) -> None:
        """Read the marks of the whole queue: more than a few are asked for."""
        self._read = {one: [] for one in self._ordered}
        query = f"{_MARKS} WHERE run = :run AND screen = :screen"
        for screen, last in self._runs.items():
            for row in self._case.register.read(query, {"run": last.run, "screen": screen}):
                self._read[row["exception"]].append(row)

    def read(self, ids: Sequence[str]) -> None:
        """Read the marks of some at once."""
        current = {(last.run, screen) for screen, last in self._runs.items()}
        found: dict[str, list[Mapping[str, Any]]] = {one: [] for one in ids}
        query = (
            f"{_MARKS} WHERE marks.exception IN (SELECT value FROM json_each(:ids)) "
            "ORDER BY run DESC, screen"
        )
        for row in self._case.register.read(query, {"ids": json.dumps(ids)}):
            found[row["exception"]].append(row)
        for one, rows in found.items():
            now = [row for row in rows if (row["run"], row["screen"]) in current]
            # One that no screen marks any more stands as it did when one did last.
            self._read[one] = now or [row for row in rows if row["run"] == rows[0]["run"]]


def queue(case: Case, *, hashed: bool = False) -> list[AuditException]:
    """Every exception of each screen's newest run, in queue order.

    Order: kinds take turns, so that none starves another: entities, clusters, rows, cells, lines,
    ranges, classes; entities and clusters have three where others have two. Within a kind: the number of
    families of tests that marked it (two limits on one measure are one); then its best standing in a screen
    (the first of each screen come before the second of any: scores of different tests do not compare); then
    the number of screens; then the amount at stake; then the id. What was drawn into a sample, and flagged
    by no screen, comes after all of them.
    """
    marked, now, none = Marked(case, hashed=hashed), reviews(case.register), Review()
    return [
        AuditException(identity, marked, now.get(identity) or none, place)
        for place, identity in enumerate(marked.order(), 1)
    ]


def marked_by(case: Case, screens: Iterable[str]) -> set[str]:
    """The ids of exceptions that the newest runs of some screens mark."""
    runs, found = _last_runs(case), set()
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


@dataclass(frozen=True)
class _LastRun:
    """The newest run of a screen: its number, the hash of its marks, and the family of its test on its
    table. Runs of earlier versions recorded neither; each screen is a family of its own then."""

    run: int
    marks_sha256: str | None
    family: str
    subjects: int | None = None
    lawful: bool = True
    drawn: bool = False


def _last_runs(case: Case) -> dict[str, _LastRun]:
    """The newest run of each screen that the programme still has."""
    current = {section.name for section in case.plan.screens}
    last: dict[str, _LastRun] = {}
    for event in case.register.events("run"):
        for item in event.body["screens"]:
            name, family = item["name"], item.get("family")
            if name in current:
                own = f"{family} of {item['table']}" if family else name
                last[name] = _LastRun(
                    int(event.subject), item.get("marks_sha256"), own, item.get("subjects"),
                    bool(item.get("lawful", True)), bool(item.get("drawn")),
                )  # fmt: skip
    return last


def _standing(row: Mapping[str, Any]) -> tuple[int, str]:
    return row["rank"], row["screen"]
