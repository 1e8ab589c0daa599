"""Screening tests, one a file, found through the entry-point group ``sabueso.screens``."""

from __future__ import annotations

from importlib.metadata import entry_points

from sabueso.errors import UserError, nearest
from sabueso.screens.interface import Screen

GROUP = "sabueso.screens"


def screen_names() -> list[str]:
    """Names of the tests that are installed."""
    return sorted(entry_points(group=GROUP).names)


def find_screen(name: str) -> Screen:
    """The test of that name.

    Raises
    ------
    UserError
        If no test has it; the sentence names the nearest.
    """
    found = entry_points(group=GROUP)
    if name not in found.names:
        raise UserError(f"there is no test {name!r}{nearest(name, found.names)}")
    screen: Screen = found[name].load()()
    return screen
