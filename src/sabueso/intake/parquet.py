"""A file's rows as Parquet in the case: how each column is stored, and the proof by reading it back."""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import sqlglot.expressions as exp

from sabueso.base.errors import ProgramFault, UserError
from sabueso.base.hashing import Hashed
from sabueso.intake.formats.deciding import Format
from sabueso.intake.interface import Layout
from sabueso.population import sql
from sabueso.population.engines import Engine, QueryError
from sabueso.population.figures import figures
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Part, Table


class Written:
    """A Parquet file that is written in a thread of its own, in order, two tables behind at most, and hashed as
    it is written.

    Use it as a context manager: on leaving, all that was added is in the file, and ``sha256`` is that of the file.
    """

    def __init__(self, output: Path, schema: pa.Schema) -> None:
        self.sha256 = ""
        self._writer = open_writer(output, schema)
        self._hashed = Hashed(output)
        self._pool = ThreadPoolExecutor(1)
        self._waiting: deque[Future[None]] = deque()

    def __enter__(self) -> Written:
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        with self._hashed:
            try:
                while self._waiting and kind is None:
                    self._waiting.popleft().result()
            finally:
                self._pool.shutdown(cancel_futures=True)
                self._writer.close()
            self._hashed.read_on()
            self.sha256 = self._hashed.hexdigest()

    def add(self, table: pa.Table) -> None:
        self._waiting.append(self._pool.submit(self._write, table))
        if len(self._waiting) > 2:
            self._waiting.popleft().result()

    def _write(self, table: pa.Table) -> None:
        self._writer.write_table(table)
        self._hashed.read_on()


def open_writer(output: Path, schema: pa.Schema) -> pq.ParquetWriter:
    """A Parquet file to write, under the schema of :func:`schema_of`."""
    return pq.ParquetWriter(
        output,
        schema,
        compression="lz4",  # every query unpacks it again; zstd takes half longer for 40 % less
        store_decimal_as_integer=True,
        use_dictionary=[f.name for f in schema if _is_repeated(f)],
        # The least and greatest text of a block serve nobody and cost a third of the time.
        write_statistics=[f.name for f in schema if _is_ordered(f)],
        column_encoding={f.name: "DELTA_BINARY_PACKED" for f in schema if _is_integer(f)},
    )


def _is_repeated(field: pa.Field) -> bool:
    return bool(pa.types.is_dictionary(field.type) or pa.types.is_temporal(field.type))


def _is_integer(field: pa.Field) -> bool:
    """Whether it is stored in 64 bits: differences of such numbers are a fifth smaller than the
    numbers packed, and are read in three quarters of the time."""
    kind = field.type
    return kind == pa.int64() or (pa.types.is_decimal(kind) and kind.precision <= 18)


def _is_ordered(field: pa.Field) -> bool:
    return field.name == FILE_COLUMN or not (
        pa.types.is_dictionary(field.type) or pa.types.is_string(field.type)
    )


def stored(good: pa.Table, file: str, schema: pa.Schema) -> pa.Table:
    """Values under the file's schema, with the file's name in each row."""
    named = pa.DictionaryArray.from_arrays(
        pa.repeat(pa.scalar(0, pa.int32()), good.num_rows), pa.array([file])
    )
    good = good.append_column(FILE_COLUMN, named)
    arrays = []
    for wanted in schema:
        column = good.column(wanted.name)
        if pa.types.is_dictionary(wanted.type) and not pa.types.is_dictionary(column.type):
            column = column.dictionary_encode()
        arrays.append(column if column.type == wanted.type else column.cast(wanted.type))
    return pa.table(arrays, schema=schema)


def schema_of(columns: tuple[Column, ...], repeated: Collection[str]) -> pa.Schema:
    encoded = pa.dictionary(pa.int32(), pa.string())
    kinds = {
        "text": pa.string(),
        "date": pa.date32(),
        "timestamp": pa.timestamp("us"),
        "time": pa.time64("us"),
    }
    fields = []
    for c in columns:
        if c.name == LINE_COLUMN:
            fields.append(pa.field(c.name, pa.int64()))
        elif c.name == FILE_COLUMN or (c.type == "text" and c.name in repeated):
            fields.append(pa.field(c.name, encoded))
        elif c.type == "number":
            fields.append(pa.field(c.name, pa.decimal128(c.precision, c.scale)))
        else:
            fields.append(pa.field(c.name, kinds[c.type]))
    return pa.schema(fields)


def verify(
    path: Path, output: Path, rows: int, expected: Mapping[str, Decimal], engine: Engine
) -> None:
    """Read the Parquet file back: the rows and the sums that were counted must be in it."""
    columns = tuple(
        Column(f.name, "number", f.type.scale, f.type.precision)
        for f in pq.read_schema(output)
        if pa.types.is_decimal(f.type)
    )
    attached = (*columns, Column(FILE_COLUMN, "text"))
    engine.attach(Table("_written", "", attached, (Part(attached, (output,)),)))
    fields: list[Tree] = [exp.alias_(sql.count(), "n")]
    fields += [exp.alias_(exp.Sum(this=sql.column(c.name)), f"s{i}") for i, c in enumerate(columns)]
    try:
        row = figures(fields, lambda select: select.from_("_written"), engine.query)
    except QueryError as error:
        raise UserError(f"{path}: what was written cannot be read back: {error}") from None
    sums = {c.name: row[f"s{i}"] or Decimal(0) for i, c in enumerate(columns)}
    if row["n"] != rows or any(sums[n] != expected.get(n, 0) for n in sums):
        raise ProgramFault(f"{path}: what was written differs from what was read; nothing was kept")


def repeated_columns(layout: Layout, formats: Mapping[str, Format]) -> set[str]:
    """Columns whose sample repeats its texts: they are read and stored by their distinct texts."""
    found = set()
    for name in layout.header:
        texts = layout.sample.column(name)
        # 500 rows of a column of 50,000 texts, as many as still pay, repeat two or three of them.
        few = pc.count_distinct(texts).as_py() <= 0.995 * len(texts)
        if len(texts) and few and formats[name].type != "number":
            found.add(name)
    return found
