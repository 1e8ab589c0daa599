"""Lines that hold one text alone and say whose the lines below them are, as reports print them by account.

Each is no row: its text is put into a column of the rows below it, up to the next such line.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.downward import carried, filled_cells, filled_lines, plain
from sabueso.intake.formats.header import is_header, is_text
from sabueso.intake.formats.stated import states_total
from sabueso.intake.interface import Assumed, Batch, Layout
from sabueso.population.table import HEADING

MOST_FIGURES = 0.2
"""Share of lines with one text alone whose text may be figures."""
MOST_CLOSED, LEAST_CLOSED = 0.6, 3
"""Share of lines that may be headings where a sum stands before each, and how many there are then."""
MOST, LEAST_FILLED, LEAST_ROWS, WORDED = 0.25, 3, 4, 0.2
"""Share of lines that may be headings; cells that rows have at least, and how many rows there are; share of rows
that may have words where headings stand."""


@dataclass(frozen=True)
class Headings:
    """The column in which headings stand, and the one that their texts are put into: the same where the rows
    have nothing there."""

    column: str
    into: str
    first: str | None = None
    """What stands above the header, where the header comes again below each heading."""
    worded: bool = False
    """Whether figures alone are none: where nearly all are words."""

    def layout(self, layout: Layout) -> Layout:
        """The layout of a file with the texts of its headings on its rows, and what is said of them."""
        batch = Batch(np.arange(layout.sample.num_rows), layout.sample)
        filled = Filling(self).batch(batch)
        told = layout.sample.filter(pa.array(self.stand(layout.sample)))
        some = list(dict.fromkeys([self.first, *told.column(self.column).to_pylist()]))
        named = ", ".join(f"{text!r}" for text in [text for text in some if text][:2])
        too = "" if self.first is None else ", the one above the header too"
        note = Assumed(
            f"lines with one text alone, such as {named}, are headings{too}: each stands in {self.into!r} on "
            "the lines below it",
            "read.headings",
        )
        added = () if self.into in layout.header else (self.into,)
        return replace(
            layout,
            header=[*layout.header, *added],
            added=(*layout.added, *added),
            sample=filled.cells,
            notes=(*layout.notes, note),
            found={**layout.found, "headings": self.column},
        )

    def stand(self, cells: pa.Table) -> np.ndarray:
        """The rows that are headings."""
        found = _alone(cells, self.column)
        return found & _worded(cells.column(self.column), found) if self.worded else found


class Filling:
    """Puts headings on the rows of a file's batches, which come in order."""

    def __init__(self, headings: Headings) -> None:
        self._headings = headings
        self._last = headings.first
        self._part: str | None = None

    def batch(self, batch: Batch) -> Batch:
        """The batch without its headings, their texts on its rows."""
        cells, column, into = batch.cells, self._headings.column, self._headings.into
        if self._part not in (None, batch.part):  # a heading of one sheet says nothing of the next
            self._last = None
        self._part = batch.part
        alone = self._headings.stand(cells)
        texts = _plain(cells.column(column))
        above, self._last = carried(texts, alone, self._last)
        # Where nothing stands there is nothing that a heading says something of.
        above = pc.if_else(pa.array(filled_lines(cells)), above, pa.scalar(None, pa.string()))
        if into == column:
            # A line that has a text there of its own, such as a total, keeps it.
            kept = ~alone & filled_cells(cells.column(column))
            own = pc.if_else(pa.array(kept), texts, pa.scalar(None, pa.string()))
            at = cells.column_names.index(column)
            cells = cells.set_column(at, column, pc.coalesce(own, above))
        else:
            cells = cells.append_column(into, above)
        return replace(
            batch,
            cells=cells.filter(pa.array(~alone)),
            lines=batch.lines[~alone],
            headings=int(alone.sum()),
        )


