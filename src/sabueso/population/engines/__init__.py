"""Engines that run the syntax trees: one small module each. Nothing outside names one."""

from __future__ import annotations

from sabueso.base.errors import UserError
from sabueso.population.engines.interface import Engine, EngineSettings, QueryError

__all__ = ["Engine", "EngineSettings", "QueryError", "open_engine"]


def open_engine(settings: EngineSettings) -> Engine:
    """The engine a plan asks for."""
    if settings.kind == "duckdb":
        from sabueso.population.engines.embedded import EmbeddedEngine

        return EmbeddedEngine(settings)
    if settings.kind == "spark":
        from sabueso.population.engines.cluster import ClusterEngine

        return ClusterEngine(settings)
    raise UserError(f'there is no engine {settings.kind!r}; expected "duckdb" or "spark"')
