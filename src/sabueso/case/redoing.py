"""A recorded run performed again from its inputs and settings, and compared with what it recorded."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import exactly
from sabueso.base.files import numbered
from sabueso.base.plain import Json, Values, plain
from sabueso.case.events import Source
from sabueso.case.folder import Case
from sabueso.case.performing import Found, perform
from sabueso.case.recording import PLAN_KEPT, finding_file, recorded_json, run_folder, view_file
from sabueso.case.register import Event
from sabueso.population.drill import drill_json
from sabueso.version import __version__

MARKED = ("key", "label", "selector", "score", "limit", "direction", "p_adjusted", "amount")
"""What is compared of a mark."""


class PastCase(Case):
    """A case as a run saw it: its plan, its sources, and the rows that reviewers had taken out."""

    def __init__(self, case: Case, run: Event) -> None:
        super().__init__(case.folder)
        self._run = run
        self.plan_path = run_folder(case, int(run.subject)) / PLAN_KEPT

    @cached_property
    def _sources(self) -> list[Source]:
        wanted = {
            (table, digest)
            for table, hashes in self._run.body["inputs"].items()
            for digest in hashes
        }
        found: dict[tuple[str, str], Source] = {}
        for event in self.register.events("source"):
            key = event.subject, str(event.body["sha256"])
            if key in wanted and event.seq < self._run.seq:
                # As they stood then: a file that was read anew since has an event after the run.
                found.pop(key, None)
                found[key] = Source(event)
        return list(found.values())

    def set_aside(self, table: str) -> tuple[str, ...]:
        return tuple(self._run.body["set_aside"].get(table, ()))


@dataclass(frozen=True)
class Difference:
    """A figure that is another than what was recorded, and where it stands."""

    where: str
    recorded: Any
    now: Any


@dataclass(frozen=True)
class Redone:
    """A screen, or a view, performed again: what was compared, and what differs."""

    name: str
    figures: int
    marks: int
    differences: list[Difference] = field(default_factory=list)


@dataclass(frozen=True)
class Again:
    """A run performed again. ``program`` are the versions, then and now; ``not_run`` the screens that
    could not run then, of which there is nothing to compare."""

    run: int
    at: str
    program: tuple[str, str]
    screens: list[Redone]
    not_run: list[str]

    @property
    def equal(self) -> bool:
        return not any(screen.differences for screen in self.screens)

    def as_json(self) -> Json:
        return {
            "run": self.run,
            "at": self.at,
            "equal": self.equal,
            "program": {"recorded": self.program[0], "now": self.program[1]},
            "screens": [plain(vars(screen)) for screen in self.screens],
            "not_run": self.not_run,
        }


def run_event(case: Case, number: int | None) -> Event:
    """The event of a run; of the last one where none is named.

    Raises
    ------
    UserError
        If there is none.
    """
    runs = {int(event.subject): event for event in case.register.events("run")}
    if not runs:
        raise UserError("no run is recorded yet; run the programme with: sabueso screen")
    wanted = max(runs) if number is None else number
    if wanted not in runs:
        raise UserError(f"there is no run {wanted}{nearest(str(wanted), map(str, sorted(runs)))}")
    return runs[wanted]


@exactly
def redo_run(case: Case, number: int | None = None) -> Again:
    """Perform a run again and compare every figure and mark.

    Nothing is read of the plan, the roles, links or reviews as they are now.

    Raises
    ------
    UserError
        If there is no such run, or what it was made of is gone or was altered.
    """
    event = run_event(case, number)
    past = PastCase(case, event)
    try:
        kept = past.plan_path.read_bytes() if past.plan_path.is_file() else b""
        if hashlib.sha256(kept).hexdigest() != event.body["files"].get(PLAN_KEPT):
            raise UserError(
                f"{past.plan_path}: the plan of run {event.subject} is missing or was altered; restore "
                "it from a copy"
            )
        return _compared(case, past, event)
    finally:
        past.close()


def _compared(case: Case, past: PastCase, event: Event) -> Again:
    body = event.body
    for table, hashes in body["inputs"].items():
        gone = set(hashes) - {source.sha256 for source in past.sources(table)}
        if gone:
            raise UserError(
                f"run {event.subject} read a file of table {table!r} (SHA-256 {sorted(gone)[0][:12]}…) "
                "that the register no longer has"
            )
    sections = {section.name: section for section in past.plan.screens}
    asked = [sections[item["name"]] for item in body["screens"] if item["name"] in sections]
    done = perform(past, asked)
    now = {found.section.name: found for found in done.found}
    reasons = {item.screen: item.reason for item in done.failed}
    screens = []
    for position, item in enumerate(body["screens"], 1):
        recorded = recorded_json(case, event, finding_file(position))
        name = item["name"]
        if name not in now:
            lost = Difference("the whole", "performed", reasons.get(name, "no such screen"))
            screens.append(Redone(name, 0, 0, [lost]))
            continue
        screens.append(_screen(case, event, recorded, now[name]))
    views = {view.name: drilled for view, drilled in done.views}
    for position, item in enumerate(body.get("views", ()), 1):
        recorded = recorded_json(case, event, view_file(position))
        fresh = numbered(plain(drill_json(views[item["name"]]))) if item["name"] in views else {}
        found = list(_differences(recorded, fresh, ""))
        screens.append(Redone(f"view {item['name']}", _count(recorded), 0, found))
    failed = [item["screen"] for item in body.get("failed", ())]
    versions = body.get("program", ""), __version__
    return Again(int(event.subject), event.at, versions, screens, failed)


def _screen(case: Case, event: Event, recorded: Values, found: Found) -> Redone:
    """A finding and its marks beside those recorded."""
    own = dict(recorded)
    for name in ("screen", "purpose", "flags_file"):
        own.pop(name, None)
    own["flags"] = [{k: v for k, v in flag.items() if k != "id"} for flag in own["flags"]]
    fresh = numbered(plain(found.finding.as_json(limit=len(own["flags"]))))
    differences = list(_differences(own, fresh, ""))
    marks = case.register.read(
        "SELECT marks.*, key FROM marks JOIN exceptions ON exceptions.id = marks.exception "
        "WHERE run = :run AND screen = :screen ORDER BY rank",
        {"run": int(event.subject), "screen": found.section.name},
    )
    if len(marks) != len(found.subjects):
        differences.append(Difference("marks", len(marks), len(found.subjects)))
    for place, (mark, subject) in enumerate(zip(marks, found.subjects, strict=False), 1):
        for name in MARKED:
            if mark[name] != subject[name]:
                differences.append(Difference(f"mark {place}, {name}", mark[name], subject[name]))
    return Redone(found.section.name, _count(own), len(marks), differences)


def _differences(recorded: Any, now: Any, where: str) -> Iterator[Difference]:
    """Where two results are not the same, by the path to each figure."""
    if isinstance(recorded, Mapping) and isinstance(now, Mapping):
        for name in (*recorded, *(n for n in now if n not in recorded)):
            yield from _differences(
                recorded.get(name), now.get(name), f"{where}.{name}".lstrip(".")
            )
    elif _is_list(recorded) and _is_list(now):
        if len(recorded) != len(now):
            yield Difference(f"{where}, how many", len(recorded), len(now))
        for place, (first, second) in enumerate(zip(recorded, now, strict=False), 1):
            yield from _differences(first, second, f"{where}[{place}]")
    elif recorded != now:
        yield Difference(where, recorded, now)


def _count(value: Any) -> int:
    """Figures of a result, each value one."""
    if isinstance(value, Mapping):
        return sum(map(_count, value.values()))
    if _is_list(value):
        return sum(map(_count, value))
    return 1


def _is_list(value: Any) -> bool:
    return isinstance(value, Sequence) and not isinstance(value, str)
