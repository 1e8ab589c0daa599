"""DuckDB in this process: the default engine."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from tempfile import TemporaryDirectory
from typing import Any

import duckdb
import pyarrow as pa
import sqlglot.expressions as exp
from sqlglot.dialects.duckdb import DuckDB

from sabueso.population.engines.answers import Answers
from sabueso.population.engines.few_rows import as_table, gives_few
from sabueso.population.engines.interface import (
    EngineSettings,
    QueryError,
    base_length,
    column_text,
    derived_columns,
    part_bytes,
    part_files,
    written,
)
from sabueso.population.engines.resident import Resident
from sabueso.population.table import Column, Part, Table

_KEPT = '"rows of a table that is kept"'


# This engine's own text for each building block without a common name. A sum of BIGINT is 128 bits
# wide here.
_OWN = {
    "EXACT_SUM": "CAST(SUM({0}) AS DECIMAL(38, 0))",
    "EXACT_WEIGHTED_SUM": "CAST(SUM(CAST({0} AS HUGEINT) * {1}) AS DECIMAL(38, 0))",
    "EXACT_PRODUCT_SUM": "CAST(SUM(CAST({0} AS HUGEINT) * {1}) AS DECIMAL(38, 0))",
    "EXACT_SQUARE_SUM": "CAST(SUM(CAST({0} AS HUGEINT) * {0}) AS DECIMAL(38, 0))",
    "EXACT_QUANTILES": "QUANTILE_CONT({0}, {1})",
    "WHOLE_DIVISION": "({0} // {1})",
}


LEAN = "800MB"
"""Memory of an engine that was given none: nearly all fits into it, or goes to the disk for a while at little
cost. For what does neither, all that the machine has is taken."""
STREAMED = 100_000
"""Rows of a batch that is streamed."""
ALONE_BYTES = 4_000_000
"""On the disk, of the largest table that one thread is enough for: about the rows that a thread takes at once."""


class EmbeddedEngine:
    """One in-memory connection; tables are views over their Parquet files."""

    renders = frozenset(_OWN)

    def __init__(self, settings: EngineSettings) -> None:
        # One thread is the cheapest for what has the rows of one; more are begun with the first table of many.
        self._connection = duckdb.connect(":memory:", config={"threads": 1})
        self._alone = not settings.threads
        self._directories: set[str] = set()
        self._resident = Resident()
        self._answers = Answers()
        self._lean = not settings.memory
        # What does not fit into the memory goes to the disk, where no other user reads it.
        self._spill = TemporaryDirectory(prefix="sabueso-", ignore_cleanup_errors=True)
        self._connection.execute(f"SET temp_directory = {_quoted(self._spill.name)}")
        try:
            self._connection.execute(f"SET memory_limit = {_quoted(settings.memory or LEAN)}")
        except duckdb.Error as error:
            raise QueryError(
                f"[engine] memory = {settings.memory!r}: {_first_line(error)}"
            ) from None
        try:
            if settings.threads:
                self._connection.execute(f"SET threads = {int(settings.threads)}")
        except duckdb.Error as error:
            raise QueryError(
                f"[engine] threads = {settings.threads}: {_first_line(error)}"
            ) from None
        # Progress is this program's to show; the order of a result is what its query states.
        self._connection.execute("SET enable_progress_bar = false")
        if not settings.keep_order:
            self._connection.execute("SET preserve_insertion_order = false")

    def attach(self, table: Table) -> None:
        for part in table.parts:
            self._directories.update(file.rpartition("/")[0] for file in part_files(part))
        if self._alone and sum(map(part_bytes, table.parts)) > ALONE_BYTES:
            self._alone = False
            self._connection.execute("RESET threads")
        self._answers.attached(table)
        name = _name(table.name)
        if self._resident.forget(name):
            self._execute(f"DROP TABLE {name}")
        self._execute(self.view(table))
        self._resident.attached(table, name)

    def view(self, table: Table) -> str:
        """The statement that makes a table's rows known."""
        selects = []
        for part in table.parts:
            values = ", ".join(_value(c, part) for c in table.stored)
            listed = ", ".join(_quoted(file) for file in part_files(part))
            place = ", filename = true, file_row_number = true" if part.base is not None else ""
            selects.append(f"SELECT {values} FROM read_parquet([{listed}]{place})")
        body = " UNION ALL ".join(selects)
        for name, tree in derived_columns(table):
            body = f"SELECT *, {render(tree)} AS {_name(name)} FROM ({body})"
        return f"CREATE OR REPLACE VIEW {_name(table.name)} AS {body}"

    def statement(self, tree: exp.Expr) -> str:
        """A tree as this engine runs it."""
        return render(tree)

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        statement = render(tree)
        known = None if inputs else self._answers.known(statement)
        if known is not None:
            return known
        run = self._few if gives_few(tree, _OWN) else self._rows
        for name, data in inputs.items():
            self._connection.register(name, data)
        try:
            found = self._execute(statement, run)
        finally:
            for name in inputs:
                self._connection.unregister(name)
        if not inputs:
            self._answers.keep(statement, found)
        return found

    def stream(self, tree: exp.Expr, **inputs: pa.Table) -> Iterator[pa.RecordBatch]:
        for name, data in inputs.items():
            self._connection.register(name, data)
        try:
            try:
                yield from self._streamed(render(tree))
            except duckdb.Error as error:
                raise QueryError(_first_line(error)) from error
        finally:
            for name in inputs:
                self._connection.unregister(name)

    def _keep(self, name: str) -> None:
        """Take the rows of a view into memory, under its name."""
        try:
            with _transaction(self._connection):
                self._connection.execute(f"CREATE TABLE {_KEPT} AS SELECT * FROM {name}")
                self._connection.execute(f"DROP VIEW {name}")
                self._connection.execute(f"ALTER TABLE {_KEPT} RENAME TO {name}")
        except duckdb.Error:
            # No room, or a derived column that has no value somewhere: it stays a view, and who asks for what
            # cannot be had is told then.
            self._resident.forget(name)
        except BaseException:  # interrupted, and a session goes on
            self._resident.forget(name)
            raise

    def _streamed(self, statement: str) -> Iterator[pa.RecordBatch]:
        begun = False
        try:
            for batch in self._relation(statement).to_arrow_reader(STREAMED):
                begun = True
                yield batch
        except duckdb.OutOfMemoryException:
            if begun or not self._lean:
                raise
            self._take_all()
            yield from self._relation(statement).to_arrow_reader(STREAMED)

    def stage(self, name: str, tree: exp.Expr, **inputs: pa.Table) -> None:
        for known, data in inputs.items():
            self._connection.register(known, data)
        self._answers.staged(name)
        try:
            self._execute(f"CREATE OR REPLACE TEMP TABLE {_name(name)} AS {render(tree)}")
        finally:
            for known in inputs:
                self._connection.unregister(known)

    def unstage(self, name: str) -> None:
        self._execute(f"DROP TABLE IF EXISTS {_name(name)}")

    def lock(self) -> None:
        allowed = ", ".join(_quoted(f"{folder}/") for folder in sorted(self._directories))
        self._connection.execute(f"SET allowed_directories = [{allowed}]")
        # Neither this nor what it allows can be changed from here on.
        self._connection.execute("SET enable_external_access = false")

    def close(self) -> None:
        self._connection.close()
        self._spill.cleanup()

    def _execute(self, statement: str, run: Callable[[str], Any] | None = None) -> Any:
        for name in self._resident.due(statement):
            self._keep(name)
        run = run or self._connection.execute
        try:
            try:
                return run(statement)
            except duckdb.OutOfMemoryException:
                if not self._lean:
                    raise
                self._take_all()
                return run(statement)
        except duckdb.Error as error:
            raise QueryError(_first_line(error)) from error

    def _rows(self, statement: str) -> Any:
        return self._relation(statement).to_arrow_table()

    def _few(self, statement: str) -> Any:
        """What a statement of a few rows gives."""
        found = self._connection.execute(statement)
        table = as_table(found.description, found.fetchall())
        return self._rows(statement) if table is None else table

    def _relation(self, statement: str) -> Any:
        """What a statement gives. A text is parsed once more, at a third of what a small statement takes, where it is not
        given as parsed."""
        (parsed,) = self._connection.extract_statements(statement)
        return self._connection.sql(parsed)

    def _take_all(self) -> None:
        """From here on use what memory the machine has: something does not fit into less."""
        self._lean = False
        self._connection.execute("RESET memory_limit")


@contextmanager
def _transaction(connection: duckdb.DuckDBPyConnection) -> Iterator[None]:
    connection.begin()
    try:
        yield
    except BaseException:
        connection.rollback()
        raise
    connection.commit()


def render(tree: exp.Expr) -> str:
    """The SQL text of a tree for this engine."""
    return written(tree, DuckDB, _OWN)


def _value(column: Column, part: Part) -> str:
    file = f"SUBSTR(filename, {base_length(part) + 1})"
    return column_text(column, part, _name(column.name), _type(column), file, "file_row_number")


def _quoted(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def _name(value: str) -> str:
    return '"' + value.replace('"', '""') + '"'


def _type(column: Any) -> str:
    kinds = {"text": "VARCHAR", "date": "DATE", "timestamp": "TIMESTAMP", "time": "TIME"}
    if column.type == "number":
        return f"DECIMAL({column.precision},{column.scale})"
    return kinds[column.type]


def _first_line(error: Exception) -> str:
    text = (str(error).strip().splitlines() or [type(error).__name__])[0]
    return text.split("Error: ", 1)[-1]
