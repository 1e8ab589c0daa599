"""The programme: screens run together, and what they flag recorded as exceptions."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from decimal import Decimal
from math import isfinite
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError, nearest
from sabueso.base.exact import exactly
from sabueso.base.plain import Cells, Values
from sabueso.case.aside import screened
from sabueso.case.exceptions import canonical, exception_id
from sabueso.case.facts import with_facts
from sabueso.case.folder import Case
from sabueso.case.plan import ScreenSection, ViewSection
from sabueso.case.recording import (
    Failed,
    Inputs,
    Run,
    ScreenRun,
    next_number,
    run_body,
    write_run,
)
from sabueso.case.register import Writer, marks_hash
from sabueso.case.standing import set_aside_selectors
from sabueso.case.views import performed
from sabueso.population import sql
from sabueso.population.drill import Drill
from sabueso.population.population import Population
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.interface import Screen
from sabueso.screens.limits.points import quantile_points
from sabueso.screens.subject import Row

VIEW = "view"
"""What stands in the place of a test where a view of the plan could not be made."""


@dataclass(frozen=True)
class _Found:
    """A screen's finding, and what the register keeps of its strongest flags."""

    section: ScreenSection
    finding: Finding
    subjects: list[Cells]


@exactly
def run_test(
    case: Case,
    test: str,
    table: str,
    settings: Values,
    *,
    points: bool = False,
    also: Callable[[Screen, Population, Finding], None] | None = None,
) -> Finding:
    """Run one test and record nothing.

    With ``points`` the finding holds quantiles for a figure; ``also`` is done with the rows while the
    engine is open.
    """
    screen, place = find_screen(test), f"sabueso try {test}"
    settings = with_facts(settings, case.plan.facts_by_name(), place)
    validated = screen.settings.from_plan(settings, place)
    others = screen.tables(settings)
    with case.populations(table, *others) as population:
        rows = population(table, validated.where)
        whole = population(table, validated.where, with_set_aside=True) if rows.set_aside else None
        finding = screened(screen, rows, whole, validated)
        if points and finding.groups:
            finding = replace(finding, points=quantile_points(rows, finding))
        if also is not None:
            also(screen, rows, finding)
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

    A screen that cannot run is named in the run with its reason, and the others are recorded.

    Raises
    ------
    UserError
        If there is no such screen, or none of those asked for can run; then nothing is recorded.
    """
    screens = chosen_screens(case, names)
    plan = case.plan_path.read_bytes()
    ready, failed = _ready(case, screens)
    found: list[_Found] = []
    views: list[tuple[ViewSection, Drill]] = []
    inputs = Inputs(plan, {}, {})
    if ready:
        found, views, inputs = _screen(case, ready, failed, plan, progress)
    if not found:
        first = failed[0]
        raise UserError(f"screen {first.screen!r}: {first.reason}")
    order = [section.name for section in screens]
    failed.sort(key=lambda item: order.index(item.screen) if item.screen in order else len(order))
    return _record(case, found, views, failed, inputs, initials)


_Ready = tuple[ScreenSection, Screen, Any]


def _ready(case: Case, screens: Sequence[ScreenSection]) -> tuple[list[_Ready], list[Failed]]:
    """Screens whose settings and tables are there, and those that cannot run for lack of one."""
    ready: list[_Ready] = []
    failed: list[Failed] = []
    for section in screens:
        place = f"{case.plan_path}, screen {section.name!r}"
        try:
            screen = find_screen(section.test)
            given = with_facts(section.settings, case.plan.facts_by_name(), place)
            settings = screen.settings.from_plan(given, place)
            for name in (section.table, *screen.tables(section.settings)):
                case.table(name)
        except UserError as error:
            failed.append(Failed(section.name, section.test, section.table, str(error)))
        else:
            ready.append((section, screen, settings))
    return ready, failed


def _screen(
    case: Case,
    ready: Sequence[_Ready],
    failed: list[Failed],
    plan: bytes,
    progress: Callable[[str, int, int], None] | None,
) -> tuple[list[_Found], list[tuple[ViewSection, Drill]], Inputs]:
    """Run screens, and make the plan's views, on one engine; ``failed`` gets those that the data do not
    allow."""
    shown = [view for view in case.plan.views if case.plan.holds(view.table)]
    tables = sorted(
        {
            case.plan.base_of(name)
            for section, screen, _ in ready
            for name in (section.table, *screen.tables(section.settings))
        }
        | {
            case.plan.base_of(view.table)
            for view in shown
            if case.sources(case.plan.base_of(view.table))
        }
    )
    found: list[tuple[ScreenSection, Finding, Population]] = []
    with case.populations(*tables) as population:
        # As they are read: an intake that ends meanwhile is no input of this run.
        sources = {name: [source.sha256 for source in case.sources(name)] for name in tables}
        aside = {name: list(set_aside_selectors(case.register, name)) for name in tables}
        for position, (section, screen, settings) in enumerate(ready):
            if progress is not None:
                progress(section.name, position, len(ready))
            rows = population(section.table, settings.where)
            try:
                whole = None
                if rows.set_aside:
                    whole = population(section.table, settings.where, with_set_aside=True)
                finding = screened(screen, rows, whole, settings)
            except UserError as error:
                failed.append(Failed(section.name, section.test, section.table, str(error)))
            else:
                found.append((section, finding, rows))
        views, undone = performed(shown, population)
        failed += [Failed(view.name, VIEW, view.table, reason) for view, reason in undone]
        capacity = case.plan.case.capacity
        most = [section.capacity or capacity for section, _, _ in found]
        doubled = _doubled_ids(
            [(rows, finding, n) for (_, finding, rows), n in zip(found, most, strict=True)]
        )
        kept = [
            _Found(
                section,
                finding,
                _subjects(rows, finding, doubled.get(rows.table.name, frozenset()), n),
            )
            for (section, finding, rows), n in zip(found, most, strict=True)
        ]
    given_aside = {name: conditions for name, conditions in aside.items() if conditions}
    return kept, views, Inputs(plan, sources, given_aside)


def _record(
    case: Case,
    found: Sequence[_Found],
    views: list[tuple[ViewSection, Drill]],
    failed: list[Failed],
    inputs: Inputs,
    initials: str,
) -> Run:
    """Record findings with their exceptions and marks, all in one transaction."""
    at = datetime.now(UTC).isoformat(timespec="seconds")
    base = case.plan.base_of
    prefixes = {name: section.prefix for name, section in case.plan.tables.items()}
    with case.locked() as writer:
        number = next_number(case, writer)
        keys = ((base(item.section.table), s["key"]) for item in found for s in item.subjects)
        named = _Named(writer, keys)
        marks: list[Cells] = []
        screens = []
        for position, item in enumerate(found, 1):
            section, flags = item.section, item.finding.flags
            before = len(named.fresh)
            own: list[Cells] = []
            for rank, subject in enumerate(item.subjects, 1):
                identity = named.identity(
                    prefixes[base(section.table)],
                    base(section.table),
                    subject["key"],
                    flags.kind,
                    number,
                )
                place = {"run": number, "screen": section.name, "exception": identity}
                own.append(place | {"rank": rank, "flagged": len(flags), **subject})
            kind = {"table_name": base(section.table), "kind": flags.kind}
            screens.append(
                ScreenRun(
                    screen=section.name,
                    test=section.test,
                    table=base(section.table),
                    purpose=section.purpose,
                    finding=item.finding,
                    exceptions=[mark["exception"] for mark in own],
                    new=len(named.fresh) - before,
                    flags_file=f"flags-{position:02d}.parquet" if len(flags) > len(own) else "",
                    marks_sha256=marks_hash(mark | kind for mark in own),
                )
            )
            marks += [{k: v for k, v in mark.items() if k != "key"} for mark in own]
        done = Run(number, at, screens, failed, views)
        body = run_body(done, inputs)
        folder = write_run(case, done, inputs, marks, body)
        try:
            writer.add_exceptions(named.fresh)
            writer.add_marks(marks)
            writer.append("run", str(number), initials, body)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
    return done


class _Named:
    """Ids of subjects: those that they have, and new ones for those that have none."""

    def __init__(self, writer: Writer, keys: Iterable[tuple[str, str]]) -> None:
        self._writer = writer
        self._taken = writer.identities(dict.fromkeys(keys))
        self._holders = {identity: pair for pair, identity in self._taken.items()}
        self.fresh: list[Cells] = []

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


def _subjects(
    rows: Population, finding: Finding, doubled: frozenset[Any], most: int
) -> list[Cells]:
    """What the register keeps of each of the strongest flags, in their order."""
    kept, table = [], rows.table
    for flag in finding.flags.rows(most):
        subject = finding.flags.subject(flag, rows.asked, table)
        if isinstance(subject, Row) and doubled.intersection(subject.clients().values()):
            subject = replace(subject, shares_id=True)
        kept.append(
            {
                "key": canonical(subject.key()),
                "score": _float(flag.get("score")),
                "limit": _float(flag.get("limit")),
                "direction": flag.get("direction"),
                "p_adjusted": _float(flag.get("p_adjusted")),
                "amount": None if flag.get("amount") is None else format(flag["amount"], "f"),
                "at_stake": float(abs(flag.get("amount") or Decimal(0))),
                "label": subject.label(),
                "selector": subject.rows(table),
            }
        )
    return kept


def _float(value: Any) -> float | None:
    """A figure of a flag as the register holds it; what is no number is none."""
    return float(value) if value is not None and isfinite(value) else None


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
