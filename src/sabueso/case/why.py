"""Why an exception is one: what drives it, which rows carry it, and how it stands among its peers."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

from sabueso.base.plain import Cells
from sabueso.case.behind import Why
from sabueso.case.causes import ranked, sentences
from sabueso.case.change import Change, both_periods, findings_of, line_of
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, one_exception
from sabueso.case.surroundings import Period, among_entities, among_rows, by_period, marks_beside
from sabueso.population import expressions
from sabueso.population.drill import Rows
from sabueso.population.drill import rows as drill_rows
from sabueso.population.driving import (
    Candidate,
    Driver,
    candidates,
    of_change,
    of_rows,
    rate_and_volume,
)
from sabueso.population.peers import Peers, peers_of
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.subject import Line, Row

MOST_LARGEST = 3
MOST_ROWS = 6
MOST_REASONS = 3
PEER_ROLES = ("party", "account", "preparer")

_Sides = tuple[Tree, Tree]
"""Conditions of the two periods that a change is between."""


def why(case: Case, given: str, columns: Sequence[str] = ()) -> Why:
    """Look behind an exception.

    Parameters
    ----------
    columns : sequence of str
        Columns to look at; by default all texts but those that name a row or the subject.

    Raises
    ------
    UserError
        If there is no such exception or column, or its screen is no longer in the programme.
    """
    item = one_exception(case, given)
    found_by = findings_of(case, item)
    finding, flag = found_by[0], _flag(found_by[0], item)
    contribution: dict[str, float] = dict(flag.get("contribution") or {})
    with case.populations(item.table) as opened:
        population = opened(finding.source, finding.settings.get("where"), with_set_aside=True)
        table = population.table
        on = finding.on or table.roles.get("amount")
        measure = None if on is None else table.number(on)
        behind = opened(item.table, item.selector, with_set_aside=True)
        carrying = drill_rows(behind, limit=MOST_ROWS, on=on)
        change = both_periods(finding, item.subject, table)
        sides = None if change is None else _trees(change, table)
        peers: list[Peers] = []
        if isinstance(item.subject, Row) and measure is not None and not columns:
            peers = _peers(population, carrying.rows, measure)
            looked = _Looked([], _columns(population, item, columns, measure, sides)[1])
        else:
            looked = _drivers(population, item, columns, measure, sides)
        account = population.account(measure)
        shown, without = _largest(carrying, measure)
        found = Why(
            exception=item,
            on=on,
            currency=finding.currency,
            scale=2 if measure is None else measure.scale,
            population_rows=account.used,
            rows=carrying.population.used,
            amount=carrying.population.used_total,
            change=sides is not None,
            drivers=ranked(looked.drivers, table.roles),
            not_considered=looked.rest,
            peers=peers,
            contribution=contribution,
            largest=shown,
            without_largest=without,
            rate_volume=_rate_volume(population, measure, sides),
            history=_history(opened, finding, item, measure),
            beside=[] if columns else marks_beside(case, opened, item, behind),
            among=among_rows(population, behind, contribution)
            if isinstance(item.subject, Row)
            else among_entities(population, contribution, item.subject),
            reasons=_reasons(found_by, item, {peer.column for peer in peers}),
            foremost=carrying,
            asked=bool(columns),
        )
    return replace(found, sentences=sentences(found))


@dataclass(frozen=True)
class _Looked:
    """What columns account for, and those that account for nothing, with the reason."""

    drivers: list[Driver]
    rest: list[tuple[str, str]]


def _flag(finding: Finding[Any], item: AuditException) -> Cells:
    return next((f for f in finding.flags.rows() if f.get("id") == item.id), {})


def _reasons(
    findings: Sequence[Finding[Any]], item: AuditException, peers: Collection[str]
) -> tuple[str, ...]:
    """What each test that marked it says of it, where it has something to say beyond its figures and its ``peers``."""
    told = (
        view.reason(flag)
        for finding in findings
        if (flag := _flag(finding, item))
        and not (view := find_screen(finding.test).view(finding)).is_told_by_peers(peers)
    )
    return tuple(dict.fromkeys(filter(None, told)))[:MOST_REASONS]


def _largest(carrying: Rows, measure: Column | None) -> tuple[list[Cells], Decimal | None]:
    """The rows that carry most, and what the figure is without them."""
    amount = carrying.population.used_total
    if measure is None:
        return [], None
    shown = [row for row in carrying.rows if row[measure.name] is not None][:MOST_LARGEST]
    held = sum((row[measure.name] for row in shown), Decimal(0))
    return shown, None if amount is None else amount - held


def _trees(change: Change, table: Table) -> _Sides:
    """Conditions of the two periods that a change is between."""
    before, after = (expressions.condition(side, table, "change") for side in change.sides)
    return before, after


def _history(
    opened: Callable[..., Population],
    finding: Finding[Any],
    item: AuditException,
    measure: Column | None,
) -> list[Period]:
    """The figure over time: of a line in every period, of a row nothing."""
    subject = item.subject
    if isinstance(subject, Row):
        return []
    rows = opened(item.table, item.selector, with_set_aside=True)
    if isinstance(subject, Line):
        line = line_of(finding, subject).every_period(rows.table)
        rows = opened(item.table, line, with_set_aside=True)
    return by_period(rows, measure)


def _columns(
    population: Population,
    item: AuditException,
    given: Sequence[str],
    measure: Column | None,
    sides: _Sides | None,
) -> tuple[list[Candidate], list[tuple[str, str]]]:
    """The columns to look at, and those that are not, with the reason."""
    own = list(item.subject.clients())
    return candidates(population.table, given, own, measure, months_of_year=sides is not None)


def _drivers(
    population: Population,
    item: AuditException,
    given: Sequence[str],
    measure: Column | None,
    sides: _Sides | None,
) -> _Looked:
    """What each column accounts for, and why others do not."""
    columns, rest = _columns(population, item, given, measure, sides)
    if sides is not None and measure is not None:
        told = of_change(population, *sides, columns, measure)
    else:
        told = of_rows(population, item.selector, columns, measure)
    both = list(zip(columns, told, strict=True))
    rest += [(column.name, said) for column, said in both if isinstance(said, str)]
    return _Looked([found for _, found in both if not isinstance(found, str)], rest)


def _rate_volume(
    population: Population, measure: Column | None, sides: _Sides | None
) -> tuple[Decimal, Decimal] | None:
    """A change in two parts, where the rows state a quantity."""
    quantity = population.table.role("quantity")
    if sides is None or quantity is None or measure is None:
        return None
    return rate_and_volume(population, *sides, quantity, measure)


def _peers(population: Population, rows: list[Cells], measure: Column) -> list[Peers]:
    """A row's standing among the rows of its party, its account, its preparer."""
    if not rows or rows[0][measure.name] is None:
        return []
    row = rows[0]
    columns = (population.table.role(role) for role in PEER_ROLES)  # type: ignore[arg-type]
    wanted = [(c, row[c.name]) for c in columns if c is not None and c.name in row]
    return peers_of(population, wanted, row[measure.name], measure)
