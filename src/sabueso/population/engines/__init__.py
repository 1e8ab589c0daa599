"""Engines that run the syntax trees: one small module each. Nothing outside names one."""

from __future__ import annotations

from sabueso.errors import UserError
from sabueso.population.engines.interface import Engine, EngineSettings, QueryError

__all__ = ["Engine", "EngineSettings", "QueryError", "open_engine"]


def open_engine(settings: EngineSettings) -> Engine:
    """The engine a plan asks for."""
    if settings.kind == "duckdb":
        from sabueso.population.engines.embedded import EmbeddedEngine

        return EmbeddedEngine(settings)
    raise UserError(
        f'engine {settings.kind!r} is not available in this version; use kind = "duckdb"'
    )
