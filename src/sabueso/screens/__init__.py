"""Screening tests, one a file, found through the entry-point group ``sabueso.screens``."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib.metadata import EntryPoints, entry_points
from typing import TYPE_CHECKING, Any

from sabueso.base.errors import UserError, nearest

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

GROUP = "sabueso.screens"


def screen_names() -> list[str]:
    """Names of the tests that are installed."""
    return sorted(_installed().names)


def find_screen(name: str) -> Screen:
    """The test of that name.

    Raises
    ------
    UserError
        If no test has it; the sentence names the nearest.
    """
    found = _installed()
    if name not in found.names:
        raise UserError(f"there is no test {name!r}{nearest(name, sorted(found.names))}")
    screen: Screen = found[name].load()()
    return screen


def examples_of(screen: Screen) -> list[str]:
    """Commands of a test that run on the sample case."""
    return list(getattr(screen, "examples", ()))


def figures_of(screen: Screen) -> list[str]:
    """The figures that a test's result can be drawn as, the usual one first; none where it has one."""
    return list(getattr(screen, "figures", ()))


def other_tables(test: str, settings: Mapping[str, Any]) -> tuple[str, ...]:
    """Tables beside its own that a test's settings, as given, name."""
    asked = getattr(find_screen(test), "tables", None)
    return () if asked is None else tuple(asked(settings))


@cache
def _installed() -> EntryPoints:
    """Every look takes the metadata of all that is installed; it does not change while this runs."""
    return entry_points(group=GROUP)
