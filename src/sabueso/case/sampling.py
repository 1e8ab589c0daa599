"""Samples: drawn once and recorded as a run, and evaluated from the reviews of their items."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass

from sabueso.base.errors import UserError, nearest
from sabueso.base.plain import Values
from sabueso.case.facts import with_facts
from sabueso.case.folder import Case
from sabueso.case.plan_writing import NewScreen, remove_screen, write_screens
from sabueso.case.programme import drawn_in, run_programme
from sabueso.case.recording import RecordedFinding, Run, latest_findings
from sabueso.case.standing import Review, reviews
from sabueso.screens import find_screen
from sabueso.screens.drawn import Evaluated, Judged


@dataclass(frozen=True)
class SampleState:
    """A sample as it was drawn, and what its reviews say.

    ``population`` is a hash over those of the files that it was drawn of, whatever their order;
    ``changed`` whether the table is made of other files now.
    """

    recorded: RecordedFinding
    evaluated: Evaluated
    population: str
    changed: bool


@dataclass(frozen=True)
class ToDraw:
    """A sample that is asked for: what draws it, from which table, how, and what it is to be called, after
    its table where that is not said."""

    kind: str
    table: str
    settings: Values
    name: str = ""


def draw_sample(
    case: Case,
    wanted: ToDraw,
    *,
    initials: str = "",
    progress: Callable[[str, int, int], None] | None = None,
) -> Run:
    """Draw a sample, record it as a run, and put it into the plan.

    Raises
    ------
    UserError
        If there is no such table, a setting does not fit, or a screen or view has the name.
    """
    kind, table = wanted.kind, wanted.table
    place = f"sabueso {kind}"
    screen = find_screen(kind)
    given = with_facts(wanted.settings, case.plan.facts_by_name(), place)
    values = screen.settings.from_plan(given, place).as_plan()
    case.table(table)
    with case.locked():
        called = _free_name(case, wanted.name, f"{kind} of {table}")
        write_screens(case.plan_path, [NewScreen(called, kind, table, values)])
    try:
        return run_programme(case, [called], initials=initials, progress=progress)
    except BaseException:
        # What could not be drawn does not stay in the plan.
        with case.locked():
            remove_screen(case.plan_path, called)
        raise


def _free_name(case: Case, given: str, usual: str) -> str:
    """The name asked for, which must be free, or the usual one with a number where it is not."""
    plan = case.plan
    taken = {s.name for s in plan.screens} | {v.name for v in plan.views} | set(plan.tables)
    if given.strip():
        if given.strip() in taken:
            raise UserError(
                f"a screen, view or table is called {given.strip()!r}; choose another name"
            )
        return given.strip()
    names = [usual, *(f"{usual} {number}" for number in range(2, len(taken) + 3))]
    return next(name for name in names if name not in taken)


def samples(case: Case) -> list[SampleState]:
    """Every sample of the plan that was drawn, with what its reviews say of it."""
    drawn = drawn_in(case)
    found = latest_findings(case, drawn)
    now = reviews(case.register) if found else {}
    inputs = (
        {int(e.subject): e.body["inputs"] for e in case.register.events("run")} if found else {}
    )
    states = []
    for each in found:
        finding = each.finding
        recorded = finding.flags.recorded
        assert recorded is not None
        judged = []
        for flag in recorded.flags:
            review = now.get(flag["id"]) or Review()
            judged.append(Judged(flag["id"], review.status, review.error_amount))
        evaluated = find_screen(finding.test).evaluated(finding, judged)
        assert evaluated is not None, finding.test
        made_of = inputs[each.run].get(case.plan.base_of(finding.table), [])
        files = [source.sha256 for source in case.sources(case.plan.base_of(finding.table))]
        states.append(
            SampleState(each, evaluated, _whole_hash(made_of), sorted(made_of) != sorted(files))
        )
    return states


def one_sample(case: Case, name: str) -> SampleState:
    """A sample by its name, or by the beginning of it.

    Raises
    ------
    UserError
        If none is called so, or several.
    """
    every = samples(case)
    exact = [s for s in every if s.recorded.screen == name]
    found = exact or [s for s in every if s.recorded.screen.lower().startswith(name.lower())]
    if len(found) != 1:
        names = [s.recorded.screen for s in every]
        hint = nearest(name, names) if names else "; draw one with: sabueso sample TABLE"
        raise UserError(f"there is no one sample {name!r}{hint}")
    return found[0]


def _whole_hash(files: list[str]) -> str:
    """One hash over those of a table's files, whatever the order in which they were taken in."""
    return hashlib.sha256("\n".join(sorted(files)).encode()).hexdigest()
