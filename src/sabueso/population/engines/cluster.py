"""Apache Spark, in this machine's own session, on a cluster's master, or through Spark Connect."""

from __future__ import annotations

import logging
import os
import re
import shutil
import socket
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

import pyarrow as pa
import pyarrow.parquet as pq
import sqlglot.expressions as exp
from sqlglot.dialects.spark import Spark

from sabueso.base.errors import UserError
from sabueso.base.libraries import let_pandas_in
from sabueso.population.engines.embedded import EmbeddedEngine
from sabueso.population.engines.interface import (
    EngineSettings,
    QueryError,
    base_length,
    column_text,
    derived_columns,
    part_files,
    written,
)
from sabueso.population.table import Column, Part, Table

# Sums are of 38 digits; a sum of BIGINT would be 64 bits wide and overflow. The percentile of this
# name is the exact one, interpolated at (n - 1)p.
_OWN = {
    # Decimals of more than 18 digits are objects to Spark. The halves of an integer, of 31 bits, times
    # counts of up to 4,000 million rows add up in 64 bits; beyond, it is an error and no wrong sum.
    "EXACT_SUM": "CAST(CAST(SUM(SHIFTRIGHT(CAST({0} AS BIGINT), 31)) AS DECIMAL(38, 0)) * 2147483648"
    " + SUM(CAST({0} AS BIGINT) & 2147483647) AS DECIMAL(38, 0))",
    "EXACT_WEIGHTED_SUM": "CAST(CAST(SUM(SHIFTRIGHT({0}, 31) * {1}) AS DECIMAL(38, 0)) * 2147483648"
    " + SUM((({0}) & 2147483647) * {1}) AS DECIMAL(38, 0))",
    "EXACT_PRODUCT_SUM": "CAST(SUM(CAST({0} AS DECIMAL(19, 0)) * CAST({1} AS DECIMAL(19, 0)))"
    " AS DECIMAL(38, 0))",
    "EXACT_SQUARE_SUM": "CAST(SUM(CAST({0} AS DECIMAL(19, 0)) * CAST({0} AS DECIMAL(19, 0)))"
    " AS DECIMAL(38, 0))",
    "EXACT_QUANTILES": "PERCENTILE({0}, {1})",
    "WHOLE_DIVISION": "({0} DIV {1})",
}
MOST_FETCHED = 3_000_000
"""Rows of a staged result up to which it is fetched: a few numbers each."""
MOST_AT_ONCE = 16_000_000
"""Rows of a table up to which groups of them are fetched as they are found, and not kept and counted before: as
many as order statistics take at a time."""


def render(tree: exp.Expr) -> str:
    """The SQL text of a tree for this engine."""
    return written(tree, Spark, _OWN)


