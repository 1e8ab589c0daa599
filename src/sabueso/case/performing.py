"""Screens and views performed: what they find of the rows as they are, before anything is recorded."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from decimal import Decimal
from math import isfinite
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.case.aside import screened
from sabueso.case.exceptions import canonical
from sabueso.case.facts import with_facts
from sabueso.case.folder import Case
from sabueso.case.plan_parts import ScreenSection, ViewSection
from sabueso.case.recording import Failed, Inputs
from sabueso.case.views import performed
from sabueso.population import sql
from sabueso.population.accounting import Counting
from sabueso.population.drill import Drill
from sabueso.population.population import Population
from sabueso.population.together import count_together
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.interface import Screen
from sabueso.screens.subject import Row

VIEW = "view"
"""What stands in the place of a test where a view of the plan could not be made."""


@dataclass(frozen=True)
class Found:
    """A screen's finding, and what the register keeps of its strongest flags."""

    section: ScreenSection
    finding: Finding
    subjects: list[Cells]


@dataclass(frozen=True)
class Performed:
    """What screens and views of a plan find, those that could not run, and what all of it was made of."""

    found: list[Found]
    views: list[tuple[ViewSection, Drill]]
    failed: list[Failed]
    inputs: Inputs


def perform(
    case: Case,
    screens: Sequence[ScreenSection],
    progress: Callable[[str, int, int], None] | None = None,
) -> Performed:
    """Run screens, and make the plan's views, and record nothing."""
    plan = case.plan_path.read_bytes()
    ready, failed = _ready(case, screens)
    done = Performed([], [], failed, Inputs(plan, {}, {}))
    if ready:
        done = _screen(case, ready, failed, plan, progress)
    order = [section.name for section in screens]
    failed.sort(key=lambda item: order.index(item.screen) if item.screen in order else len(order))
    return done


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
) -> Performed:
    """Run screens, and make the plan's views, on one engine; ``failed`` gets those that the data do not
    allow."""
    shown = [view for view in case.plan.views if case.plan.holds(view.table)]
    tables = _tables_of(case, ready, shown)
    with case.populations(*tables) as population:
        # As they are read: an intake that ends meanwhile is no input of this run.
        sources = {name: [source.sha256 for source in case.sources(name)] for name in tables}
        aside = {name: list(case.set_aside(name)) for name in tables}
        found = _found(ready, population, failed, progress)
        views, undone = performed(shown, population)
        failed += [Failed(view.name, VIEW, view.table, reason) for view, reason in undone]
        capacity = case.plan.case.capacity
        # What was drawn is reviewed to the last item.
        most = [
            len(finding.flags) if find_screen(section.test).drawn else section.capacity or capacity
            for section, finding, _ in found
        ]
        doubled = _doubled_ids(
            [(rows, finding, n) for (_, finding, rows), n in zip(found, most, strict=True)]
        )
        kept = [
            Found(
                section,
                finding,
                _subjects(rows, finding, doubled.get(rows.table.name, frozenset()), n),
            )
            for (section, finding, rows), n in zip(found, most, strict=True)
        ]
    given_aside = {name: conditions for name, conditions in aside.items() if conditions}
    return Performed(kept, views, failed, Inputs(plan, sources, given_aside))


def _tables_of(case: Case, ready: Sequence[_Ready], shown: Sequence[ViewSection]) -> list[str]:
    """The tables that screens and views read."""
    named = {
        name
        for section, screen, _ in ready
        for name in (section.table, *screen.tables(section.settings))
    }
    viewed = {case.plan.base_of(view.table) for view in shown}
    return sorted(
        {case.plan.base_of(name) for name in named}
        | {name for name in viewed if case.sources(name)}
    )


def _found(
    ready: Sequence[_Ready],
    population: Callable[..., Population],
    failed: list[Failed],
    progress: Callable[[str, int, int], None] | None,
) -> list[tuple[ScreenSection, Finding, Population]]:
    """What each screen found; ``failed`` gets those that the data do not allow."""
    found: list[tuple[ScreenSection, Finding, Population]] = []
    of_each: list[tuple[Population, Population | None]] = []
    for section, _, settings in ready:
        rows, whole = population(section.table, settings.where), None
        if rows.set_aside:
            whole = population(section.table, settings.where, with_set_aside=True)
        of_each.append((rows, whole))
    count_together(_counts(ready, of_each))
    for position, ((section, screen, settings), (rows, whole)) in enumerate(
        zip(ready, of_each, strict=True)
    ):
        if progress is not None:
            progress(section.name, position, len(ready))
        try:
            finding = screened(screen, rows, whole, settings)
        except UserError as error:
            failed.append(Failed(section.name, section.test, section.table, str(error)))
        else:
            found.append((section, finding, rows))
    return found


def _counts(
    ready: Sequence[_Ready], of_each: Sequence[tuple[Population, Population | None]]
) -> Iterator[tuple[Population, Counting]]:
    """What screens will ask to be counted; of one whose settings do not fit its table nothing."""
    for (_, screen, settings), populations in zip(ready, of_each, strict=True):
        for rows in filter(None, populations):
            with suppress(UserError):  # said when it is run
                yield from ((rows, counting) for counting in screen.counts(rows, settings))


def _subjects(
    rows: Population, finding: Finding, doubled: frozenset[Any], most: int
) -> list[Cells]:
    """What the register keeps of each of the strongest flags, in their order."""
    kept, table = [], rows.table
    # What is not money is none at stake, and is not added to what is.
    money = finding.on is None or bool(finding.currency)
    for flag in finding.flags.rows(most):
        subject = finding.flags.subject(flag, rows.asked, table)
        if isinstance(subject, Row) and doubled.intersection(subject.clients().values()):
            subject = replace(subject, shares_id=True)
        amount = flag.get("amount") if money else None
        kept.append(
            {
                "key": canonical(subject.key()),
                "kind": subject.kind,
                "score": _float(flag.get("score")),
                "limit": _float(flag.get("limit")),
                "direction": flag.get("direction"),
                "p_adjusted": _float(flag.get("p_adjusted")),
                "amount": None if amount is None else format(amount, "f"),
                "at_stake": float(abs(amount or Decimal(0))),
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
        keys = finding.flags.row_keys()
        if identity is not None and keys is not None:
            _, values = flagged.setdefault(population.table.name, (population, []))
            named = [each.field(identity.name) for each in keys.slice(0, most).chunks]
            values.append(pa.chunked_array(named))
    doubled: dict[str, frozenset[Any]] = {}
    for name, (population, values) in flagged.items():
        identity = population.table.role("id")
        assert identity is not None
        # Ids that are missing on every flagged row have no type.
        told = [value for value in values if not pa.types.is_null(value.type)]
        if not told:
            doubled[name] = frozenset([None])
            continue
        every = pa.chunked_array([chunk for value in told for chunk in value.chunks])
        each = exp.column(identity.name, table="t", quoted=True)
        select = exp.select(exp.alias_(each, "value")).from_(exp.alias_(population.source(), "t"))
        listed = exp.select("value").from_("flagged")
        select = select.where(exp.In(this=each.copy(), query=exp.Subquery(this=listed)))
        select = select.group_by(each.copy())
        select = select.having(exp.GT(this=sql.count(), expression=sql.integer(1)))
        again = population.query(select, flagged=pa.table({"value": every.unique()}))
        doubled[name] = frozenset([None, *again.column("value").to_pylist()])
    return doubled
