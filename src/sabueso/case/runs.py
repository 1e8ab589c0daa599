"""Run screens: findings, marks and exceptions, recorded together."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import exactly
from sabueso.base.files import flush_file, json_text, sync_folder, write_whole
from sabueso.base.hashing import file_hash
from sabueso.case.aside import screened
from sabueso.case.exceptions import canonical, exception_id
from sabueso.case.folder import Case, population_arguments
from sabueso.case.plan import ScreenSection
from sabueso.case.register import Event, Writer, marks_hash
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.screens import find_screen
from sabueso.screens.interface import Finding
from sabueso.screens.picture import quantile_points
from sabueso.screens.subject import Row
from sabueso.version import __version__


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
class Run:
    """A recorded run of the programme."""

    number: int
    at: str
    screens: list[ScreenRun]


@exactly
def run_test(
    case: Case,
    test: str,
    table: str,
    settings: dict[str, Any],
    place: str,
    *,
    points: bool = False,
) -> Finding:
    """Run one test and record nothing; with ``points`` the finding holds quantiles for a figure."""
    screen = find_screen(test)
    validated = screen.settings.from_plan(settings, place)
    others = population_arguments(test, settings)
    with case.populations(table, *others) as population:
        rows = population(table, validated.where)
        whole = population(table, validated.where, with_set_aside=True) if rows.set_aside else None
        finding = screened(screen, rows, whole, validated)
        if points and finding.groups:
            more = {**finding.more, "points": quantile_points(rows, finding)}
            finding = replace(finding, more=more)
        return finding


def chosen_screens(case: Case, names: Sequence[str]) -> list[ScreenSection]:
    """Screens of the programme by name, or by the beginning of a name; all where none is given.

    Raises
    ------
    UserError
        If a name fits none, or several, or the programme is empty.
    """
    every = case.plan.screens
    if not every:
        raise UserError(
            f"{case.plan_path} has no screens; add one with: sabueso try TEST TABLE … --keep NAME"
        )
    chosen = []
    for name in names:
        exact = [s for s in every if s.name == name]
        found = exact or [s for s in every if s.name.lower().startswith(name.lower())]
        if len(found) != 1:
            several = ", ".join(repr(s.name) for s in found)
            hint = f"; it may be {several}" if found else nearest(name, [s.name for s in every])
            raise UserError(f"there is no one screen {name!r} in the programme{hint}")
        chosen += found
    return chosen or list(every)


@exactly
def run_programme(
    case: Case,
    names: Sequence[str] = (),
    *,
    initials: str = "",
    progress: Callable[[str, int, int], None] | None = None,
) -> Run:
    """Run screens of the programme and record findings, exceptions and marks as one run.

    Raises
    ------
    UserError
        If a screen's settings do not fit; then nothing is recorded.
    """
    screens = chosen_screens(case, names)
    checked = []
    for section in screens:
        place = f"{case.plan_path}, screen {section.name!r}"
        screen = find_screen(section.test)
        checked.append((section, screen, screen.settings.from_plan(section.settings, place)))
    tables = [
        name
        for section in screens
        for name in (section.table, *population_arguments(section.test, section.settings))
    ]
    found: list[tuple[ScreenSection, Finding, Population]] = []
    with case.populations(*tables) as population:
        # As they are read: an intake that ends meanwhile is no input of this run.
        inputs = {
            name: [e.body["sha256"] for e in case.sources(name)] for name in sorted(set(tables))
        }
        for position, (section, screen, settings) in enumerate(checked):
            if progress is not None:
                progress(section.name, position, len(screens))
            rows = population(section.table, settings.where)
            try:
                whole = None
                if rows.set_aside:
                    whole = population(section.table, settings.where, with_set_aside=True)
                finding = screened(screen, rows, whole, settings)
            except UserError as error:
                raise UserError(f"screen {section.name!r}: {error}") from None
            found.append((section, finding, rows))
        capacity = case.plan.case.capacity
        most = [section.capacity or capacity for section, _, _ in found]
        doubled = _doubled_ids(
            [(rows, finding, n) for (_, finding, rows), n in zip(found, most, strict=True)]
        )
        subjects_of = [
            _subjects(rows.table, finding, doubled.get(rows.table.name, frozenset()), n)
            for (_, finding, rows), n in zip(found, most, strict=True)
        ]
    at = datetime.now(UTC).isoformat(timespec="seconds")
    prefixes = {name: case.plan.tables[name].prefix for name in set(tables)}
    with case.locked() as writer:
        number = _next_number(case, writer)
        named = _Named(
            writer, ((s.table, row["key"]) for (s, _, _), rows in zip(found, subjects_of, strict=True)
                     for row in rows)
        )  # fmt: skip
        marks: list[dict[str, Any]] = []
        done: list[ScreenRun] = []
        for position, ((section, finding, _), subjects) in enumerate(
            zip(found, subjects_of, strict=True), 1
        ):
            ids, before, first = [], len(named.fresh), len(marks)
            for rank, subject in enumerate(subjects, 1):
                identity = named.identity(
                    prefixes[section.table],
                    section.table,
                    subject["key"],
                    finding.flags.kind,
                    number,
                )
                ids.append(identity)
                values = {k: v for k, v in subject.items() if k != "key"}
                marks.append(
                    {
                        "run": number, "screen": section.name, "exception": identity,
                        "rank": rank, "flagged": len(finding.flags), **values,
                    }
                )  # fmt: skip
            more = len(finding.flags) > len(ids)
            kind = {"table_name": section.table, "kind": finding.flags.kind}
            own = (
                mark | kind | {"key": subject["key"]}
                for mark, subject in zip(marks[first:], subjects, strict=True)
            )
            done.append(
                ScreenRun(
                    section.name, section.test, section.table, section.purpose, finding, ids,
                    len(named.fresh) - before, f"flags-{position:02d}.parquet" if more else "",
                    marks_hash(own),
                )
            )  # fmt: skip
        body = _run_body(done, inputs)
        folder = _write_run(case, number, at, done, marks, body)
        try:
            writer.add_exceptions(named.fresh)
            writer.add_marks(marks)
            writer.append("run", str(number), initials, body)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
    return Run(number, at, done)


class _Named:
    """Ids of subjects: those that they have, and new ones for those that have none."""

    def __init__(self, writer: Writer, keys: Iterable[tuple[str, str]]) -> None:
        self._writer = writer
        self._taken = writer.identities(dict.fromkeys(keys))
        self._holders = {identity: pair for pair, identity in self._taken.items()}
        self.fresh: list[dict[str, Any]] = []

    def identity(self, prefix: str, table: str, key: str, kind: str, run: int) -> str:
        pair = table, key
        if pair not in self._taken:
            identity = exception_id(prefix, table, key, self._holder)
            self._taken[pair] = identity
            self._holders[identity] = pair
            self.fresh.append(
                {
                    "id": identity, "table_name": table, "kind": kind, "key": key,
                    "first_run": run,
                }
            )  # fmt: skip
        return self._taken[pair]

    def _holder(self, identity: str) -> tuple[str, str] | None:
        return self._holders.get(identity) or self._writer.holder(identity)


def _next_number(case: Case, writer: Writer) -> int:
    """One more than the last recorded run; a folder without a record is a killed run's."""
    recorded = [int(subject) for subject in writer.subjects("run")]
    number = max(recorded, default=0) + 1
    shutil.rmtree(_folder(case, number), ignore_errors=True)
    return number


