"""Texts that stand on the first line of each group alone, as reports print an account, put on the lines below."""

from __future__ import annotations

from collections.abc import Callable, Collection, Generator, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.interface import Batch

LEAST_LINES, MOST_FILLED = 8, 0.5


class Downward:
    """Fills columns of a file's batches, which come in order, with the last text above."""

    def __init__(self, columns: Sequence[str]) -> None:
        self._columns = columns
        self._last: dict[str, str | None] = {}
        self._part = ""

    def batch(self, batch: Batch) -> Batch:
        if batch.part != self._part:  # what stands on one sheet says nothing of the next
            self._last, self._part = {}, batch.part
        cells = batch.cells
        some = pa.array(filled_lines(cells))
        for name in self._columns:
            texts = plain(cells.column(name))
            own = filled_cells(cells.column(name))
            above, self._last[name] = carried(texts, own, self._last.get(name))
            # A blank line stays one.
            above = pc.if_else(some, above, texts)
            cells = cells.set_column(cells.column_names.index(name), name, above)
        return replace(batch, cells=cells)


def carried(texts: pa.Array, own: np.ndarray, last: str | None) -> tuple[pa.Array, str | None]:
    """On each line the text of the last line above it, or its own, where ``own`` is true; ``last`` is that of
    the lines before. Returned with it is that of the lines after."""
    places = np.maximum.accumulate(np.where(own, np.arange(len(own)), -1))
    above = texts.take(pa.array(np.maximum(places, 0)))
    above = pc.if_else(pa.array(places < 0), pa.scalar(last, pa.string()), above)
    return above, texts[int(np.flatnonzero(own)[-1])].as_py() if own.any() else last


def changed(given: Generator[Batch], change: Callable[[Batch], Batch]) -> Generator[Batch]:
    """Batches as something makes them, one after another; what gives them is closed at the end."""
    try:
        for batch in given:
            yield change(batch)
    finally:
        given.close()


def printed_once(sample: pa.Table, names: Collection[str]) -> dict[str, int]:
    """Columns that are filled on the first line of a sample and on few others, each text once: on how many."""
    found = {}
    for name in names:
        own = filled_cells(sample.column(name))
        n, many = len(own), int(own.sum())
        if n < LEAST_LINES or not own[0] or not 1 < many <= MOST_FILLED * n:
            continue
        texts = plain(sample.column(name)).filter(pa.array(own)).to_pylist()
        if len(set(texts)) == len(texts):
            found[name] = many
    return found


def plain(column: pa.ChunkedArray) -> pa.Array:
    """The texts of a column in one piece, none of them encoded."""
    whole = column.combine_chunks()
    return whole if pa.types.is_string(whole.type) else whole.cast(pa.string())


def filled_cells(column: pa.ChunkedArray) -> np.ndarray:
    """Which cells hold more than blanks."""
    trimmed = pc.utf8_trim_whitespace(plain(column))
    found = pc.fill_null(pc.not_equal(trimmed, ""), False)
    return np.asarray(found.to_numpy(zero_copy_only=False), dtype=bool)


def filled_lines(cells: pa.Table) -> np.ndarray:
    """Which lines hold more than blanks."""
    found = np.zeros(cells.num_rows, dtype=bool)
    for name in cells.column_names:
        found |= filled_cells(cells.column(name))
    return found
