"""The review register: append-only and hash-chained, an SQLite file that any later tool can read."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.outcome import note_recorded
from sabueso.base.plain import Cells, Json

PATIENCE = 30  # seconds that a command waits for another one's transaction
# Statements are plain SQL with named parameters. An object-relational layer would serve any other
# database too, and takes longer to load than a whole command may.
TABLES = {
    "events": """
        seq INTEGER NOT NULL PRIMARY KEY,
        at TEXT NOT NULL,
        kind TEXT NOT NULL,
        subject TEXT NOT NULL,
        initials TEXT NOT NULL,
        body TEXT NOT NULL,
        previous TEXT NOT NULL,
        hash TEXT NOT NULL
    """,
    "exceptions": """
        id TEXT NOT NULL PRIMARY KEY,
        table_name TEXT NOT NULL,
        kind TEXT NOT NULL,
        key TEXT NOT NULL,
        first_run INTEGER NOT NULL,
        UNIQUE (table_name, key)
    """,
    "marks": """
        run INTEGER NOT NULL,
        screen TEXT NOT NULL,
        exception TEXT NOT NULL,
        rank INTEGER NOT NULL,
        flagged INTEGER NOT NULL,
        score FLOAT,
        "limit" FLOAT,
        direction TEXT,
        p_adjusted FLOAT,
        amount TEXT,
        at_stake FLOAT NOT NULL,
        label TEXT NOT NULL,
        selector TEXT NOT NULL,
        PRIMARY KEY (run, screen, exception)
    """,
}
INDEXES = {
    "ix_events_kind": "events (kind, subject)",
    "ix_marks_exception": "marks (exception)",
}
GENESIS = "0" * 64
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


@dataclass(frozen=True)
class Event:
    """One thing that happened; never edited, never deleted."""

    seq: int
    at: str
    kind: str
    subject: str
    initials: str
    body: Json
    previous: str
    hash: str


MARK_FIELDS = (
    "exception", "table_name", "kind", "key", "rank", "flagged", "score", "limit", "direction",
    "p_adjusted", "amount", "at_stake", "label", "selector",
)  # fmt: skip


def marks_hash(rows: Iterable[Mapping[str, Any]]) -> str:
    """SHA-256 over what a screen marked in a run, in the order of its ranks, as canonical JSON.

    Marks and exceptions lie beside the chain of events; the event of their run holds this.
    """
    return rows_hash([row[name] for name in MARK_FIELDS] for row in rows)


def rows_hash(rows: Iterable[Any]) -> str:
    """The same of rows that begin with :data:`MARK_FIELDS`, in their order."""
    digest, many = hashlib.sha256(), len(MARK_FIELDS)
    encode = json.JSONEncoder(ensure_ascii=False).encode
    for row in rows:
        digest.update(encode(tuple(row)[:many]).encode())
    return digest.hexdigest()


def chained_hash(previous: str, *fields: int | str) -> str:
    """SHA-256 over the event before and this one's fields, as canonical JSON: its number, time, kind,
    subject, initials and body, in this order."""
    text = json.dumps([previous, *fields], ensure_ascii=False)
    return hashlib.sha256(text.encode()).hexdigest()


def is_intact(row: Mapping[str, Any]) -> bool:
    """Whether an event's row is what it was when it was recorded."""
    fields = [row[name] for name in ("seq", "at", "kind", "subject", "initials", "body")]
    typed = all(isinstance(each, (str, int)) for each in (row["previous"], *fields))
    return typed and bool(row["hash"] == chained_hash(row["previous"], *fields))


def chain_breaks(
    rows: Iterable[Mapping[str, Any]], *, whole: bool = True
) -> Iterator[tuple[int, str]]:
    """Where events do not hang together: the number of one, and how.

    Parameters
    ----------
    rows : iterable of mapping
        Events by their numbers.
    whole : bool
        Whether they begin with the first event; else with any, and are only held together among
        themselves.
    """
    previous: str | None = GENESIS if whole else None
    count = 0
    for row in rows:
        count += 1
        if whole and row["seq"] != count:
            yield count, "is gone, or its number is another"
            count = int(row["seq"])
        elif previous is not None and row["previous"] != previous:
            yield row["seq"], "does not fit the one before"
        if not is_intact(row):
            yield row["seq"], "is not what was recorded"
        previous = row["hash"]


