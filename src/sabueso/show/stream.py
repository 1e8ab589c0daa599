"""Batches of rows as a file, however many there are: no more than one batch is held."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet as pq

from sabueso.base.files import safe_cell

SUFFIXES = (".csv", ".parquet")
_UNSAFE = r"^[\s\p{Z}\p{Cf}]*[=+\-@＝＋－＠]|\p{C}"
"""Texts that may need to be made safe; what they become is decided one by one."""


def write_batches(path: Path, suffix: str, batches: Iterator[pa.RecordBatch]) -> int:
    """Write batches as ``.csv`` or ``.parquet``; returns the number of rows."""
    first = next(batches, None)
    if first is None:
        path.write_bytes(b"")
        return 0
    rows = 0
    with path.open("wb") as file:
        if suffix == ".csv":
            file.write("\ufeff".encode())
            schema = pa.schema([(f.name, _written(f.type)) for f in first.schema])
            writer = pyarrow.csv.CSVWriter(file, schema)
        else:
            schema = first.schema
            writer = pq.ParquetWriter(file, first.schema)
        with writer:
            for batch in _chained(first, batches):
                writer.write(_safe(batch, schema) if suffix == ".csv" else batch)
                rows += batch.num_rows
    return rows


def _chained(first: pa.RecordBatch, rest: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    yield first
    yield from rest


def _written(kind: pa.DataType) -> pa.DataType:
    """The type in which a column stands in a CSV: what no spreadsheet reads otherwise is text."""
    plain = pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_boolean(kind)
    return kind if plain or pa.types.is_decimal(kind) else pa.string()


def _safe(batch: pa.RecordBatch, schema: pa.Schema) -> pa.RecordBatch:
    columns = []
    for field, column in zip(schema, batch.columns, strict=True):
        values = column if column.type == field.type else pc.cast(column, field.type)
        if pa.types.is_string(values.type):
            values = _safe_texts(values)
        columns.append(values)
    return pa.RecordBatch.from_arrays(columns, schema=schema)


def _safe_texts(values: pa.Array) -> pa.Array:
    """Texts none of which a spreadsheet runs; few are looked at one by one."""
    coded = values.dictionary_encode()
    words = coded.dictionary
    if not pc.any(pc.match_substring_regex(words, _UNSAFE)).as_py():
        return values
    safe = pa.array([safe_cell(word) for word in words.to_pylist()], pa.string())
    return pc.take(safe, coded.indices)
