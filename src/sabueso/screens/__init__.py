"""Screening tests, one a file, found through the entry-point group ``sabueso.screens``."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sabueso.base import installed
from sabueso.base.errors import UserError, nearest

if TYPE_CHECKING:
    from sabueso.population.population import Population
    from sabueso.report.blocks import Suit
    from sabueso.screens.interface import Screen
    from sabueso.stats.description import Description

GROUP = "sabueso.screens"
DRAWS = "sabueso.draws"
"""Kinds of samples: what is drawn, and not flagged. They have a command of their own."""


def screen_names() -> list[str]:
    """Names of the tests that are installed."""
    return sorted(installed.every(GROUP).names)


def draw_names() -> list[str]:
    """Names of the kinds of samples."""
    return sorted(installed.every(DRAWS).names)


def find_screen(name: str) -> Screen:
    """The test of that name.

    Raises
    ------
    UserError
        If no test has it; the sentence names the nearest.
    """
    found = installed.find(GROUP, name) or installed.find(DRAWS, name)
    if found is None:
        raise UserError(f"there is no test {name!r}{nearest(name, screen_names())}")
    from sabueso.screens.interface import Screen

    kind = found.load()
    if not issubclass(kind, Screen):
        # A class with the same attributes is a test as well; it gets the defaults of one.
        kind = type(kind.__name__, (kind, Screen), {})
    screen: Screen = kind()
    return screen


def proposed(population: Population, described: Description | None) -> list[Suit]:
    """Which tests suit a table, whose amounts ``described`` describes: each that has an opinion."""
    every = sorted(map(find_screen, screen_names()), key=lambda screen: screen.place)
    return [suit for screen in every for suit in screen.suits(population, described)]
