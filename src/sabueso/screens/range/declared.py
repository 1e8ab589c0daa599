"""The finding of a test that compares with what is declared: nothing is tested, rows or numbers are named."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.population.units import unit_of
from sabueso.screens.finding import Finding, Flags
from sabueso.screens.range.result import Rule, Rules
from sabueso.screens.settings import Settings


def declared_finding(
    test: str,
    population: Population,
    measure: Column | None,
    settings: Settings,
    flags: Flags,
    counts: Sequence[tuple[str, int]],
) -> Finding[Rules]:
    """What breaks what is declared; ``counts`` are the rules in words with what breaks each."""
    table, account = population.table, population.account(measure)
    broken = [Rule(title, count) for title, count in counts]
    return Finding(
        test=test,
        table=table.name,
        on=None if measure is None else measure.name,
        by=[],
        settings=settings.model_dump(),
        population=account,
        groups=[Rules({}, account.used, broken, len(flags))],
        flags=flags,
        tests_made=0,
        subjects=account.used,
        cautions=[],
        not_tested=[],
        currency="" if measure is None else unit_of(table, measure),
        scale=2 if measure is None else measure.scale,
    )