class Register:
    """The register of one case.

    Parameters
    ----------
    location : Path
        The file.
    may_begin : bool
        Whether a new register is begun where there is none. It must not where other parts of the
        case are there already: their register is gone, and an empty one would hide that.

    Raises
    ------
    UserError
        If the file is something else than a register, or is gone.
    """

    def __init__(self, location: Path, *, may_begin: bool = True) -> None:
        self._location = location
        if not may_begin and not location.exists():
            raise UserError(
                f"{location} is gone, though other parts of the case are there: restore it from a "
                "copy; no new register is begun, which would lose every review without a word"
            )
        with self._in_turn():
            # This program says when a transaction begins; the driver would begin it late.
            self._connection = sqlite3.connect(location, timeout=PATIENCE, isolation_level=None)
            self._connection.row_factory = sqlite3.Row
            if not self._is_begun():
                self._begin(may_begin)
            self._check_size()
            self._check_form()

    @property
    def location(self) -> Path:
        return self._location

    def close(self) -> None:
        self._connection.close()

    @contextmanager
    def writing(self) -> Iterator[Writer]:
        """One transaction: all of it is recorded, or nothing.

        It holds the register for itself from its beginning. What is read within it is so until it
        ends: every check that a write depends on belongs here.
        """
        with self._in_turn(), self._transaction() as writer:
            for name, columns in INDEXES.items():
                self._connection.execute(f"CREATE INDEX IF NOT EXISTS {name} ON {columns}")
            yield writer

    def events(self, *kinds: str, subject: str | None = None) -> list[Event]:
        """Events of these kinds (all when none is named), oldest first.

        Raises
        ------
        UserError
            If one of them was altered.
        """
        conditions = ["kind IN (SELECT value FROM json_each(:kinds))"] if kinds else []
        conditions += ["subject = :subject"] if subject is not None else []
        where = f"WHERE {' AND '.join(conditions)}" if conditions else ""
        found = self.read(
            f"SELECT * FROM events {where} ORDER BY seq",
            {"kinds": json.dumps(kinds), "subject": subject},
        )
        return [self._event(row) for row in found]

    def _event(self, row: Mapping[str, Any]) -> Event:
        """An event that is what it was when it was recorded."""
        if not is_intact(row):
            raise self._altered(row["seq"], "is not what was recorded")
        return Event(**{**dict(row), "body": json.loads(row["body"])})

    def _altered(self, seq: object, how: str) -> UserError:
        return UserError(f"{self._location}: the review register was altered: event {seq} {how}")

    def verify(self) -> tuple[int, str]:
        """Walk the chain; the number of events and the last hash.

        Raises
        ------
        UserError
            If an event does not fit the one before it: the register was altered.
        """
        for seq, how in self.breaks():
            raise self._altered(seq, how)
        (row,) = self.read("SELECT COUNT(*) AS events, MAX(seq) AS last FROM events")
        head = self.read("SELECT hash FROM events WHERE seq = :last", {"last": row["last"]})
        return row["events"], head[0]["hash"] if head else GENESIS

    def breaks(self) -> Iterator[tuple[int, str]]:
        """Where the chain does not hold: the number of an event, and how."""
        with self._in_turn():
            yield from chain_breaks(self._connection.execute("SELECT * FROM events ORDER BY seq"))

    def read(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> list[Mapping[str, Any]]:
        """Rows of a query over events, exceptions and marks, each by the names of its columns."""
        with self._in_turn():
            return self._connection.execute(statement, values or {}).fetchall()

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
                    f"{self._location} is empty, though other parts of the case are there: restore "
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
        if self._location.stat().st_size % size:
            raise UserError(f"{self._location}: it was cut; restore the case's folder from a copy")

    def _check_form(self) -> None:
        for table, columns in TABLES.items():
            wanted = {line.split()[0].strip('"') for line in columns.split("\n") if line.strip()}
            have = {row["name"] for row in self._connection.execute(f"PRAGMA table_info({table})")}
            if lacking := sorted(wanted - {"UNIQUE", "PRIMARY"} - have):
                raise UserError(
                    f"{self._location}: table {table!r} lacks {lacking[0]!r}: the file is no register "
                    "of this program, or of another version of it"
                )

    @contextmanager
    def _transaction(self) -> Iterator[Writer]:
        # A writer takes its lock at the start: two commands at once then wait, and neither is lost.
        self._connection.execute("BEGIN IMMEDIATE")
        writer = Writer(self._connection)
        undone = False
        try:
            yield writer
            self._connection.execute("COMMIT")
        except BaseException:
            if self._connection.in_transaction:
                undone = True
                with suppress(sqlite3.Error):  # closing undoes it as well
                    self._connection.execute("ROLLBACK")
            else:
                # A driver that failed undid it by itself; one that was interrupted did not.
                undone = not self._holds(writer.last)
            raise
        finally:
            if not undone:
                writer.committed = True
                note_recorded(writer.appended)

    def _holds(self, last: Event | None) -> bool:
        """Whether an event stands in the register after all."""
        with suppress(sqlite3.Error):
            query = "SELECT 1 FROM events WHERE seq = ? AND hash = ?"
            wanted = (last.seq, last.hash) if last else (0, "")
            return self._connection.execute(query, wanted).fetchone() is not None
        return False

    @contextmanager
    def _in_turn(self) -> Iterator[None]:
        """What the file or another command does not allow, as a sentence."""
        try:
            yield
        except UnicodeDecodeError as error:
            fault = _FAULTS[sqlite3.SQLITE_CORRUPT]
            raise UserError(f"{self._location}: {fault} ({error.reason})") from None
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
            raise UserError(f"{self._location}: {_FAULTS[code]} ({error})") from None


class Writer:
    """Appends within one transaction.

    ``committed`` tells, once the transaction is over, whether what was appended is recorded.
    """

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        self.committed = False
        self.appended: list[str] = []
        self.last: Event | None = None

    def append(self, kind: str, subject: str, initials: str, body: Json) -> Event:
        """Append an event to the chain."""
        last = self._connection.execute(
            "SELECT seq, hash FROM events ORDER BY seq DESC LIMIT 1"
        ).fetchone()
        seq, previous = (last["seq"] + 1, last["hash"]) if last else (1, GENESIS)
        at = datetime.now(UTC).isoformat(timespec="seconds")
        text = json.dumps(body, ensure_ascii=False, sort_keys=True)
        digest = chained_hash(previous, seq, at, kind, subject, initials, text)
        fields = (seq, at, kind, subject, initials, text, previous, digest)
        self._connection.execute("INSERT INTO events VALUES (?, ?, ?, ?, ?, ?, ?, ?)", fields)
        self.appended.append(f"{kind} of {subject} (event {seq})")
        self.last = Event(seq, at, kind, subject, initials, body, previous, digest)
        return self.last

    def subjects(self, kind: str) -> list[str]:
        """Subjects of the events of a kind."""
        query = "SELECT subject FROM events WHERE kind = ?"
        return [row["subject"] for row in self._connection.execute(query, (kind,))]

    def identities(self, keys: Iterable[tuple[str, str]]) -> dict[tuple[str, str], str]:
        """(table, key) -> id of those of some subjects that are exceptions already."""
        query = (
            "SELECT exceptions.table_name, exceptions.key, exceptions.id "
            "FROM json_each(?) AS wanted JOIN exceptions "
            "ON exceptions.table_name = json_extract(wanted.value, '$[0]') "
            "AND exceptions.key = json_extract(wanted.value, '$[1]')"
        )
        found = self._connection.execute(query, (json.dumps(list(keys)),))
        return {(row[0], row[1]): row[2] for row in found}

    def holder(self, identity: str) -> tuple[str, str] | None:
        """The (table, key) that has an id."""
        query = "SELECT table_name, key FROM exceptions WHERE id = ?"
        row = self._connection.execute(query, (identity,)).fetchone()
        return None if row is None else (row[0], row[1])

    def add_exceptions(self, rows: Sequence[Cells]) -> None:
        self._insert("exceptions", rows)

    def add_marks(self, rows: Sequence[Cells]) -> None:
        self._insert("marks", rows)

    def _insert(self, table: str, rows: Sequence[Cells]) -> None:
        if rows:
            names = ", ".join(f'"{name}"' for name in rows[0])
            values = ", ".join(f":{name}" for name in rows[0])
            statement = f"INSERT INTO {table} ({names}) VALUES ({values})"
            self._connection.executemany(statement, rows)
