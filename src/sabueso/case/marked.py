"""What marks exceptions now: the newest run of each screen, checked against what was recorded of it."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import astuple, dataclass
from functools import cached_property
from hashlib import sha256
from typing import Any

from sabueso.base.errors import UserError
from sabueso.case.before import Judgements
from sabueso.case.evidence import bits
from sabueso.case.folder import Case
from sabueso.case.ordering import Standing, in_turns
from sabueso.case.register import MARK_FIELDS, Register, rows_hash
from sabueso.case.standing import reviews
from sabueso.case.verified import Placed, keep_order, known, known_order, remember

DRAWN, FLAGGED = "sampled", "row"
"""The kind of what was drawn and marked by no screen: it comes after all that was."""
ORDER = 2
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


@dataclass(frozen=True)
class LastRun:
    """The newest run of a screen: its number, the hash of its marks, and the family of its test on its
    table. Runs of earlier versions recorded neither; each screen is a family of its own then."""

    run: int
    marks_sha256: str | None
    family: str
    subjects: int | None = None
    lawful: bool = True
    drawn: bool = False


def last_runs(case: Case) -> dict[str, LastRun]:
    """The newest run of each screen that the programme still has."""
    current = {section.name for section in case.plan.screens}
    last: dict[str, LastRun] = {}
    for event in case.register.events("run"):
        for item in event.body["screens"]:
            name, family = item["name"], item.get("family")
            if name in current:
                own = f"{family} of {item['table']}" if family else name
                last[name] = LastRun(
                    int(event.subject), item.get("marks_sha256"), own, item.get("subjects"),
                    bool(item.get("lawful", True)), bool(item.get("drawn")),
                )  # fmt: skip
    return last


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
        self._runs = last_runs(case)
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
        standings: dict[str, Standing] = {}
        # A family's bit: how many of them marked an exception is how many bits are set.
        families = dict.fromkeys(last.family for last in self._runs.values())
        bits = {name: 1 << place for place, name in enumerate(families)}
        query = "SELECT exception, rank, at_stake FROM marks WHERE run = :run AND screen = :screen"
        drawn: dict[str, tuple[int, int]] = {}
        for screen, last in self._runs.items():
            bit = bits[last.family]
            for row in self._case.register.read(query, {"run": last.run, "screen": screen}):
                values: Any = tuple(row)
                one, rank, at_stake = values
                if last.drawn:
                    drawn.setdefault(one, (last.run, rank))
                    continue
                known, best, many, most = standings.get(one, (0, rank, 0, at_stake))
                standings[one] = (known | bit, min(best, rank), many + 1, max(most, at_stake))
        kinds: dict[str, dict[str, Standing]] = {}
        only_drawn: list[Placed] = []
        for row in self._case.register.read("SELECT id, kind FROM exceptions"):
            values = tuple(row)
            one, kind = values
            if one in standings:
                # A row that was drawn before a screen flagged it is one like all others.
                kinds.setdefault(FLAGGED if kind == DRAWN else kind, {})[one] = standings[one]
            elif one in drawn:
                only_drawn.append((one, kind, False))
        only_drawn.sort(key=lambda each: (*drawn[each[0]], each[0]))
        return [*((one, kind, True) for one, kind in in_turns(kinds)), *only_drawn]

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
