"""A case folder: found, opened, written to by one command at a time."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from sabueso.base.errors import UserError
from sabueso.base.files import write_whole
from sabueso.case.events import Source
from sabueso.case.layout import PLAN, REGISTER, parts_of, plan_gone
from sabueso.case.tables import currency_of, table_of
from sabueso.population.table import Column, Derived, Part, Table

if TYPE_CHECKING:
    from sabueso.case.opening import Opened
    from sabueso.case.plan import Plan
    from sabueso.case.register import Event, Register, Writer
    from sabueso.population.population import Population

ENVIRONMENT = "SABUESO_CASE"
LINKS_DEEP = 2
"""How many links on an expression may reach: ``po.receipt.quantity``."""


class Case:
    """One case folder.

    Parameters
    ----------
    folder : Path
        The folder.
    verify : bool
        Whether every file of rows that is read is hashed first, whatever its size and time say.
    """

    def __init__(self, folder: Path, *, verify: bool = False) -> None:
        self.folder = folder
        self.plan_path = folder / PLAN
        self.verifies = verify
        self._unaltered: set[str] = set()
        self.derived: dict[tuple[str, tuple[Column, ...]], tuple[Derived, ...]] = {}
        """Derived columns of a table, once their types are known."""
        self._swept = False
        self._keeps_open, self._state = False, ""
        self._opened: Opened | None = None
        self.findings: dict[tuple[str, str], Any] = {}
        """Findings of runs that were read, by the event and the screen."""
        self.told: list[str] | None = None
        """Where the statements that the engine runs are written down; None for nowhere."""

    @classmethod
    def find(cls, given: str | None = None, *, verify: bool = False) -> Case:
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
                raise plan_gone(folder) or UserError(
                    f"{folder} is no case folder: it has no {PLAN}"
                )
            return cls(folder.resolve(), verify=verify)
        here = Path.cwd()
        for folder in (here, *here.parents):
            if (folder / PLAN).is_file():
                return cls(folder, verify=verify)
            gone = plan_gone(folder)
            if gone is not None:
                raise gone
        raise UserError(f"no {PLAN} in {here} or above it; start a case with: sabueso open FOLDER")

    @classmethod
    def create(
        cls, folder: Path, name: str, currency: str | None, server: tuple[str, str] | None = None
    ) -> Case:
        """Start a case, in a currency where one is said, its register on a server where a URL and a schema
        are given; an existing case is left as it is.

        Raises
        ------
        UserError
            If the folder is a case already, or a file; if the server holds another case's register
            there.
        """
        if folder.exists() and not folder.is_dir():
            raise UserError(f"{folder} is a file; expected a folder for the case")
        if (folder / PLAN).exists():
            raise UserError(f"{folder} is a case already: it has a {PLAN}")
        if (gone := plan_gone(folder)) is not None:
            raise gone
        folder.mkdir(parents=True, exist_ok=True)
        from sabueso.case.plan_writing import new_plan

        case = cls(folder.resolve())
        case.__dict__["register"] = case._open_register(server, fresh=True)
        try:
            with case.register.writing():
                # Another command may have come first.
                if (folder / PLAN).exists():
                    raise UserError(f"{folder} is a case already: it has a {PLAN}")
                write_whole(folder / PLAN, new_plan(name, currency, server).encode())
        finally:
            case.close()
        return cls(folder.resolve())

    @cached_property
    def plan(self) -> Plan:
        from sabueso.case.plan import read_plan

        return read_plan(self.plan_path)

    def changed(self) -> None:
        """Read the plan and the sources again at their next use."""
        self.__dict__.pop("plan", None)
        self.__dict__.pop("_sources", None)
        self.derived.clear()

    @cached_property
    def register(self) -> Register:
        return self._open_register(self._server)

    @property
    def _server(self) -> tuple[str, str] | None:
        """URL and schema of a register on a server, as the plan has them."""
        section = self.plan.register_at if self.plan_path.is_file() else None
        return (section.url, section.name) if section and section.url else None

    def _open_register(self, server: tuple[str, str] | None, *, fresh: bool = False) -> Register:
        may_begin = not parts_of(self.folder)
        if server is None:
            from sabueso.case.register_file import FileRegister

            return FileRegister(self.folder / REGISTER, may_begin=may_begin)
        if (self.folder / REGISTER).exists():
            raise UserError(
                f"{self.plan_path} names a register on a server, and {self.folder / REGISTER} is there "
                "too: two registers of one case. Take the lines [register] out of the plan to go on "
                "with the file, or the file out of the folder to go on with the server"
            )
        from sabueso.case.register_server import ServerRegister

        return ServerRegister(*server, may_begin=may_begin, fresh=fresh)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._let_go()
        self.close_register()

    def close_register(self) -> None:
        """Let the register be opened again at its next use: what an error left of it is not what it holds now."""
        if "register" in self.__dict__:
            self.register.close()
            del self.__dict__["register"]

    @contextmanager
    def locked(self) -> Iterator[Writer]:
        """The case for this command alone: one transaction of the register, under which the plan
        and the files beside it are written too.

        What is read within it, the plan included, is so until it ends.
        """
        from sabueso.case.seal_file import check_head
        from sabueso.case.unfinished import sweep
        from sabueso.case.verified import known, remember

        writer, before, after = None, b"", b""
        verified: set[str] = set()
        try:
            with self.register.writing() as writer:
                verified = known(self.folder, self.register)
                held = self._server
                self.changed()
                if self._server != held:
                    raise UserError(
                        f"{self.folder}: its register was moved meanwhile; nothing was recorded, run "
                        "the command again"
                    )
                check_head(self.folder, self.register)
                if not self._swept:
                    sweep(self.folder)
                    self._swept = True
                before = self.plan_path.read_bytes()
                try:
                    yield writer
                except BaseException:
                    # The plan is no part of the transaction: what was written to it goes with the
                    # rest, and while no other command can have written to it.
                    self._restore_plan(before)
                    raise
                after = self.plan_path.read_bytes()
        except BaseException:
            # The transaction itself failed, and holds the lock no longer: the plan goes back only if
            # it is still what was written here.
            if after and not (writer is not None and writer.committed):
                self._restore_plan(before, written=after)
            raise
        else:
            # Nobody else can have written since the lock was taken.
            if verified:
                remember(self.folder, self.register.state(), verified)
        finally:
            self.changed()

    def _restore_plan(self, before: bytes, written: bytes | None = None) -> None:
        """Put the plan back as it was; where ``written`` is given, only if it is that now."""
        try:
            now = self.plan_path.read_bytes()
            if now != before and written in (None, now):
                write_whole(self.plan_path, before)
        except OSError:  # a disk that is full: the plan names a table that has no rows, and no more
            return

    @contextmanager
    def workshop(self) -> Iterator[Path]:
        """A folder for unfinished files, on the case's disk; gone afterwards."""
        from sabueso.case.unfinished import workshop

        with ExitStack() as stack:
            with self.locked():
                folder = stack.enter_context(workshop(self.folder))
            yield folder

    def sources(self, table: str | None = None) -> list[Source]:
        """Source files taken in, oldest first, without those that a later one replaced and those that
        were withdrawn.

        The order of the events decides: content that was replaced may come back.
        """
        return [source for source in self._sources if table in (None, source.table)]

    @cached_property
    def _sources(self) -> list[Source]:
        """The sources as they were when they were first asked for: what a command reads and what
        it says that it read are the same."""
        live: dict[tuple[str, str], Event] = {}
        for event in self.register.events("source", "withdrawal"):
            live.pop((event.subject, event.body.get("replaces", "")), None)
            live.pop((event.subject, event.body["sha256"]), None)
            if event.kind == "source":
                live[event.subject, event.body["sha256"]] = event
        return list(map(Source, live.values()))

    def check_unaltered(self, source: Source) -> None:
        """Compare a source's rows with what was recorded when they were taken in, once a process.

        Raises
        ------
        UserError
            If the file is missing or another.
        """
        if source.event.hash in self._unaltered:
            return
        file = self.folder / source.parquet
        what = f"{file}, the rows of {source.file} in table {source.table!r},"
        if not file.is_file():
            raise UserError(f"{what} is missing; restore it from a copy of the case")
        again = (
            "attach it again with --attach --replace" if source.base else
            "restore it from a copy of the case"
        )  # fmt: skip
        altered = UserError(
            f"{what} is not what was recorded when it was taken in ({source.at}, SHA-256 "
            f"{source.parquet_sha256[:12]}…): it has changed since; {again}"
        )
        found = file.stat()
        if source.parquet_size not in (None, found.st_size):
            raise altered
        if self.verifies or found.st_mtime_ns != source.parquet_mtime_ns:
            from sabueso.base.hashing import file_hash

            if file_hash(file) != source.parquet_sha256:
                raise altered
        self._unaltered.add(source.event.hash)

    def set_aside(self, table: str) -> tuple[str, ...]:
        """Conditions of a table's rows that reviewers took out of later statistics."""
        from sabueso.case.standing import set_aside_selectors

        return set_aside_selectors(self.register, table)

    def part(self, source: Source) -> Part:
        """The rows of one source as a part of its table."""
        return Part(source.columns, (self.folder / source.parquet,), source.base)

    def table(self, name: str, *, links: int = LINKS_DEEP) -> Table:
        """A table of the case with its roles and the tables it is linked with, so many links on.

        Raises
        ------
        UserError
            If it is not in the plan, has no rows yet, or a role names a column it lacks.
        """
        return table_of(self, name, links)

    def currencies(self, tables: Iterable[str]) -> dict[str, str]:
        """The currency of the amounts of some tables."""
        bases = {name: self.plan.base_of(name) for name in tables}
        known = {name: base for name, base in bases.items() if base in self.plan.tables}
        return {
            name: currency_of(self, self.sources(base), self.plan.tables[base])
            for name, base in known.items()
        }

    @contextmanager
    def populations(self, *names: str) -> Iterator[Callable[..., Population]]:
        """The plan's engine with some tables attached, and locked: it reads nothing else.

        Yields a function (name, where=None, with_set_aside=False) -> Population, the name one of a
        table or of a population of the plan. Rows that a review set aside are left out, unless
        ``with_set_aside``.
        """
        from sabueso.case.opening import Opened

        if self._keeps_open and self.told is None:
            self._refresh()
            found = self._opened
            if found is None or not found.holds(self, names):
                before = () if found is None else found.names
                self._let_go()
                found = self._opened = Opened(self, (*names, *self._still_there(before)))
            for name in found.names:
                for source in self.sources(name):
                    self.check_unaltered(source)
            yield found.population
            return
        opened = Opened(self, names)
        try:
            yield opened.population
        finally:
            opened.close()

    def look_again(self) -> None:
        """Before a command on a case that stays loaded: what another process may have changed is read
        again, and files of rows are compared once more with what was recorded of them."""
        self.told = None
        self._unaltered.clear()
        self._refresh()

    def keep_open(self) -> None:
        """Keep the engine and what it was asked of whole tables from one command to the next, until the
        plan or a source is another."""
        self._keeps_open = True

    def _refresh(self) -> None:
        """Read plan and sources again where another process may have changed them."""
        try:
            found = self.plan_path.stat()
            state = f"{found.st_mtime_ns} {found.st_size} {self.register.state()}"
        except OSError:
            # One of them is gone: whatever asks for it next says so.
            self.close()
            self.changed()
            self._state = ""
            return
        if state != self._state or not self.register.state():
            self.changed()
            self._state = state

    def _still_there(self, names: Iterable[str]) -> list[str]:
        return [name for name in names if name in self.plan.tables and self.sources(name)]

    def _let_go(self) -> None:
        if self._opened is not None:
            self._opened.close()
            self._opened = None
