"""How many rows a screen would flag, before it is proposed."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.population.population import Population

if TYPE_CHECKING:
    from sabueso.screens.finding import Finding
    from sabueso.screens.interface import Screen


def tried(screen: Screen, population: Population, settings: Values) -> Finding[Any] | None:
    """What a test finds by some settings, those that choose its rows among them; None where it cannot run, which is said
    where it is tried."""
    own = {name: value for name, value in settings.items() if name != "where"}
    rows = replace(population, where=settings.get("where") or population.where)
    try:
        return screen.run(rows, screen.settings.from_plan(own, screen.name))
    except UserError:
        return None


def flags_by(screen: Screen, population: Population, settings: Values) -> int:
    """How many flags that has."""
    finding = tried(screen, population, settings)
    return 0 if finding is None else len(finding.flags)
