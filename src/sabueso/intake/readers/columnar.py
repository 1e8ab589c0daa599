"""Parquet files, their values written as texts and read again by the table's formats."""

from __future__ import annotations

from collections.abc import Collection, Generator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from sabueso.base.errors import UserError
from sabueso.intake.interface import Batch, Layout
from sabueso.intake.readers.cells import (
    BATCH_ROWS,
    SAMPLE_ROWS,
    column_names,
    counted,
    name_notes,
    text_of,
)
from sabueso.intake.settings import ReadSettings


class ParquetReader:
    """One Parquet file."""

    suffixes = (".parquet", ".pq")
    unit = "rows"

    def takes(self, path: Path) -> bool:
        return True

    def layout(self, path: Path, settings: ReadSettings) -> Layout:
        with opened_parquet(path) as file:
            if not file.metadata.num_rows:
                raise UserError(f"{path}: the file has columns and no rows")
            given = file.schema_arrow.names
            header = column_names(given)
            first = next(file.iter_batches(SAMPLE_ROWS))
            sample = _texts(first, header)
            return Layout(header, 0, {"form": "Parquet"}, sample, notes=name_notes(given, header))

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        row = 1
        with opened_parquet(path) as file:
            for batch in file.iter_batches(BATCH_ROWS):
                lines = np.arange(row, row + batch.num_rows)
                yield Batch(lines=lines, cells=_texts(batch, layout.header))
                row += batch.num_rows
            yield counted(layout.header, file.metadata.num_rows)


def opened_parquet(path: Path) -> pq.ParquetFile:
    """A Parquet file.

    Raises
    ------
    UserError
        If it cannot be read as one.
    """
    try:
        return pq.ParquetFile(path)
    except (pa.ArrowException, OSError, ValueError) as error:
        reason = (str(error).strip().splitlines() or ["no reason was given"])[0]
        raise UserError(f"{path}: cannot be read as Parquet: {reason}") from None


def _texts(batch: pa.RecordBatch, header: list[str]) -> pa.Table:
    return pa.table(
        {name: _text(column) for name, column in zip(header, batch.columns, strict=True)}
    )


def _text(column: pa.Array) -> pa.Array:
    """A column's values as texts, exactly; a float with 9 decimals at the most."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        return _text(column.cast(kind.value_type))
    if pa.types.is_floating(kind):
        finite = pc.if_else(pc.is_finite(column), column, pa.scalar(None, kind))
        exact = finite.cast(pa.decimal128(38, 9), safe=False).cast(pa.string())
        return pc.replace_substring_regex(exact, r"\.?0+$", "")
    if pa.types.is_timestamp(kind):
        plain = column.cast(pa.timestamp("us")) if kind.tz is None else column
        return pa.array([text_of(v) for v in plain.to_pylist()], pa.string())
    if pa.types.is_nested(kind) or pa.types.is_binary(kind) or pa.types.is_boolean(kind):
        return pa.array([text_of(v) for v in column.to_pylist()], pa.string())
    texts = column.cast(pa.string())
    texts.validate(full=True)  # bytes that are no text would go on as if they were
    return texts