class ClusterEngine:
    """One session; tables are temporary views over their Parquet files, where they lie.

    With a cluster the files must be where its workers can read them, under the same path.
    """

    renders = frozenset(_OWN)
    moves_groups = True

    def __init__(self, settings: EngineSettings) -> None:
        self._session = _session(settings)
        self._files: dict[str, list[str]] = {}
        self._staged: dict[str, Any] = {}
        self._small: set[str] = set()
        self._fetched: dict[str, pa.Table | None] = {}
        self._here: EmbeddedEngine | None = None

    def attach(self, table: Table) -> None:
        try:
            with _one_line():
                self._attach(table)
        except QueryError as error:
            raise UserError(f"table {table.name!r} cannot be read by Spark: {error}") from None

    def _attach(self, table: Table) -> None:
        whole = None
        for part in table.parts:
            rows = self._session.read.parquet(*(f"file://{file}" for file in part_files(part)))
            selected = rows.selectExpr(*(_value(c, part) for c in table.stored))
            whole = selected if whole is None else whole.unionAll(selected)
        for name, tree in derived_columns(table):
            whole = (
                None if whole is None else whole.selectExpr("*", f"{render(tree)} AS {_name(name)}")
            )
        if whole is not None:
            whole.createOrReplaceTempView(table.name)
            self._files[table.name] = [file for part in table.parts for file in part_files(part)]

    def statement(self, tree: exp.Expr) -> str:
        """A tree as this engine runs it."""
        return render(tree)

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        fetched = self._all_here(tree, inputs)
        if fetched is not None:
            if self._here is None:
                self._here = EmbeddedEngine(EngineSettings())
            return self._here.query(tree, **fetched, **inputs)
        for name in {table.name for table in tree.find_all(exp.Table)} & set(self._staged):
            self._staged[name].persist()  # not before: what is fetched is not kept there as well
        try:
            for name, data in inputs.items():
                self._session.createDataFrame(data).createOrReplaceTempView(name)
            return self._run(render(tree))
        finally:
            for name in inputs:
                self._session.catalog.dropTempView(name)

    def _all_here(
        self, tree: exp.Expr, inputs: Mapping[str, pa.Table]
    ) -> dict[str, pa.Table] | None:
        """What was staged and a tree asks for, where it asks for nothing else and each is small: it is fetched
        once, and what follows is answered here, without a job for each question. The figures are the same."""
        names = {table.name for table in tree.find_all(exp.Table)} - set(inputs)
        if not names or not names <= set(self._staged):
            return None
        for name in names - set(self._fetched):
            kept = self._staged[name]
            with _one_line():
                small = name in self._small or kept.persist().count() <= MOST_FETCHED
                self._fetched[name] = kept.toArrow() if small else None
        found = {name: self._fetched[name] for name in names}
        here = {name: data for name, data in found.items() if data is not None}
        return here if len(here) == len(found) else None

    def stream(self, tree: exp.Expr, **inputs: pa.Table) -> Iterator[pa.RecordBatch]:
        yield from self.query(tree, **inputs).to_batches()

    def stage(self, name: str, tree: exp.Expr, **inputs: pa.Table) -> None:
        with _one_line():
            # A view that is dropped stays in the plans that were made of it.
            for known, data in inputs.items():
                self._session.createDataFrame(data).createOrReplaceTempView(known)
            kept = self._session.sql(render(tree))
            kept.createOrReplaceTempView(name)
            self._staged[name] = kept
            if self._is_small(tree, kept):
                self._small.add(name)
            for known in inputs:
                self._session.catalog.dropTempView(known)

    def _is_small(self, tree: exp.Expr, kept: Any) -> bool:
        """Whether a result is of numbers alone, and of no more rows than a small table has."""
        names = {table.name for table in tree.find_all(exp.Table)}
        files = [file for name in names for file in self._files.get(name, ())]
        if tree.find(exp.Join) or not names <= set(self._files) or len(files) > 100:
            return False
        if any(each.dataType.typeName() in ("string", "binary") for each in kept.schema):
            return False
        return sum(pq.read_metadata(file).num_rows for file in files) <= MOST_AT_ONCE

    def unstage(self, name: str) -> None:
        kept = self._staged.pop(name, None)
        self._fetched.pop(name, None)
        self._small.discard(name)
        if kept is not None:
            self._session.catalog.dropTempView(name)
            kept.unpersist()

    def lock(self) -> None:
        """Nothing to close: a user's expression holds no name of a file or a function to read one."""

    def close(self) -> None:
        if self._here is not None:
            self._here.close()
        self._session.stop()

    def _run(self, statement: str) -> pa.Table:
        with _one_line():
            return self._session.sql(statement).toArrow()


def _value(column: Column, part: Part) -> str:
    # Paths are URLs here: file:///folder/name, with what a URL may not hold as %XX.
    path = "url_decode(replace(_metadata.file_path, '+', '%2B'))"
    file = f"substr(regexp_replace({path}, '^file:/+', '/'), {base_length(part) + 1})"
    line = "_metadata.row_index"
    return column_text(column, part, _name(column.name), _type(column), file, line)


