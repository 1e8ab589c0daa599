"""The review register: append-only and hash-chained, an SQLite file that any later tool can read."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sabueso.errors import UserError

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
GENESIS = "0" * 64


@dataclass(frozen=True)
class Event:
    """One thing that happened; never edited, never deleted."""

    seq: int
    at: str
    kind: str
    subject: str
    initials: str
    body: dict[str, Any]
    previous: str
    hash: str


def chained_hash(
    previous: str, seq: int, at: str, kind: str, subject: str, initials: str, body: str
) -> str:
    """SHA-256 over the event before and this one's fields, as canonical JSON."""
    fields = json.dumps([previous, seq, at, kind, subject, initials, body], ensure_ascii=False)
    return hashlib.sha256(fields.encode()).hexdigest()


class Register:
    """The register of one case.

    Raises
    ------
    UserError
        If the file is something else than a register.
    """

    def __init__(self, location: Path) -> None:
        self._location = location
        # This program says when a transaction begins; the driver would begin it late.
        self._connection = sqlite3.connect(location, timeout=PATIENCE, isolation_level=None)
        self._connection.row_factory = sqlite3.Row
        with self._in_turn():
            known = "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'events'"
            if self._connection.execute(known).fetchone() is None:
                self._create()

    def close(self) -> None:
        self._connection.close()

    @contextmanager
    def writing(self) -> Iterator[Writer]:
        """One transaction: all of it is recorded, or nothing."""
        with self._in_turn(), self._transaction():
            yield Writer(self._connection)

    def events(self, *kinds: str, subject: str | None = None) -> list[Event]:
        """Events of these kinds (all when none is named), oldest first."""
        conditions = ["kind IN (SELECT value FROM json_each(:kinds))"] if kinds else []
        conditions += ["subject = :subject"] if subject is not None else []
        where = f"WHERE {' AND '.join(conditions)}" if conditions else ""
        found = self.read(
            f"SELECT * FROM events {where} ORDER BY seq",
            {"kinds": json.dumps(kinds), "subject": subject},
        )
        return [Event(**{**row, "body": json.loads(row["body"])}) for row in map(dict, found)]

    def verify(self) -> tuple[int, str]:
        """Walk the chain; the number of events and the last hash.

        Raises
        ------
        UserError
            If an event does not fit the one before it: the register was altered.
        """
        previous, count = GENESIS, 0
        for row in self._connection.execute("SELECT * FROM events ORDER BY seq"):
            fields = [row[name] for name in ("seq", "at", "kind", "subject", "initials", "body")]
            expected = chained_hash(previous, *fields)
            count += 1
            if row["seq"] != count or row["previous"] != previous or row["hash"] != expected:
                raise UserError(
                    f"the review register was altered: event {row['seq']} does not fit the one before"
                )
            previous = row["hash"]
        return count, previous

    def read(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> list[Mapping[str, Any]]:
        """Rows of a query over events, exceptions and marks, each by the names of its columns."""
        with self._in_turn():
            return self._connection.execute(statement, values or {}).fetchall()

    def _create(self) -> None:
        with self._transaction():
            for table, columns in TABLES.items():
                # Another command may have come first.
                self._connection.execute(f"CREATE TABLE IF NOT EXISTS {table} ({columns})")
                for action in ("UPDATE", "DELETE"):
                    self._connection.execute(
                        f"CREATE TRIGGER IF NOT EXISTS no_{action.lower()}_{table} "
                        f"BEFORE {action} ON {table} BEGIN "
                        "SELECT RAISE(ABORT, 'the register is append-only'); END"
                    )
            self._connection.execute("CREATE INDEX IF NOT EXISTS ix_events_kind ON events (kind)")

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        # A writer takes its lock at the start: two commands at once then wait, and neither is lost.
        self._connection.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._connection.execute("COMMIT")
        except BaseException:
            if self._connection.in_transaction:
                self._connection.execute("ROLLBACK")
            raise

    @contextmanager
    def _in_turn(self) -> Iterator[None]:
        """Another command that keeps the register to itself for too long is no fault of this one."""
        try:
            yield
        except sqlite3.DatabaseError as error:
            code = getattr(error, "sqlite_errorcode", 0) & 0xFF  # the rest says where in detail
            if code == sqlite3.SQLITE_NOTADB:
                raise UserError(f"{self._location}: not a review register") from None
            if code not in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                raise
            raise UserError(
                f"another command has been writing to the case for {PATIENCE} s; nothing was "
                "recorded, try again when it is done"
            ) from None


class Writer:
    """Appends within one transaction."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def append(self, kind: str, subject: str, initials: str, body: dict[str, Any]) -> Event:
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
        return Event(seq, at, kind, subject, initials, body, previous, digest)

    def subjects(self, kind: str) -> list[str]:
        """Subjects of the events of a kind."""
        query = "SELECT subject FROM events WHERE kind = ?"
        return [row["subject"] for row in self._connection.execute(query, (kind,))]

    def known_exceptions(self) -> dict[str, tuple[str, str]]:
        """Id -> (table, key) of every exception there has been."""
        query = "SELECT id, table_name, key FROM exceptions"
        return {row[0]: (row[1], row[2]) for row in self._connection.execute(query)}

    def add_exceptions(self, rows: Sequence[dict[str, Any]]) -> None:
        self._insert("exceptions", rows)

    def add_marks(self, rows: Sequence[dict[str, Any]]) -> None:
        self._insert("marks", rows)

    def _insert(self, table: str, rows: Sequence[dict[str, Any]]) -> None:
        if rows:
            names = ", ".join(f'"{name}"' for name in rows[0])
            values = ", ".join(f":{name}" for name in rows[0])
            statement = f"INSERT INTO {table} ({names}) VALUES ({values})"
            self._connection.executemany(statement, rows)
