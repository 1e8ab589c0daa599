"""A case folder: found, opened, and its tables put together from the register's sources."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sabueso.case.files import write_whole
from sabueso.errors import UserError, nearest
from sabueso.population.table import Column, Linked, Part, Table, unify

if TYPE_CHECKING:
    from sabueso.case.plan import Plan, TableSection
    from sabueso.case.register import Event, Register
    from sabueso.population.population import Population

ENVIRONMENT = "SABUESO_CASE"
PLAN = "case.toml"


class Case:
    """One case folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.plan_path = folder / PLAN

    @classmethod
    def find(cls, given: str | None = None) -> Case:
        """The case named, or the current folder's nearest parent with a plan.

        Raises
        ------
        UserError
            If there is none.
        """
        named = given or os.environ.get(ENVIRONMENT)
        if named:
            folder = Path(named)
            if not (folder / PLAN).is_file():
                raise UserError(f"{folder} is no case folder: it has no {PLAN}")
            return cls(folder.resolve())
        here = Path.cwd()
        for folder in (here, *here.parents):
            if (folder / PLAN).is_file():
                return cls(folder)
        raise UserError(f"no {PLAN} in {here} or above it; start a case with: sabueso open FOLDER")

    @classmethod
    def create(cls, folder: Path, name: str, currency: str) -> Case:
        """Start a case; an existing one is left as it is.

        Raises
        ------
        UserError
            If the folder is a case already, or a file.
        """
        if folder.exists() and not folder.is_dir():
            raise UserError(f"{folder} is a file; expected a folder for the case")
        if (folder / PLAN).exists():
            raise UserError(f"{folder} is a case already: it has a {PLAN}")
        folder.mkdir(parents=True, exist_ok=True)
        from sabueso.case.plan import new_plan

        write_whole(folder / PLAN, new_plan(name, currency).encode())
        return cls(folder.resolve())

    @cached_property
    def plan(self) -> Plan:
        from sabueso.case.plan import read_plan

        return read_plan(self.plan_path)

    def plan_changed(self) -> None:
        """Read the plan again at its next use."""
        self.__dict__.pop("plan", None)

    @cached_property
    def register(self) -> Register:
        from sabueso.case.register import Register

        return Register(self.folder / "register.db")

    def close(self) -> None:
        if "register" in self.__dict__:
            self.register.close()

    def sources(self, table: str | None = None) -> list[Event]:
        """Source files taken in, oldest first, without those that a later one replaced."""
        found = self.register.events("source", subject=table)
        replaced = {(e.subject, e.body["replaces"]) for e in found if e.body.get("replaces")}
        return [e for e in found if (e.subject, e.body["sha256"]) not in replaced]

    def part(self, source: Event) -> Part:
        """The rows of one source as a part of its table."""
        columns = tuple(Column(**column) for column in source.body["columns"])
        base = Path(source.body["base"]) if source.body.get("base") else None
        return Part(columns, (self.folder / source.body["parquet"],), base)

    def table(self, name: str, *, linked: bool = True) -> Table:
        """A table of the case with its roles and, if ``linked``, the tables it is linked with.

        Raises
        ------
        UserError
            If it is not in the plan, has no rows yet, or a role names a column it lacks.
        """
        tables = self.plan.tables
        if name not in tables:
            hint = nearest(name, tables) or "; take files in with: sabueso intake PATH --as TABLE"
            raise UserError(f"there is no table {name!r}{hint}")
        found = self.sources(name)
        if not found:
            raise UserError(
                f"table {name!r} has no rows yet; take its files in with sabueso intake"
            )
        section = tables[name]
        groups: dict[tuple[tuple[Column, ...], Path | None], list[Path]] = {}
        for event in found:
            part = self.part(event)
            (file,) = part.files
            if not file.is_file():
                raise UserError(f"{file} is missing: a source of table {name!r} taken in before")
            if part.base is not None and file.stat().st_size != event.body["bytes"]:
                raise UserError(
                    f"{file} has changed since it was attached to table {name!r}; attach it again "
                    "with --attach --replace"
                )
            groups.setdefault((part.columns, part.base), []).append(file)
        parts = [Part(columns, tuple(files), base) for (columns, base), files in groups.items()]
        table = Table(
            name=name,
            prefix=section.prefix,
            columns=unify(parts, name),
            parts=tuple(parts),
            roles=dict(section.roles),
            currency=self._currency(found, section),
            fiscal_year_starts=self.plan.case.fiscal_year_starts,
            links=self._links(name) if linked else {},
        )
        for role, column in section.roles.items():
            if all(c.name != column for c in table.columns):
                names = [c.name for c in table.columns]
                raise UserError(
                    f"{self.plan_path}: tables.{name}.roles.{role} names the column {column!r}, which "
                    f"the table lacks{nearest(column, names)}"
                )
        return table

    def _currency(self, sources: list[Event], section: TableSection) -> str:
        """The currency of the amounts: the one that the rows state, where they do and no rate
        converts them."""
        stated = [c for event in sources for c in event.body.get("currencies", ())]
        return stated[0] if stated and not section.read.rates else self.plan.case.currency

    def _links(self, name: str) -> dict[str, Linked]:
        """The plan's links of a table, as far as their tables have rows."""
        found = {}
        for column, target in self.plan.tables[name].links.items():
            other, _, key = target.partition(".")
            place = f"{self.plan_path}: tables.{name}.links.{column}"
            if other not in self.plan.tables or not key:
                raise UserError(
                    f"{place} = {target!r}: expected table.column{nearest(other, self.plan.tables)}"
                )
            if self.sources(other):
                table = self.table(other, linked=False)
                try:
                    found[column] = Linked(table, table.column(key).name)
                except UserError as error:
                    raise UserError(f"{place}: {error}") from None
        return found

    @contextmanager
    def populations(self, *names: str) -> Iterator[Callable[..., Population]]:
        """The plan's engine with some tables attached, and locked: it reads nothing else.

        Yields a function (name, where=None, with_set_aside=False) -> Population. Rows that a
        review set aside are left out, unless ``with_set_aside``.
        """
        from sabueso.case.reviews import set_aside_selectors
        from sabueso.population.engines import EngineSettings, open_engine
        from sabueso.population.population import Population

        tables = {name: self.table(name) for name in dict.fromkeys(names)}
        beside = [link.table for each in tables.values() for link in each.links.values()]
        for other in beside:
            tables.setdefault(other.name, other)
        known: dict[Any, Any] = {}
        section = self.plan.engine
        engine = open_engine(
            EngineSettings(
                kind=section.kind,
                memory=section.memory,
                threads=section.threads,
                master=section.master,
                remote=section.remote,
            )
        )

        def population(
            name: str, where: str | None = None, *, with_set_aside: bool = False
        ) -> Population:
            aside = () if with_set_aside else set_aside_selectors(self.register, name)
            return Population(engine, tables[name], where, aside, tables, known)

        try:
            for each in tables.values():
                engine.attach(each)
            engine.lock()
            yield population
        finally:
            engine.close()


def relative(path: Path, folder: Path) -> str:
    """A path as the plan names it: relative to the case where it lies within or beside it."""
    try:
        return Path(os.path.relpath(path.resolve(), folder)).as_posix()
    except ValueError:  # another drive
        return path.resolve().as_posix()


def population_arguments(test: str, settings: dict[str, Any]) -> tuple[str, ...]:
    """Tables beside its own that a test's settings name."""
    other = settings.get("against")
    return (str(other),) if test == "periods" and other else ()
