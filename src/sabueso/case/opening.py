"""Tables of a case attached to its engine, and the populations asked for of them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, Protocol

from sabueso.base.errors import UserError
from sabueso.case.events import Source
from sabueso.case.plan import Plan
from sabueso.population.engines import EngineSettings, QueryError, open_engine
from sabueso.population.population import Defined, Population
from sabueso.population.table import Table


class Case(Protocol):
    """What a case has that its tables are opened from."""

    plan_path: Path
    told: list[str] | None

    @property
    def plan(self) -> Plan: ...
    def sources(self, table: str | None = None) -> list[Source]: ...
    def table(self, name: str, *, links: int = ...) -> Table: ...
    def set_aside(self, table: str) -> tuple[str, ...]: ...


class Opened:
    """The plan's engine with some tables attached, and locked: it reads nothing else.

    Raises
    ------
    UserError
        If the engine cannot be begun, or the rows of a table cannot be read.
    """

    def __init__(self, case: Case, names: Iterable[str]) -> None:
        self.names = tuple(dict.fromkeys(map(case.plan.base_of, names)))
        self._case = case
        self._plan: Plan = case.plan
        self._sources = case.sources()
        self._tables = _with_those_beside(case, self.names)
        self._known: dict[Any, Any] = {}
        section = self._plan.engine
        try:
            engine = open_engine(
                EngineSettings(
                    kind=section.kind,
                    memory=section.memory,
                    threads=section.threads,
                    master=section.master,
                    remote=section.remote,
                )
            )
        except QueryError as error:
            raise UserError(f"{case.plan_path}: {error}") from None
        if case.told is not None:
            from sabueso.population.engines.told import ToldEngine

            engine = ToldEngine(engine, case.told)
        self._engine = engine
        try:
            for each in self._tables.values():
                try:
                    engine.attach(each)
                except QueryError as error:
                    raise UserError(
                        f"the rows of table {each.name!r} cannot be read: {error}"
                    ) from None
            engine.lock()
        except BaseException:
            engine.close()
            raise

    def holds(self, case: Case, names: Iterable[str]) -> bool:
        """Whether tables are attached, as the plan and the sources have them now."""
        wanted = set(map(case.plan.base_of, names))
        return (
            wanted <= set(self.names)
            and case.plan == self._plan
            and [s.event.hash for s in case.sources()] == [s.event.hash for s in self._sources]
        )

    def population(
        self, name: str, where: str | None = None, *, with_set_aside: bool = False
    ) -> Population:
        """The rows of a table, or of a population of the plan, that meet a condition."""
        base = self._plan.base_of(name)
        aside = () if with_set_aside else self._case.set_aside(base)
        section = self._plan.populations.get(name)
        defined = None if section is None else Defined(name, section.where, section.reason)
        return Population(
            self._engine,
            self._tables[base],
            where,
            aside,
            self._tables,
            self._known,
            defined=defined,
        )

    def close(self) -> None:
        self._engine.close()


def _with_those_beside(case: Case, names: Iterable[str]) -> dict[str, Table]:
    """Tables by name, with those that they are linked with and those that their rules look into."""
    tables = {name: case.table(name) for name in names}
    beside = list(tables.values())
    while beside:
        beside = [link.table for each in beside for link in each.links.values()]
        for other in beside:
            tables.setdefault(other.name, other)
    among = {
        str(rule.get("among", "")).partition(".")[0]
        for table in list(tables.values())
        for rule in table.rules
    }
    for name in among:
        if name in case.plan.tables and case.sources(name):
            tables.setdefault(name, case.table(name, links=0))
    return tables
