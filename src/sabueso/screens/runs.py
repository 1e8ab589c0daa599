"""Where runs of rows with one key begin."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


def run_starts(
    rows: pa.RecordBatch, names: Sequence[str], before: pa.RecordBatch | None = None
) -> np.ndarray:
    """Where runs of one key begin among rows that are sorted by it; ``before`` is the row before them."""
    other = np.zeros(rows.num_rows, dtype=bool)
    other[:1] = before is None
    for name in names:
        column = rows.column(name)
        if pa.types.is_null(column.type):
            continue  # an expression without any value is one key
        other[1:] |= pc.not_equal(column[1:], column[:-1]).to_numpy(zero_copy_only=False)
        if before is not None and rows.num_rows:
            other[0] |= column[0] != before.column(name)[0]
    return np.flatnonzero(other)
