"""Parts that are found by name, in this package and in any other that is installed."""

from __future__ import annotations

from functools import cache
from importlib.metadata import (
    EntryPoint,
    EntryPoints,
    PackageNotFoundError,
    distribution,
    entry_points,
)

_PACKAGE = "sabueso"


@cache
def every(group: str) -> EntryPoints:
    """All of a group, of this package and of others.

    It opens the metadata of everything that is installed; those do not change while this runs.
    """
    return entry_points(group=group)


def find(group: str, name: str) -> EntryPoint | None:
    """The one of that name: this package's own, for which no other package's metadata are opened; or
    another's; or None."""
    for look in (_own, every):
        known = look(group)
        if name in known.names:
            return known[name]
    return None


@cache
def _own(group: str) -> EntryPoints:
    try:
        return distribution(_PACKAGE).entry_points.select(group=group)
    except PackageNotFoundError:
        return EntryPoints()