def _session(settings: EngineSettings) -> Any:
    """A session on the plan's master or remote, or the sentence that says why there is none."""
    try:
        from pyspark.sql import SparkSession
    except ImportError:
        raise UserError(
            '[engine] kind = "spark" needs Spark\'s library: pip install "sabueso[spark]"'
        ) from None
    # Errors become one sentence; the library's own log of them would stand around it.
    logging.getLogger("SQLQueryContextLogger").disabled = True
    logging.getLogger("DataFrameQueryContextLogger").disabled = True
    builder = SparkSession.builder.appName("sabueso")
    options = {
        "spark.sql.ansi.enabled": "true",  # an overflow is an error, never a wrong sum
        "spark.sql.session.timeZone": "UTC",
        "spark.sql.timeType.enabled": "true",
    }
    if settings.remote:
        _check_reachable(settings.remote, "remote")
        let_pandas_in()  # the client of Spark Connect will not start without it
        builder = builder.remote(settings.remote)
    else:
        if shutil.which("java") is None and not os.environ.get("JAVA_HOME"):
            raise UserError(
                '[engine] kind = "spark" needs Java 17 or newer to start Spark here: install it, '
                "or give a Spark Connect address with remote"
            )
        master = settings.master or "local[*]"
        if not re.match(r"local(\[.+\])?$|spark://|k8s://|yarn$", master):
            raise UserError(
                f"[engine] master = {master!r}: expected local[*], spark://host:port, yarn or k8s://…"
            )
        if master.startswith("spark://"):
            _check_reachable(master, "master")
        builder = builder.master(master)
        threads = settings.threads or os.cpu_count() or 2
        options |= {
            "spark.ui.enabled": "false",
            "spark.ui.showConsoleProgress": "false",
            "spark.log.level": "OFF",
        }
        if master.startswith("local"):
            options |= {
                "spark.sql.shuffle.partitions": str(threads),
                "spark.driver.host": "localhost",
                "spark.driver.bindAddress": "127.0.0.1",
            }
            chosen = [os.environ.get(n, "") for n in ("JAVA_TOOL_OPTIONS", "JDK_JAVA_OPTIONS")]
            if not any("GC" in each for each in chosen):
                # Of Java's collectors the one for work done, and not for short pauses.
                options["spark.driver.extraJavaOptions"] = "-XX:+UseParallelGC"
        if settings.memory:
            options["spark.driver.memory"] = settings.memory.replace("GB", "g").replace("MB", "m")
    for key, value in options.items():
        builder = builder.config(key, value)
    with _quiet() as said:
        try:
            return builder.getOrCreate()
        except Exception as error:
            reason = _first_line(error) or said()
            place = settings.remote or settings.master or "local"
            raise UserError(f"[engine] Spark could not be started ({place}): {reason}") from error


def _check_reachable(url: str, key: str) -> None:
    """Refuse an address where nobody answers, instead of waiting for minutes."""
    wanted = {"remote": "sc://", "master": "spark://"}[key]
    parts = urlsplit(url)
    if not url.startswith(wanted) or not parts.hostname:
        raise UserError(f"[engine] {key} = {url!r}: expected an address such as {wanted}host:port")
    port = parts.port or {"remote": 15002, "master": 7077}[key]
    try:
        socket.create_connection((parts.hostname, port), timeout=5).close()
    except OSError as error:
        reason = error.strerror or str(error)
        raise UserError(
            f"[engine] {key} = {url!r}: the cluster cannot be reached ({reason.lower()})"
        ) from None


@contextmanager
def _quiet() -> Iterator[Any]:
    """Keep what the Java process writes to stderr as it starts, and yield a function for its end."""
    with tempfile.TemporaryFile("w+b") as kept:
        before = os.dup(2)
        os.dup2(kept.fileno(), 2)

        def last() -> str:
            kept.seek(0)
            lines = kept.read().decode("utf-8", "replace").strip().splitlines()
            return lines[-1] if lines else "no reason was given"

        try:
            yield last
        finally:
            os.dup2(before, 2)
            os.close(before)


@contextmanager
def _one_line() -> Iterator[None]:
    """What the data do not allow as one line; anything else is a fault of the program."""
    from pyspark.errors import PySparkException

    try:
        yield
    except PySparkException as error:
        raise QueryError(_first_line(error)) from error


def _first_line(error: Exception) -> str:
    lines = str(error).strip().splitlines()
    text = lines[0] if lines else type(error).__name__
    # The class in front and the state behind are the engine's own words for its developers.
    text = text.split("] ", 1)[-1] if text.startswith("[") else text
    return text.split(" SQLSTATE", 1)[0].rstrip()


def _name(value: str) -> str:
    return "`" + value.replace("`", "``") + "`"


def _type(column: Column) -> str:
    kinds = {"text": "STRING", "date": "DATE", "timestamp": "TIMESTAMP_NTZ", "time": "TIME(6)"}
    if column.type == "number":
        return f"DECIMAL({column.precision},{column.scale})"
    return kinds[column.type]
