"""The register as a file of the case: SQLite, one file that any later tool can read."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.case.register import INDEXES, PATIENCE, TABLES, Event, Register

MAPPED = 1 << 30
"""Bytes of the file that are read without a copy, where the system can."""
_FAULTS = {
    sqlite3.SQLITE_NOTADB: "is not a review register",
    sqlite3.SQLITE_CORRUPT: "is damaged; restore the case's folder from a copy",
    sqlite3.SQLITE_CANTOPEN: "cannot be opened as a review register",
    sqlite3.SQLITE_READONLY: "cannot be written: it, or the case's folder, is read-only",
    sqlite3.SQLITE_PERM: "cannot be opened: access is denied",
    sqlite3.SQLITE_FULL: "cannot be written: the disk is full; nothing was recorded",
    sqlite3.SQLITE_IOERR: "cannot be read or written: the disk, or a limit of it, does not allow it",
    sqlite3.SQLITE_ERROR: "is of another form than this program's registers",
}
"""What is said of the register by the driver's code of the error."""


class FileRegister(Register):
    """The register in a file.

    Parameters
    ----------
    file : Path
        The file.
    may_begin : bool
        Whether a new register is begun where there is none. It must not where other parts of the
        case are there already: their register is gone, and an empty one would hide that.

    Raises
    ------
    UserError
        If the file is something else than a register, or is gone.
    """

    def __init__(self, file: Path, *, may_begin: bool = True) -> None:
        self._file = file
        self.location = str(file)
        if not may_begin and not file.exists():
            raise UserError(
                f"{file} is gone, though other parts of the case are there: restore it from a "
                "copy; no new register is begun, which would lose every review without a word"
            )
        with self._in_turn():
            # This program says when a transaction begins; the driver would begin it late.
            self._connection = sqlite3.connect(file, timeout=PATIENCE, isolation_level=None)
            self._connection.row_factory = sqlite3.Row
            # A queue is read in no order of the file: its pages are looked at more than once.
            self._connection.execute(f"PRAGMA mmap_size = {MAPPED}")
            if not self._is_begun():
                self._begin(may_begin)
            self._check_size()
            self._check_form(
                {
                    table: [row["name"] for row in self._run(f"PRAGMA table_info({table})")]
                    for table in TABLES
                }
            )

    def state(self) -> str:
        found = self._file.stat()
        return f"{found.st_size} bytes, {found.st_mtime_ns}"

    def close(self) -> None:
        self._connection.close()

    def _is_begun(self) -> bool:
        known = "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'events'"
        return self._connection.execute(known).fetchone() is not None

    def _begin(self, may_begin: bool) -> None:
        with self._transaction():
            # Another command may have come first.
            if self._is_begun():
                return
            if not may_begin:
                raise UserError(
                    f"{self.location} is empty, though other parts of the case are there: restore "
                    "it from a copy"
                )
            for table, columns in TABLES.items():
                self._connection.execute(f"CREATE TABLE {table} ({columns})")
                for action in ("UPDATE", "DELETE"):
                    self._connection.execute(
                        f"CREATE TRIGGER no_{action.lower()}_{table} "
                        f"BEFORE {action} ON {table} BEGIN "
                        "SELECT RAISE(ABORT, 'the register is append-only'); END"
                    )
            for name, on in INDEXES.items():
                self._connection.execute(f"CREATE INDEX {name} ON {on}")

    def _check_size(self) -> None:
        """A file that was cut within its last page is read as if it were whole."""
        (size,) = self._connection.execute("PRAGMA page_size").fetchone()
        if self._file.stat().st_size % size:
            raise UserError(f"{self.location}: it was cut; restore the case's folder from a copy")

    def _run(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> Iterable[Mapping[str, Any]]:
        return self._connection.execute(statement, values or {})

    def _add(self, table: str, names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
        columns = ", ".join(f'"{name}"' for name in names)
        marks = ", ".join("?" * len(names))
        statement = f"INSERT INTO {table} ({columns}) VALUES ({marks})"
        self._connection.executemany(statement, rows)

    def _complete(self) -> None:
        for name, columns in INDEXES.items():
            self._connection.execute(f"CREATE INDEX IF NOT EXISTS {name} ON {columns}")

    def _begin_transaction(self) -> None:
        self._connection.execute("BEGIN IMMEDIATE")

    def _commit(self) -> None:
        self._connection.execute("COMMIT")

    def _roll_back(self) -> bool:
        if not self._connection.in_transaction:
            return (
                False  # a driver that failed undid it by itself; one that was interrupted did not
            )
        with suppress(sqlite3.Error):  # closing undoes it as well
            self._connection.execute("ROLLBACK")
        return True

    def _holds(self, last: Event | None) -> bool:
        with suppress(sqlite3.Error):
            query = "SELECT 1 FROM events WHERE seq = ? AND hash = ?"
            wanted = (last.seq, last.hash) if last else (0, "")
            return self._connection.execute(query, wanted).fetchone() is not None
        return False

    @contextmanager
    def _in_turn(self) -> Iterator[None]:
        try:
            yield
        except UnicodeDecodeError as error:
            fault = _FAULTS[sqlite3.SQLITE_CORRUPT]
            raise UserError(f"{self.location}: {fault} ({error.reason})") from None
        except sqlite3.DatabaseError as error:
            code = getattr(error, "sqlite_errorcode", None)
            if code is None and "decode" in str(error).lower():
                code = sqlite3.SQLITE_CORRUPT  # bytes that are no text
            code = (code or 0) & 0xFF  # the rest says where in detail
            if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                raise UserError(
                    f"another command has been writing to the case for {PATIENCE} s; nothing was "
                    "recorded, try again when it is done"
                ) from None
            if code not in _FAULTS:
                raise
            raise UserError(f"{self.location}: {_FAULTS[code]} ({error})") from None