def _folder(case: Case, number: int) -> Path:
    return case.folder / "runs" / f"{number:04d}"


def _run_body(done: list[ScreenRun], inputs: dict[str, list[str]]) -> dict[str, Any]:
    return {
        "program": __version__,
        "screens": [
            {
                "name": item.screen,
                "test": item.test,
                "table": item.table,
                "flagged": item.flagged,
                "exceptions": len(item.exceptions),
                "new": item.new,
                "marks_sha256": item.marks_sha256,
            }
            for item in done
        ],
        "inputs": inputs,
    }


def _write_run(
    case: Case,
    number: int,
    at: str,
    done: list[ScreenRun],
    marks: list[dict[str, Any]],
    body: dict[str, Any],
) -> Path:
    """The run's folder, complete before it gets its name; ``body`` gets the hashes of its files."""
    import pyarrow.parquet as pq

    final = _folder(case, number)
    temporary = final.with_name(f".{final.name}.part")
    shutil.rmtree(temporary, ignore_errors=True)
    temporary.mkdir(parents=True)
    listed = []
    for position, item in enumerate(done, 1):
        name = finding_file(position)
        content = item.finding.as_json(limit=len(item.exceptions))
        for flag, identity in zip(content["flags"], item.exceptions, strict=True):
            flag["id"] = identity
        content["screen"] = item.screen
        content["purpose"] = item.purpose
        if item.flags_file:
            content["flags_file"] = item.flags_file
            pq.write_table(item.finding.flags.table, temporary / item.flags_file)
        write_whole(temporary / name, json_text(content).encode())
        listed.append({"screen": item.screen, "file": name})
    if marks:
        pq.write_table(pa.Table.from_pylist(marks), temporary / "marks.parquet")
    for path in temporary.glob("*.parquet"):
        flush_file(path)
    body["files"] = {path.name: file_hash(path) for path in sorted(temporary.iterdir())}
    whole = {"run": number, "at": at, "findings": listed, **body}
    write_whole(temporary / "run.json", json_text(whole).encode())
    temporary.replace(final)
    sync_folder(final.parent)
    return final


