"""Why an exception is one: what drives it, which rows carry it, and how it stands among its peers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

from sabueso.base.plain import Cells
from sabueso.case.behind import Why
from sabueso.case.causes import ranked, sentences
from sabueso.case.change import Change, both_periods, findings_of, line_of
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, one_exception
from sabueso.case.surroundings import Period, among_entities, by_period, marks_beside
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
        subject = item.subject
        change = both_periods(finding, subject, table)
        sides = None if change is None else _trees(change, table)
        found, rest = candidates(
            table, columns, list(subject.clients()), measure, months_of_year=sides is not None
        )
        quantity = table.role("quantity")
        parts = None
        if sides is not None and quantity is not None and measure is not None:
            parts = rate_and_volume(population, *sides, quantity, measure)
        drivers: list[Driver] = []
        peers: list[Peers] = []
        if isinstance(subject, Row) and measure is not None and not columns:
            peers = _peers(population, carrying.rows, measure)
        else:
            drivers, more = _drivers(population, item, sides, found, measure)
            rest += more
        account = population.account(measure)
        history = _history(opened, finding, item, measure)
        beside = [] if columns else marks_beside(case, opened, item, behind)
        among = among_entities(population, contribution, subject)
    shown, without = _largest(carrying, measure)
    found_behind = Why(
        exception=item,
        on=on,
        currency=finding.currency,
        scale=2 if measure is None else measure.scale,
        population_rows=account.used,
        rows=carrying.population.used,
        amount=carrying.population.used_total,
        change=sides is not None,
        drivers=ranked(drivers, table.roles),
        not_considered=rest,
        peers=peers,
        contribution=contribution,
        largest=shown,
        without_largest=without,
        rate_volume=parts,
        history=history,
        beside=beside,
        among=among,
        reasons=_reasons(found_by, item),
        foremost=carrying,
        asked=bool(columns),
    )
    return replace(found_behind, sentences=sentences(found_behind))


def _flag(finding: Finding[Any], item: AuditException) -> Cells:
    return next((f for f in finding.flags.rows() if f.get("id") == item.id), {})


def _reasons(findings: Sequence[Finding[Any]], item: AuditException) -> tuple[str, ...]:
    """What each test that marked it says of it, where it has something to say beyond its figures."""
    told = (
        find_screen(finding.test).view(finding).reason(flag)
        for finding in findings
        if (flag := _flag(finding, item))
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


def _trees(change: Change, table: Table) -> tuple[Tree, Tree]:
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


def _drivers(
    population: Population,
    item: AuditException,
    sides: tuple[Any, Any] | None,
    columns: Sequence[Candidate],
    measure: Column | None,
) -> tuple[list[Driver], list[tuple[str, str]]]:
    """What each column accounts for, and why others do not."""
    found: list[Driver] = []
    rest: list[tuple[str, str]] = []
    if sides is not None and measure is not None:
        told = of_change(population, *sides, columns, measure)
    else:
        told = of_rows(population, item.selector, columns, measure)
    for column, driver in zip(columns, told, strict=True):
        if isinstance(driver, str):
            rest.append((column.name, driver))
        else:
            found.append(driver)
    return found, rest


def _peers(population: Population, rows: list[Cells], measure: Column) -> list[Peers]:
    """A row's standing among the rows of its party, its account, its preparer."""
    if not rows or rows[0][measure.name] is None:
        return []
    row = rows[0]
    columns = (population.table.role(role) for role in PEER_ROLES)  # type: ignore[arg-type]
    wanted = [(c, row[c.name]) for c in columns if c is not None and c.name in row]
    return peers_of(population, wanted, row[measure.name], measure)
