"""How many rows a screen would flag, before it is proposed."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.population.population import Population

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen


def flags_by(screen: Screen, population: Population, settings: Values) -> int:
    """Flags of a test by some settings, those that choose its rows among them; none where it cannot run, which is said where
    it is tried."""
    own = {name: value for name, value in settings.items() if name != "where"}
    rows = replace(population, where=settings.get("where") or population.where)
    try:
        return len(screen.run(rows, screen.settings.from_plan(own, screen.name)).flags)
    except UserError:
        return 0