def latest_findings(case: Case) -> list[dict[str, Any]]:
    """The newest recorded finding of each screen that is still in the programme, in its order.

    Raises
    ------
    UserError
        If a file of a run is missing, or is not what was recorded.
    """
    wanted = {section.name for section in case.plan.screens}
    newest: dict[str, Event] = {}
    for event in case.register.events("run"):
        newest |= {item["name"]: event for item in event.body["screens"] if item["name"] in wanted}
    found = []
    for section in case.plan.screens:
        if section.name in newest:
            event = newest[section.name]
            names = [item["name"] for item in event.body["screens"]]
            content = _recorded_json(case, event, finding_file(names.index(section.name) + 1))
            content["run"] = int(event.subject)
            found.append(content)
    return found


def finding_file(position: int) -> str:
    """The file of a run that holds the finding of its first, second, … screen."""
    return f"finding-{position:02d}.json"


def _recorded_json(case: Case, event: Event, name: str) -> dict[str, Any]:
    """A JSON file of a run, which must be what the register knows of it."""
    path = _folder(case, int(event.subject)) / name
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


def _subjects(
    table: Table, finding: Finding, doubled: frozenset[Any], most: int
) -> list[dict[str, Any]]:
    """What the register keeps of each of the strongest flags, in their order."""
    kept = []
    for flag in finding.flags.rows(most):
        subject = finding.flags.subject(flag, finding.settings.get("where"), table)
        if isinstance(subject, Row) and doubled.intersection(subject.clients().values()):
            subject = replace(subject, shares_id=True)
        kept.append(
            {
                "key": canonical(subject.key()),
                "score": flag.get("score"),
                "limit": flag.get("limit"),
                "direction": flag.get("direction"),
                "p_adjusted": flag.get("p_adjusted"),
                "amount": None if flag.get("amount") is None else format(flag["amount"], "f"),
                "at_stake": float(abs(flag.get("amount") or Decimal(0))),
                "label": subject.label(),
                "selector": subject.rows(table),
            }
        )
    return kept


def _doubled_ids(found: Sequence[tuple[Population, Finding, int]]) -> dict[str, frozenset[Any]]:
    """By table: values of the id column among the flagged rows that become exceptions, so many of
    each finding, that more than one row has."""
    flagged: dict[str, tuple[Population, list[pa.ChunkedArray]]] = {}
    for population, finding, most in found:
        identity = population.table.role("id")
        if finding.flags.kind == Row.kind and identity is not None and len(finding.flags):
            _, values = flagged.setdefault(population.table.name, (population, []))
            keys = finding.flags.table.column("subject").slice(0, most)
            values.append(pa.chunked_array([each.field(identity.name) for each in keys.chunks]))
    doubled: dict[str, frozenset[Any]] = {}
    for name, (population, values) in flagged.items():
        identity = population.table.role("id")
        assert identity is not None
        every = pa.chunked_array([chunk for value in values for chunk in value.chunks])
        each = exp.column(identity.name, table="t", quoted=True)
        select = exp.select(exp.alias_(each, "value")).from_(exp.alias_(population.source(), "t"))
        listed = exp.select("value").from_("flagged")
        select = select.where(exp.In(this=each.copy(), query=exp.Subquery(this=listed)))
        select = select.group_by(each.copy())
        select = select.having(exp.GT(this=sql.count(), expression=sql.integer(1)))
        again = population.query(select, flagged=pa.table({"value": every.unique()}))
        doubled[name] = frozenset([None, *again.column("value").to_pylist()])
    return doubled
