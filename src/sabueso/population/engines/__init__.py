"""Engines that run the syntax trees: one small module each. Nothing outside names one."""

from __future__ import annotations

from functools import cache
from importlib.metadata import EntryPoints, entry_points

from sabueso.base.errors import UserError
from sabueso.population.engines.interface import Engine, EngineSettings, QueryError
from sabueso.population.sql import OWN_NODES

__all__ = ["Engine", "EngineSettings", "QueryError", "open_engine"]


GROUP = "sabueso.engines"


def open_engine(settings: EngineSettings) -> Engine:
    """The engine a plan asks for, through the entry-point group ``sabueso.engines``.

    Raises
    ------
    UserError
        If there is none of that name, or it does not write every node of this program's own: what
        it left out would fail in the middle of a screen, or be passed on as it is.
    """
    installed = _installed()
    if settings.kind not in installed.names:
        known = " or ".join(f'"{name}"' for name in sorted(installed.names))
        raise UserError(f"there is no engine {settings.kind!r}; expected {known}")
    make = installed[settings.kind].load()
    lacking = sorted(OWN_NODES - set(getattr(make, "renders", ())))
    if lacking:
        raise UserError(
            f"the engine {settings.kind!r} does not write {', '.join(lacking)}, and cannot be used"
        )
    engine: Engine = make(settings)
    return engine


@cache
def _installed() -> EntryPoints:
    return entry_points(group=GROUP)
