"""The programme that suits a case: screens for its tables, with limits for what can be reviewed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Json, Values
from sabueso.case.facts import with_facts
from sabueso.case.folder import Case
from sabueso.case.plan_writing import NewScreen, write_screens
from sabueso.case.told_twice import asked_elsewhere
from sabueso.population.population import Population
from sabueso.population.survey import MeasureSurvey, survey_measure
from sabueso.screens import find_screen, screen_names
from sabueso.screens.proposal import Proposal

CAPACITY, LEAST_OF_ONE, COUNTED = 300, 5, 10
"""Exceptions that can be reviewed, where nothing is said; those that every screen may flag; and how many times as many a
screen may that is true of each, such as what is there twice."""

Step = Callable[[str, int, int], None]


@dataclass(frozen=True)
class Proposed:
    """A screen for the programme, what it flags today, and why it is proposed. ``known`` says that the
    plan has it already; ``refused`` why it cannot run, or need not."""

    name: str
    test: str
    table: str
    settings: Values
    purpose: str
    because: str
    flagged: int = 0
    known: bool = False
    refused: str = ""

    def as_json(self) -> Json:
        return dict(vars(self))


def proposed_programme(
    case: Case, tables: Sequence[str], capacity: int, progress: Step | None = None
) -> list[Proposed]:
    """Screens that suit tables, each tried on the rows that are there.

    Parameters
    ----------
    tables : sequence of str
        Tables with rows.
    capacity : int
        Exceptions that can be reviewed: screens of rows and lines share them evenly.
    """
    found: list[tuple[str, str, Proposal]] = []
    refused: list[Proposed] = []
    every = sorted(map(find_screen, screen_names()), key=lambda screen: screen.place)
    with_rows = [name for name in case.plan.tables if case.sources(name)]
    with case.populations(*with_rows) as opened:
        for place, table in enumerate(tables):
            if progress is not None:
                progress(f"looking at {table}", place, 2 * len(tables))
            rows = opened(table)
            try:
                described = _amounts(rows)
            except UserError as error:  # amounts that cannot be computed with
                refused.append(_unasked("amounts", table, str(error)))
                continue
            for screen in every:
                try:
                    found.extend((screen.name, table, p) for p in screen.proposes(rows, described))
                except UserError as error:  # what it needs to look at is too much, or not there
                    refused.append(_unasked(screen.name, table, str(error)))
        elsewhere = asked_elsewhere(found, {name: opened(name).table for name in with_rows})
        tuned = sum(p.tuned for at, (*_, p) in enumerate(found) if at not in elsewhere)
        share = max(LEAST_OF_ONE, capacity // max(tuned, 1))
        made = []
        for place, (test, table, proposal) in enumerate(found):
            if place in elsewhere:
                told = (proposal.name, test, table, proposal.settings, proposal.purpose)
                made.append(Proposed(*told, proposal.because, refused=elsewhere[place]))
                continue
            if progress is not None:
                progress(f"trying {proposal.name}", len(found) + place, 2 * len(found))
            made.append(_tried(case, opened, test, table, proposal, (share, capacity)))
    return [*made, *refused]


def _unasked(test: str, table: str, reason: str) -> Proposed:
    """A test of which it could not be found out what it would be asked of a table."""
    return Proposed(f"{test} of {table}", test, table, {}, "", "", refused=reason)


def _amounts(rows: Population) -> Any:
    described = survey_measure(rows, None) if "amount" in rows.table.roles else None
    groups = described.groups if isinstance(described, MeasureSurvey) else []
    return groups[0][1] if groups else None


def _tried(
    case: Case,
    opened: Callable[..., Population],
    test: str,
    table: str,
    proposal: Proposal,
    limits: tuple[int, int],
) -> Proposed:
    """A screen as it is proposed, tuned to its share of the exceptions that can be reviewed; of what is tested more than
    all of them are no exceptions."""
    share, capacity = limits
    screen = find_screen(test)
    rows = opened(table, proposal.settings.get("where"))
    settings = proposal.settings
    made = Proposed(proposal.name, test, table, settings, proposal.purpose, proposal.because)
    try:
        if proposal.tuned:
            settings = screen.tuned(rows, settings, share)
            if settings.get("where") != proposal.settings.get("where"):
                rows = opened(table, settings.get("where"))
                made = replace(made, because=f"{made.because}; rows where {settings['where']}")
        # A fact that a setting names stays named in the plan, and is its value here.
        valued = with_facts(settings, case.plan.facts_by_name(), proposal.name)
        finding = screen.run(rows, screen.settings.from_plan(valued, proposal.name))
    except UserError as error:
        return replace(made, refused=str(error))
    if finding.not_tested and not finding.groups:
        # A sign, or a part of the rows, may leave less of every group than all rows promised.
        return replace(made, refused=f"no group can be tested: {finding.not_tested[0].reason}")
    most = capacity if finding.tests_made else COUNTED * capacity
    if len(finding.flags) > most:
        of = f"the {capacity:,} that can be reviewed"
        reason = f"it flags {len(finding.flags):,}, more than {'' if most == capacity else f'{COUNTED} times '}{of}"
        return replace(made, refused=reason)
    if len(finding.flags) > max(LEAST_OF_ONE, proposal.share * finding.looked_at):
        reason = (
            f"it flags {len(finding.flags):,} of {finding.looked_at:,}: so many are no exceptions"
        )
        return replace(made, refused=reason)
    known = any(
        s.name == proposal.name or (s.test, s.table, s.settings) == (test, table, settings)
        for s in case.plan.screens
    )
    return replace(made, settings=dict(settings), flagged=len(finding.flags), known=known)


def keep_programme(case: Case, proposed: Sequence[Proposed]) -> list[Proposed]:
    """Write the screens that the plan does not have yet; returns those written."""
    with case.locked():
        names = {screen.name for screen in case.plan.screens}
        kept = [p for p in proposed if not (p.known or p.refused or p.name in names)]
        if kept:
            new = (NewScreen(k.name, k.test, k.table, k.settings, k.purpose) for k in kept)
            write_screens(case.plan_path, list(new))
    return kept
