"""The review register: append-only and hash-chained, tables of plain SQL that any later tool can read.

It is a file of the case (:mod:`~sabueso.case.register_file`) or lies on a server for a team
(:mod:`~sabueso.case.register_server`); what an event is, and how events hang together, is here.
"""

from __future__ import annotations

import hashlib
import json
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
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
EVENT_FIELDS = ("seq", "at", "kind", "subject", "initials", "body", "previous", "hash")
GENESIS = "0" * 64


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
    encode = _encoder()
    for row in rows:
        digest.update("".join(encode(tuple(row)[:many])).encode())
    return digest.hexdigest()


def _encoder() -> Callable[[Any], Iterable[str]]:
    """JSON of many small values: the library makes its encoder anew for each, which takes longer than
    the values do."""
    made = getattr(json.encoder, "c_make_encoder", None)
    if made is None:  # an interpreter without it
        return lambda value: [json.dumps(value, ensure_ascii=False)]
    plain = json.encoder.JSONEncoder(ensure_ascii=False)
    encode = made(
        None, plain.default, json.encoder.encode_basestring, None,
        plain.key_separator, plain.item_separator, False, False, True,
    )  # fmt: skip
    return lambda value: encode(value, 0)


def chained_hash(previous: str, *fields: int | str) -> str:
    """SHA-256 over the event before and this one's fields, as canonical JSON: its number, time, kind,
    subject, initials and body, in this order."""
    text = json.dumps([previous, *fields], ensure_ascii=False)
    return hashlib.sha256(text.encode()).hexdigest()


def is_intact(row: Mapping[str, Any]) -> bool:
    """Whether an event's row is what it was when it was recorded."""
    fields = [row[name] for name in EVENT_FIELDS[:6]]
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


