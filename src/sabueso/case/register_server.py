"""The register on a server, for a team: the same tables and the same chain in a schema of PostgreSQL."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from sabueso.base.errors import UserError
from sabueso.case.register import INDEXES, PATIENCE, TABLES, Event, Register

if TYPE_CHECKING:
    import psycopg

# A colleague whose machine died must not hold the register: the server looks for it after a minute.
_SETTINGS = (
    f"SET lock_timeout = '{PATIENCE}s'",
    "SET tcp_keepalives_idle = 60",
    "SET tcp_keepalives_interval = 10",
    "SET tcp_keepalives_count = 3",
)
_GUARD = """
    CREATE FUNCTION {schema}.append_only() RETURNS trigger LANGUAGE plpgsql AS
    $$ BEGIN RAISE EXCEPTION 'the register is append-only'; END $$
"""
_PARAMETER = re.compile(r"(?<!:):(\w+)")


class ServerRegister(Register):
    """The register in a schema of a PostgreSQL database.

    Parameters
    ----------
    url : str
        ``postgresql://user@server/database``. A password is better kept where the database's own
        tools look for it: the environment's PGPASSWORD, or the user's password file.
    schema : str
        The schema: one for each case.
    may_begin : bool
        Whether a new register is begun where the schema has none.
    fresh : bool
        Whether the schema must have none: two cases in one would be one chain of both.

    Raises
    ------
    UserError
        If the server cannot be reached, has none where there must be one, or one where there must
        be none.
    """

    def __init__(
        self, url: str, schema: str, *, may_begin: bool = True, fresh: bool = False
    ) -> None:
        self.location = f"{without_password(url)}, schema {schema}"
        self._url, self._schema = url, schema
        self._driver = _driver()
        with self._in_turn():
            self._connection = self._connect()
            if fresh or not self._is_begun():
                self._begin(may_begin, fresh)
            self._check_form(self._columns())

    def close(self) -> None:
        self._connection.close()

    def _connect(self) -> psycopg.Connection[Any]:
        connection = self._driver.connect(
            self._url, autocommit=True, connect_timeout=PATIENCE, row_factory=_rows
        )
        for setting in (*_SETTINGS, f"SET search_path = {self._schema}"):
            connection.execute(setting)
        return connection

    def _columns(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        query = (
            "SELECT table_name, column_name FROM information_schema.columns "
            "WHERE table_schema = :schema"
        )
        for row in self._run(query, {"schema": self._schema}):
            found.setdefault(row["table_name"], []).append(row["column_name"])
        return found

    def _is_begun(self) -> bool:
        return "events" in self._columns()

    def _begin(self, may_begin: bool, fresh: bool) -> None:
        self._begin_transaction()
        try:
            # Two commands may begin at once: the second waits for the first, and finds it begun.
            begun = self._is_begun()
            if begun and fresh:
                raise UserError(
                    f"{self.location}: it holds the register of a case already; give this one a schema "
                    "of its own with --schema"
                )
            if not begun:
                if not may_begin:
                    raise UserError(
                        f"{self.location}: there is no register there, though other parts of the case "
                        "are here: restore it from a copy; no new register is begun, which would "
                        "lose every review without a word"
                    )
                self._make_tables()
            self._commit()
        except BaseException:
            self._roll_back()
            raise

    def _make_tables(self) -> None:
        self._connection.execute(f"CREATE SCHEMA IF NOT EXISTS {self._schema}")
        self._connection.execute(_GUARD.format(schema=self._schema))
        for table, columns in TABLES.items():
            # Texts compare by their bytes, as in a file: a queue is the same in either.
            columns = columns.replace(" TEXT", ' TEXT COLLATE "C"')
            self._connection.execute(f"CREATE TABLE {table} ({columns})")
            for action, each in (
                ("UPDATE OR DELETE", "ROW"), ("TRUNCATE", "STATEMENT"),
            ):  # fmt: skip
                name = f"no_{action.split()[0].lower()}_{table}"
                self._connection.execute(
                    f"CREATE TRIGGER {name} BEFORE {action} ON {table} "
                    f"FOR EACH {each} EXECUTE FUNCTION {self._schema}.append_only()"
                )
        for name, on in INDEXES.items():
            self._connection.execute(f"CREATE INDEX {name} ON {on}")

    def _run(
        self, statement: str, values: Mapping[str, Any] | None = None
    ) -> Iterable[Mapping[str, Any]]:
        statement = statement.replace("json_each(", "json_array_elements_text(")
        statement = re.sub(r"(json_array_elements_text\(:\w+)\)", r"\1 ::json)", statement)
        cursor = self._connection.execute(_PARAMETER.sub(r"%(\1)s", statement), values or {})
        return cursor if cursor.description else ()

    def _add(self, table: str, names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
        columns = ", ".join(f'"{name}"' for name in names)
        with (
            self._connection.cursor() as cursor,
            cursor.copy(f"COPY {table} ({columns}) FROM STDIN") as copy,
        ):
            for row in rows:
                copy.write_row([int(v) if isinstance(v, bool) else v for v in row])

    def _complete(self) -> None:
        """No version before this one put a register on a server."""

    def _begin_transaction(self) -> None:
        # A lock by name needs no right to change a table: a role that may only read and insert can
        # review, and can remove nothing.
        self._connection.execute("BEGIN")
        try:
            key = f"sabueso register {self._schema}"
            self._connection.execute(
                "SELECT pg_advisory_xact_lock(hashtextextended(%s, 0))", (key,)
            )
        except BaseException:
            self._roll_back()
            raise

    def _commit(self) -> None:
        self._connection.execute("COMMIT")

    def _roll_back(self) -> bool:
        from psycopg.pq import TransactionStatus

        if self._connection.info.transaction_status in (
            TransactionStatus.IDLE, TransactionStatus.UNKNOWN,
        ):  # fmt: skip
            return False
        with suppress(self._driver.Error):  # the server undoes it as well once the line is cut
            self._connection.execute("ROLLBACK")
        return True

    def _holds(self, last: Event | None) -> bool:
        """Asked over a new line where the old one was lost while the end was on its way."""
        with suppress(self._driver.Error):
            if self._connection.closed:
                self._connection = self._connect()
            query = "SELECT 1 FROM events WHERE seq = :seq AND hash = :hash"
            wanted = {"seq": last.seq, "hash": last.hash} if last else {"seq": 0, "hash": ""}
            return bool(list(self._run(query, wanted)))
        return False

    @contextmanager
    def _in_turn(self) -> Iterator[None]:
        errors = self._driver.errors
        try:
            yield
        except errors.LockNotAvailable:
            raise UserError(
                f"another command has been writing to the case for {PATIENCE} s; nothing was "
                "recorded, try again when it is done"
            ) from None
        except errors.InsufficientPrivilege as error:
            raise UserError(f"{self.location}: access is denied ({_brief(error)})") from None
        except errors.ReadOnlySqlTransaction:
            raise UserError(f"{self.location}: cannot be written: it is read-only") from None
        except (errors.DiskFull, errors.OutOfMemory) as error:
            raise UserError(
                f"{self.location}: cannot be written ({_brief(error)}); nothing was recorded"
            ) from None
        except (errors.UndefinedTable, errors.UndefinedColumn, errors.InvalidSchemaName) as error:
            raise UserError(
                f"{self.location}: is of another form than this program's registers ({_brief(error)})"
            ) from None
        except (self._driver.OperationalError, self._driver.InterfaceError) as error:
            raise UserError(
                f"{self.location}: the register's server cannot be reached, or ended the connection "
                f"({_brief(error)})"
            ) from None
        except self._driver.ProgrammingError as error:
            raise UserError(f"{self.location}: {_brief(error)}") from None


class _Row(tuple[Any, ...]):
    """A row by the places and by the names of its columns, as the file's driver gives it."""

    names: Mapping[str, int]

    def __getitem__(self, name: Any) -> Any:
        return super().__getitem__(self.names[name] if isinstance(name, str) else name)

    def keys(self) -> Iterable[str]:
        return self.names


def _rows(cursor: psycopg.Cursor[Any]) -> Callable[[Sequence[Any]], _Row]:
    names = {each.name: place for place, each in enumerate(cursor.description or ())}
    kind = type("_Row", (_Row,), {"names": names})
    return kind


def without_password(url: str) -> str:
    """A database's URL as it may be printed."""
    parts = urlsplit(url)
    user = f"{parts.username}@" if parts.username else ""
    place = parts.netloc.rpartition("@")[2]
    query = f"?{parts.query}" if parts.query and "password" not in parts.query.lower() else ""
    return f"{parts.scheme}://{user}{place}{parts.path}{query}"


def _brief(error: Exception) -> str:
    """The first line of what the server says."""
    return (str(error).strip().splitlines() or ["no word of why"])[0]


def _driver() -> Any:
    try:
        import psycopg
    except ImportError:
        raise UserError(
            "a register on a server needs its driver; install it with: pip install 'sabueso[postgres]'"
        ) from None
    return psycopg
