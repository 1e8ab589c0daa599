"""One test tried: what it finds, with nothing recorded."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from sabueso.base.exact import exactly
from sabueso.base.plain import Values
from sabueso.case.aside import screened
from sabueso.case.facts import with_facts
from sabueso.case.folder import Case
from sabueso.population.population import Population
from sabueso.screens import find_screen
from sabueso.screens.finding import Finding
from sabueso.screens.interface import Screen
from sabueso.screens.limits.points import quantile_points


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
    screen, place = find_screen(test), f"try {test}"
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