class Register(ABC):
    """The register of one case.

    Statements are written with parameters such as ``:run``; ``json_each(:ids)`` gives the values of a
    list that is handed over as JSON. Each place a register lies in puts them into its own words.
    """

    location: str
    """Where it lies, in words; without a password."""

    def state(self) -> str:
        """What tells that nothing was written to it since; empty where nothing does."""
        return ""

    @abstractmethod
    def close(self) -> None:
        """Let go of it."""

    @contextmanager
    def writing(self) -> Iterator[Writer]:
        """One transaction: all of it is recorded, or nothing.

        It holds the register for itself from its beginning. What is read within it is so until it
        ends: every check that a write depends on belongs here.
        """
        with self._in_turn(), self._transaction() as writer:
            self._complete()
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
        return UserError(f"{self.location}: the review register was altered: event {seq} {how}")

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
            yield from chain_breaks(self._run("SELECT * FROM events ORDER BY seq"))

    def read(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> list[Mapping[str, Any]]:
        """Rows of a query over events, exceptions and marks, each by the names of its columns."""
        with self._in_turn():
            return list(self._run(statement, values or {}))

    @contextmanager
    def _transaction(self) -> Iterator[Writer]:
        """Where leaving it fails, it is found out whether the register has what was appended."""
        # A writer takes its lock at the start: two commands at once then wait, and neither is lost.
        self._begin_transaction()
        writer = Writer(self)
        undone = False
        try:
            yield writer
            self._commit()
        except BaseException:
            undone = self._roll_back() or not self._holds(writer.last)
            raise
        finally:
            if not undone:
                writer.committed = True
                note_recorded(writer.appended)

    @abstractmethod
    def _holds(self, last: Event | None) -> bool:
        """Whether an event stands in the register after all."""

    @abstractmethod
    def _run(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> Iterable[Mapping[str, Any]]:
        """Rows of a statement in the words of this module."""

    @abstractmethod
    def _add(self, table: str, names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
        """Append rows to a table."""

    @abstractmethod
    def _complete(self) -> None:
        """Add what a register of an earlier version may lack."""

    @abstractmethod
    def _begin_transaction(self) -> None:
        """Begin one, with the register held for this command alone."""

    @abstractmethod
    def _commit(self) -> None:
        """End it; what was appended is recorded."""

    @abstractmethod
    def _roll_back(self) -> bool:
        """Undo it; False where it was over already, and its end is not known."""

    @abstractmethod
    def _in_turn(self) -> AbstractContextManager[None]:
        """What the file, the server or another command does not allow, as a sentence."""

    def _check_form(self, columns_of: Mapping[str, Iterable[str]]) -> None:
        """Refuse tables that are not this program's."""
        for table, columns in TABLES.items():
            wanted = {line.split()[0].strip('"') for line in columns.split("\n") if line.strip()}
            lacking = sorted(wanted - {"UNIQUE", "PRIMARY"} - set(columns_of.get(table, ())))
            if lacking:
                raise UserError(
                    f"{self.location}: table {table!r} lacks {lacking[0]!r}: it is no register of this "
                    "program, or of another version of it"
                )


class Writer:
    """Appends within one transaction.

    ``committed`` tells, once the transaction is over, whether what was appended is recorded.
    """

    def __init__(self, register: Register) -> None:
        self._register = register
        self.committed = False
        self.appended: list[str] = []
        self.last: Event | None = None

    def append(self, kind: str, subject: str, initials: str, body: Json) -> Event:
        """Append an event to the chain."""
        last = list(self._run("SELECT seq, hash FROM events ORDER BY seq DESC LIMIT 1"))
        seq, previous = (last[0]["seq"] + 1, last[0]["hash"]) if last else (1, GENESIS)
        at = datetime.now(UTC).isoformat(timespec="seconds")
        text = json.dumps(body, ensure_ascii=False, sort_keys=True)
        digest = chained_hash(previous, seq, at, kind, subject, initials, text)
        fields = (seq, at, kind, subject, initials, text, previous, digest)
        self._register._add("events", EVENT_FIELDS, [fields])
        # A run is called by its number, all else by what it is of.
        of = "" if kind == "run" else "of "
        self.appended.append(f"{kind} {of}{subject} (event {seq})")
        self.last = Event(seq, at, kind, subject, initials, body, previous, digest)
        return self.last

    def subjects(self, kind: str) -> list[str]:
        """Subjects of the events of a kind."""
        query = "SELECT subject FROM events WHERE kind = :kind"
        return [row["subject"] for row in self._run(query, {"kind": kind})]

    def identities(self, keys: Iterable[tuple[str, str]]) -> dict[tuple[str, str], tuple[str, str]]:
        """(table, key) -> id and kind of those of some subjects that are exceptions already."""
        wanted = list(keys)
        found = self._run(
            "SELECT table_name, key, id, kind FROM exceptions WHERE key IN "
            "(SELECT value FROM json_each(:keys))",
            {"keys": json.dumps([key for _, key in wanted])},
        )
        known = {(row["table_name"], row["key"]): (row["id"], row["kind"]) for row in found}
        return {each: known[each] for each in wanted if each in known}

    def holder(self, identity: str) -> tuple[str, str] | None:
        """The (table, key) that has an id."""
        query = "SELECT table_name, key FROM exceptions WHERE id = :id"
        rows = list(self._run(query, {"id": identity}))
        return (rows[0]["table_name"], rows[0]["key"]) if rows else None

    def add_exceptions(self, rows: Sequence[Cells]) -> None:
        self._insert("exceptions", rows)

    def add_marks(self, rows: Sequence[Cells]) -> None:
        self._insert("marks", rows)

    def copy(self, table: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Append rows of another register as they are."""
        if rows:
            self._register._add(table, list(rows[0].keys()), map(tuple, rows))

    def _insert(self, table: str, rows: Sequence[Cells]) -> None:
        if rows:
            names = list(rows[0])
            self._register._add(table, names, ([row[name] for name in names] for row in rows))

    def _run(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> Iterable[Mapping[str, Any]]:
        return self._register._run(statement, values)
