"""Engines that run the syntax trees: one small module each. Nothing outside names one."""

from __future__ import annotations

from sabueso.base import installed
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
    found = installed.find(GROUP, settings.kind)
    if found is None:
        known = " or ".join(f'"{name}"' for name in sorted(installed.every(GROUP).names))
        raise UserError(f"there is no engine {settings.kind!r}; expected {known}")
    make = found.load()
    lacking = sorted(OWN_NODES - set(getattr(make, "renders", ())))
    if lacking:
        raise UserError(
            f"the engine {settings.kind!r} does not write {', '.join(lacking)}, and cannot be used"
        )
    engine: Engine = make(settings)
    return engine
