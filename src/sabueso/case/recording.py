"""A run as it is recorded: a folder that needs nothing outside it, and what is read of it again."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Collection
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.files import flush_file, json_text, numbered, sync_folder, write_whole
from sabueso.base.hashing import file_hash
from sabueso.base.plain import Cells, Json
from sabueso.case.folder import Case
from sabueso.case.register import Event, Writer
from sabueso.screens import find_screen
from sabueso.version import __version__

if TYPE_CHECKING:
    from sabueso.case.plan_parts import ViewSection
    from sabueso.population.drill import Drill
    from sabueso.screens.finding import Finding

PLAN_KEPT = "plan.toml"


@dataclass(frozen=True)
class ScreenRun:
    """One screen's finding within a run.

    ``exceptions`` are those of its strongest flags, at most the plan's ``capacity``; ``flags_file``
    is where all its flags lie, if they are more.
    """

    screen: str
    test: str
    table: str
    purpose: str
    finding: Finding
    exceptions: list[str]
    new: int
    flags_file: str = ""
    marks_sha256: str = ""

    @property
    def flagged(self) -> int:
        return len(self.finding.flags)


@dataclass(frozen=True)
class RecordedFinding:
    """A screen's finding as a run kept it; its flags carry the ids of their exceptions."""

    screen: str
    purpose: str
    run: int
    flags_file: str
    finding: Finding[Any]

    @property
    def marked(self) -> int:
        """How many of its flags became exceptions."""
        recorded = self.finding.flags.recorded
        return 0 if recorded is None else len(recorded.flags)


@dataclass(frozen=True)
class Failed:
    """A screen that could not run, and why."""

    screen: str
    test: str
    table: str
    reason: str


@dataclass(frozen=True)
class RecordedView:
    """A view of the plan as a run made it."""

    name: str
    where: str
    run: int
    drill: Drill


@dataclass(frozen=True)
class Run:
    """A recorded run of the programme, with the views of the plan as they were then."""

    number: int
    at: str
    screens: list[ScreenRun]
    failed: list[Failed] = field(default_factory=list)
    views: list[tuple[ViewSection, Drill]] = field(default_factory=list)
    reopened: list[tuple[str, str]] = field(default_factory=list)
    """Exceptions that were disposed of while another amount was at stake, with the reason."""


@dataclass(frozen=True)
class Inputs:
    """What a run was made of: with it, the run can be made again after the plan has changed.

    ``plan`` is the plan as it was, word for word: roles, links, rules, engine, fiscal year, the
    programme. ``sources`` are the hashes of the files of each table, ``set_aside`` the conditions of
    rows that reviewers had taken out.
    """

    plan: bytes
    sources: dict[str, list[str]]
    set_aside: dict[str, list[str]]


def next_number(case: Case, writer: Writer) -> int:
    """One more than the last recorded run; a folder without a record is a killed run's."""
    recorded = [int(subject) for subject in writer.subjects("run")]
    number = max(recorded, default=0) + 1
    shutil.rmtree(run_folder(case, number), ignore_errors=True)
    return number


def run_folder(case: Case, number: int) -> Path:
    return case.folder / "runs" / f"{number:04d}"


def run_body(done: Run, inputs: Inputs) -> Json:
    """What the event of a run says of it."""
    return {
        "program": __version__,
        "screens": [
            {
                "name": item.screen,
                "test": item.test,
                "family": find_screen(item.test).family or item.test,
                "table": item.table,
                "flagged": item.flagged,
                "subjects": item.finding.looked_at,
                "lawful": item.finding.lawful,
                "exceptions": len(item.exceptions),
                "new": item.new,
                "marks_sha256": item.marks_sha256,
                **({"drawn": True} if find_screen(item.test).drawn else {}),
            }
            for item in done.screens
        ],
        "failed": [asdict(item) for item in done.failed],
        "views": [{"name": view.name, "where": view.where} for view, _ in done.views],
        "inputs": inputs.sources,
        "set_aside": inputs.set_aside,
    }


