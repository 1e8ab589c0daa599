"""The review register: append-only and hash-chained, on any database that SQLAlchemy reaches."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from sabueso.errors import UserError

_META = sa.MetaData()
PATIENCE = 30  # seconds that a command waits for another one's transaction
EVENTS = sa.Table(
    "events",
    _META,
    sa.Column("seq", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("at", sa.Text, nullable=False),
    sa.Column("kind", sa.Text, nullable=False, index=True),
    sa.Column("subject", sa.Text, nullable=False),
    sa.Column("initials", sa.Text, nullable=False),
    sa.Column("body", sa.Text, nullable=False),
    sa.Column("previous", sa.Text, nullable=False),
    sa.Column("hash", sa.Text, nullable=False),
)
EXCEPTIONS = sa.Table(
    "exceptions",
    _META,
    sa.Column("id", sa.Text, primary_key=True),
    sa.Column("table_name", sa.Text, nullable=False),
    sa.Column("kind", sa.Text, nullable=False),
    sa.Column("key", sa.Text, nullable=False),
    sa.Column("first_run", sa.Integer, nullable=False),
    sa.UniqueConstraint("table_name", "key"),
)
MARKS = sa.Table(
    "marks",
    _META,
    sa.Column("run", sa.Integer, primary_key=True),
    sa.Column("screen", sa.Text, primary_key=True),
    sa.Column("exception", sa.Text, primary_key=True),
    sa.Column("rank", sa.Integer, nullable=False),
    sa.Column("flagged", sa.Integer, nullable=False),
    sa.Column("score", sa.Float),
    sa.Column("limit", sa.Float),
    sa.Column("direction", sa.Text),
    sa.Column("p_adjusted", sa.Float),
    sa.Column("amount", sa.Text),
    sa.Column("at_stake", sa.Float, nullable=False),
    sa.Column("label", sa.Text, nullable=False),
    sa.Column("selector", sa.Text, nullable=False),
)
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
    """The register of one case."""

    def __init__(self, location: Path | str) -> None:
        url = location if isinstance(location, str) else f"sqlite:///{location.as_posix()}"
        local = {"timeout": PATIENCE} if url.startswith("sqlite") else {}
        self._engine = sa.create_engine(url, connect_args=local)
        if self._engine.dialect.name == "sqlite":
            sa.event.listen(self._engine, "connect", _plain_transactions)
            sa.event.listen(self._engine, "begin", _begin_at_once)
        if not sa.inspect(self._engine).has_table("events"):
            with self._engine.begin() as connection:
                _META.create_all(connection)
                if self._engine.dialect.name == "sqlite":
                    _forbid_changes(connection)

    def close(self) -> None:
        self._engine.dispose()

    @contextmanager
    def writing(self) -> Iterator[Writer]:
        """One transaction: all of it is recorded, or nothing."""
        writing = self._engine.execution_options(writing=True)
        with _in_turn(), writing.begin() as connection:
            yield Writer(connection)

    def events(self, *kinds: str, subject: str | None = None) -> list[Event]:
        """Events of these kinds (all when none is named), oldest first."""
        query = sa.select(EVENTS).order_by(EVENTS.c.seq)
        if kinds:
            query = query.where(EVENTS.c.kind.in_(kinds))
        if subject is not None:
            query = query.where(EVENTS.c.subject == subject)
        with _in_turn(), self._engine.connect() as connection:
            return [_event(row) for row in connection.execute(query)]

    def verify(self) -> tuple[int, str]:
        """Walk the chain; the number of events and the last hash.

        Raises
        ------
        UserError
            If an event does not fit the one before it: the register was altered.
        """
        previous, count = GENESIS, 0
        with self._engine.connect() as connection:
            for row in connection.execute(sa.select(EVENTS).order_by(EVENTS.c.seq)):
                expected = chained_hash(
                    previous, row.seq, row.at, row.kind, row.subject, row.initials, row.body
                )
                count += 1
                if row.seq != count or row.previous != previous or row.hash != expected:
                    raise UserError(
                        f"the review register was altered: event {row.seq} does not fit the one before"
                    )
                previous = row.hash
        return count, previous

    def read(self, query: sa.Select[Any]) -> list[sa.Row[Any]]:
        """Run a query over exceptions and marks."""
        with _in_turn(), self._engine.connect() as connection:
            return list(connection.execute(query))


@contextmanager
def _in_turn() -> Iterator[None]:
    """Another command that keeps the register to itself for too long is no fault of this one."""
    try:
        yield
    except sa.exc.OperationalError as error:
        if "locked" not in str(error.orig):
            raise
        raise UserError(
            f"another command has been writing to the case for {PATIENCE} s; nothing was recorded, "
            "try again when it is done"
        ) from None


class Writer:
    """Appends within one transaction."""

    def __init__(self, connection: sa.Connection) -> None:
        self._connection = connection

    def append(self, kind: str, subject: str, initials: str, body: dict[str, Any]) -> Event:
        """Append an event to the chain."""
        last = self._connection.execute(
            sa.select(EVENTS.c.seq, EVENTS.c.hash).order_by(EVENTS.c.seq.desc()).limit(1)
        ).first()
        seq, previous = (last.seq + 1, last.hash) if last else (1, GENESIS)
        at = datetime.now(UTC).isoformat(timespec="seconds")
        text = json.dumps(body, ensure_ascii=False, sort_keys=True)
        digest = chained_hash(previous, seq, at, kind, subject, initials, text)
        row = {
            "seq": seq, "at": at, "kind": kind, "subject": subject, "initials": initials,
            "body": text, "previous": previous, "hash": digest,
        }  # fmt: skip
        self._connection.execute(EVENTS.insert(), row)
        return Event(seq, at, kind, subject, initials, body, previous, digest)

    def subjects(self, kind: str) -> list[str]:
        """Subjects of the events of a kind."""
        query = sa.select(EVENTS.c.subject).where(EVENTS.c.kind == kind)
        return [row.subject for row in self._connection.execute(query)]

    def known_exceptions(self) -> dict[str, tuple[str, str]]:
        """Id -> (table, key) of every exception there has been."""
        query = sa.select(EXCEPTIONS.c.id, EXCEPTIONS.c.table_name, EXCEPTIONS.c.key)
        return {row.id: (row.table_name, row.key) for row in self._connection.execute(query)}

    def add_exceptions(self, rows: list[dict[str, Any]]) -> None:
        if rows:
            self._connection.execute(EXCEPTIONS.insert(), rows)

    def add_marks(self, rows: Iterable[dict[str, Any]]) -> None:
        every = list(rows)
        if every:
            self._connection.execute(MARKS.insert(), every)


def _event(row: sa.Row[Any]) -> Event:
    return Event(
        row.seq, row.at, row.kind, row.subject, row.initials, json.loads(row.body), row.previous,
        row.hash,
    )  # fmt: skip


def _plain_transactions(connection: Any, _record: Any) -> None:
    # The driver would begin a transaction late and end it early; this program says when.
    connection.isolation_level = None


def _begin_at_once(connection: sa.Connection) -> None:
    # A writer takes its lock at the start: two commands at once then wait, and neither is lost.
    writing = connection.get_execution_options().get("writing", False)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if writing else "BEGIN")


def _forbid_changes(connection: sa.Connection) -> None:
    for table in _META.tables:
        for action in ("UPDATE", "DELETE"):
            connection.exec_driver_sql(
                f"CREATE TRIGGER no_{action.lower()}_{table} BEFORE {action} ON {table} BEGIN "
                f"SELECT RAISE(ABORT, 'the register is append-only'); END"
            )