def headings_of(layout: Layout, given: str | None) -> Headings | None:
    """The headings of a file, by its first rows; ``given`` names their column, or says that there are none."""
    sample, names = layout.sample, list(layout.sample.column_names)
    if given == "none" or len(names) < LEAST_FILLED or given not in (None, *names):
        return None
    filled = np.column_stack([filled_cells(sample.column(name)) for name in names])
    cells = filled.sum(axis=1)
    first = np.flatnonzero(cells)
    above, before = None, np.empty(0, dtype=np.int64)
    if len(first) and cells[first[0]] != 1 and layout.heading:
        before = _before_headers(layout, cells)
        if len(before):
            above, first = layout.heading, before
    if given is not None:
        return _into(sample, given, above)
    if not len(first) or cells[first[0]] != 1:
        return None
    at = int(np.flatnonzero(filled[first[0]])[0])
    alone = (cells == 1) & filled[:, at]
    rows = cells >= LEAST_FILLED
    many, closed = int(rows.sum()), _close(sample, alone)
    if many < LEAST_ROWS or alone.sum() > (MOST_CLOSED if closed else MOST) * many:
        return None
    texts = [text.strip() for text in sample.column(names[at]).filter(pa.array(alone)).to_pylist()]
    texts += [above] if above else []
    if not _are_words(texts):
        return None
    alone &= _worded(sample.column(names[at]), alone)
    ends = np.flatnonzero(alone)
    # Between a heading and its rows the balance may stand that is brought forward.
    led = sum(bool(rows[place + 1 : place + 3].any()) for place in ends.tolist())
    found = _into(sample, names[at], above)
    # Where the rows have something there too, one line alone may be a remark; where that is words, a line
    # may be a row of which no more is known, if the header does not come again below it.
    needed = 1 if found.into == found.column else 2
    if needed == 2 and not closed and not np.isin(ends, before).all():
        own = [text for text in sample.column(names[at]).filter(pa.array(rows)).to_pylist() if text]
        if sum(map(is_text, own)) > WORDED * len(own):
            return None
    if len(set(texts)) < needed or 2 * led < len(ends) or led < needed:
        return None
    return found


def _close(sample: pa.Table, alone: np.ndarray) -> bool:
    """Whether a sum stands before each of some lines but the first, as blocks end in reports."""
    ends = np.flatnonzero(alone)
    if len(ends) < LEAST_CLOSED:
        return False
    sums = np.zeros(sample.num_rows, dtype=bool)
    for name in sample.column_names:
        sums |= states_total(_plain(sample.column(name)))
    return all(sums[a:b].any() for a, b in pairwise(ends.tolist()))


def _before_headers(layout: Layout, cells: np.ndarray) -> np.ndarray:
    """Rows of one cell below which the header comes again, with nothing but blank lines between."""
    rows, header = layout.sample.to_pylist(), layout.on_lines
    again = np.array([is_header(row, header) for row in rows], dtype=bool)
    lines = np.flatnonzero(cells)
    led = again[lines[1:]] & (cells[lines[:-1]] == 1)
    return lines[:-1][led]


def _into(sample: pa.Table, column: str, above: str | None) -> Headings:
    texts = _plain(sample.column(column))
    alone = _alone(sample, column)
    worded = _are_words([*texts.filter(pa.array(alone)).to_pylist(), *([above] if above else [])])
    filled = filled_cells(sample.column(column)) & ~alone & ~states_total(texts)
    if not filled.any():
        return Headings(column, column, above, worded)
    free = HEADING
    while free in sample.column_names:
        free += " of the file"
    return Headings(column, free, above, worded)


def _alone(cells: pa.Table, column: str) -> np.ndarray:
    """Rows that hold a text in the column, and nothing else; a sum's line is none."""
    found = filled_cells(cells.column(column))
    for name in cells.column_names:
        if name != column and found.any():
            found &= ~filled_cells(cells.column(name))
    if found.any():
        found &= ~states_total(_plain(cells.column(column)))
    return found


def _are_words(texts: Sequence[str]) -> bool:
    """Whether nearly all texts are words: figures alone among them are rows that are hurt."""
    words = sum(map(is_text, texts))
    return 0 < words >= (1 - MOST_FIGURES) * len(texts)


def _worded(column: pa.ChunkedArray, chosen: np.ndarray) -> np.ndarray:
    """The chosen rows whose text is words, and no figures alone as a row that is hurt leaves them."""
    found = np.zeros(len(chosen), dtype=bool)
    places = np.flatnonzero(chosen)
    texts = column.take(pa.array(places)).to_pylist()
    found[places] = [bool(text) and is_text(text.strip()) for text in texts]
    return found


def _plain(column: pa.ChunkedArray) -> pa.Array:
    return pc.utf8_trim_whitespace(plain(column))