def write_run(case: Case, done: Run, inputs: Inputs, marks: list[Cells], body: Json) -> Path:
    """The run's folder, complete before it gets its name; ``body`` gets the hashes of its files."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    from sabueso.population.drill import drill_json

    final = run_folder(case, done.number)
    temporary = final.with_name(f".{final.name}.part")
    shutil.rmtree(temporary, ignore_errors=True)
    temporary.mkdir(parents=True)
    listed = []
    for position, item in enumerate(done.screens, 1):
        name = finding_file(position)
        content = item.finding.as_json(limit=len(item.exceptions))
        for flag, identity in zip(content["flags"], item.exceptions, strict=True):
            flag["id"] = identity
        content["screen"] = item.screen
        content["purpose"] = item.purpose
        if item.flags_file:
            content["flags_file"] = item.flags_file
            # Ids and scores are of distinct values: a dictionary of them costs half the time.
            pq.write_table(
                item.finding.flags.table, temporary / item.flags_file, compression="lz4",
                use_dictionary=["direction", "subject.file"], write_statistics=False,
                row_group_size=1 << 17,
            )  # fmt: skip
        write_whole(temporary / name, json_text(numbered(content)).encode())
        listed.append({"screen": item.screen, "file": name})
    for position, (_, drilled) in enumerate(done.views, 1):
        content = drill_json(drilled)
        write_whole(temporary / view_file(position), json_text(numbered(content)).encode())
    write_whole(temporary / PLAN_KEPT, inputs.plan)
    if marks:
        pq.write_table(pa.Table.from_pylist(marks), temporary / "marks.parquet")
    for path in temporary.glob("*.parquet"):
        flush_file(path)
    body["files"] = {path.name: file_hash(path) for path in sorted(temporary.iterdir())}
    whole = {"run": done.number, "at": done.at, "findings": listed, **body}
    write_whole(temporary / "run.json", json_text(numbered(whole)).encode())
    temporary.replace(final)
    sync_folder(final.parent)
    return final


def last_failures(case: Case) -> list[tuple[int, Failed]]:
    """Screens of the programme that could not run when they were last asked to, with that run."""
    current = {section.name for section in case.plan.screens}
    current |= {view.name for view in case.plan.views}
    found: dict[str, tuple[int, Failed] | None] = {}
    for event in case.register.events("run"):
        number = int(event.subject)
        done = [*event.body["screens"], *event.body.get("views", ())]
        found |= {item["name"]: None for item in done}
        for item in event.body.get("failed", []):
            found[item["screen"]] = number, Failed(**item)
    return [each for name, each in found.items() if each is not None and name in current]


def latest_findings(case: Case, screens: Collection[str] | None = None) -> list[RecordedFinding]:
    """The newest recorded finding of each screen that is still in the programme, in its order; of some
    screens by name, where others are not asked for.

    Raises
    ------
    UserError
        If a file of a run is missing, or is not what was recorded.
    """
    wanted = {section.name for section in case.plan.screens}
    if screens is not None:
        wanted.intersection_update(screens)
    newest: dict[str, Event] = {}
    for event in case.register.events("run"):
        newest |= {item["name"]: event for item in event.body["screens"] if item["name"] in wanted}
    found = []
    for section in case.plan.screens:
        if section.name in newest:
            event = newest[section.name]
            known = case.findings.get((event.hash, section.name))
            if known is not None:
                found.append(known)
                continue
            names = [item["name"] for item in event.body["screens"]]
            content = recorded_json(case, event, finding_file(names.index(section.name) + 1))
            try:
                finding = find_screen(content["test"]).recorded(content)
            except (KeyError, TypeError, ValueError) as error:
                raise UserError(
                    f"run {event.subject}, screen {section.name!r}: its finding is of another form than "
                    f"this program's ({error}); run the programme again with: sabueso screen"
                ) from None
            read = RecordedFinding(
                screen=section.name,
                purpose=content.get("purpose", ""),
                run=int(event.subject),
                flags_file=content.get("flags_file", ""),
                finding=finding,
            )
            case.findings[event.hash, section.name] = read
            found.append(read)
    return found


def latest_views(case: Case) -> list[RecordedView]:
    """Each view of the plan as the newest run that made it kept it.

    Raises
    ------
    UserError
        If a file of a run is missing, or is not what was recorded.
    """
    from sabueso.population.drill import read_drill

    newest: dict[str, tuple[Event, int]] = {}
    for event in case.register.events("run"):
        for position, item in enumerate(event.body.get("views", ()), 1):
            newest[item["name"]] = event, position
    found = []
    for view in case.plan.views:
        if view.name in newest:
            event, position = newest[view.name]
            where = event.body["views"][position - 1]["where"]
            drilled = read_drill(recorded_json(case, event, view_file(position)))
            found.append(RecordedView(view.name, where, int(event.subject), drilled))
    return found


def view_file(position: int) -> str:
    """The file of a run that holds its first, second, … view."""
    return f"view-{position:02d}.json"


def finding_file(position: int) -> str:
    """The file of a run that holds the finding of its first, second, … screen."""
    return f"finding-{position:02d}.json"


def recorded_json(case: Case, event: Event, name: str) -> Json:
    """A JSON file of a run, which must be what the register knows of it."""
    path = run_folder(case, int(event.subject)) / name
    try:
        content = path.read_bytes()
    except FileNotFoundError:
        raise UserError(
            f"{path}: a file of run {event.subject} is missing; restore it from a copy"
        ) from None
    recorded = event.body.get("files", {}).get(name)
    if recorded is not None and hashlib.sha256(content).hexdigest() != recorded:
        raise UserError(
            f"{path}: it is not what was recorded at run {event.subject}: it was altered; restore it "
            "from a copy, or run the programme again with: sabueso screen"
        )
    try:
        found = json.loads(content)
    except ValueError as error:
        raise UserError(f"{path}: it was cut or altered: {error}") from None
    if not isinstance(found, dict):
        raise UserError(f"{path}: it was altered: expected a JSON object")
    return found
