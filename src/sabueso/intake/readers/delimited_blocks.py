"""Blocks of delimited text parsed into cells, whole where every line is a record."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.csv

from sabueso.intake.interface import Batch, Damaged, Layout
from sabueso.intake.readers.dialects import Dialect
from sabueso.intake.readers.kept_as_text import bared
from sabueso.intake.readers.records import (
    NEWLINE,
    QUOTE,
    RETURN,
    Broken,
    count_of,
    is_rule,
    wrong_count,
)


@dataclass(frozen=True)
class Delimited(Layout):
    encoding: str
    delimiter: str
    dialect: Dialect
    kept: tuple[str, ...] = ()
    """Columns that are written so that a spreadsheet keeps them as text."""
    lone: bool = False
    """Whether lines of one field are headings, and no rows that lack fields."""


class Padding:
    """Gives lines of one field as many as the others have, but for rules and what stands within quotes."""

    def __init__(self, delimiter: str, fields: int) -> None:
        mark = re.escape(delimiter.encode())
        self._alone = re.compile(rb'^(?:[^%b"\r\n]+|"[^"\r\n]*")(?=\r?$)' % mark, re.MULTILINE)
        self._lacking = delimiter.encode() * (fields - 1)
        self._quotes = 0

    def block(self, block: bytes) -> bytes:
        """The next block of whole lines."""
        quotes = np.flatnonzero(np.frombuffer(block, np.uint8) == QUOTE)
        before = self._quotes
        self._quotes += len(quotes)

        def padded(found: re.Match[bytes]) -> bytes:
            line = found[0]
            open_quote = (before + int(np.searchsorted(quotes, found.start()))) % 2
            return line if open_quote or not line.strip() or is_rule(line) else line + self._lacking

        return self._alone.sub(padded, block)


def whole_block(block: bytes, layout: Delimited, kinds: Mapping[str, pa.DataType]) -> Batch | None:
    """A block in which every line is a record, its lines counted from 0; None where one is not.

    The parser's count of records must be the count of line ends: a quote that swallowed one would
    show.
    """
    quoted = b'"' in block
    if b"\0" in block or (quoted and count_of(QUOTE, block) % 2):
        return None
    if not block.endswith(b"\n"):
        block += b"\n"
    data = np.frombuffer(block, np.uint8)
    if b"\r" in block and (data[np.flatnonzero(data == RETURN) + 1] != NEWLINE).any():
        if quoted:
            return None
        block = block.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    fields = len(layout.header)
    broken: list[Broken] = []
    empty: list[int] = []

    def set_aside(row: pa.csv.InvalidRow) -> str:
        text, place = row.text.rstrip("\r\n"), row.number - 1
        raw = text.encode("utf-8", "surrogateescape")
        if text.strip(layout.dialect.mark + " \t") and not is_rule(raw):
            broken.append(wrong_count(place, row.actual_columns, fields, raw))
        else:
            empty.append(place)
        return "skip"

    try:
        cells = _parsed(block, layout, kinds, multiline=True, quoted=quoted, invalid=set_aside)
    except pa.ArrowInvalid:
        return None
    lines = cells.num_rows + len(broken) + len(empty)
    if quoted and lines != count_of(NEWLINE, block):
        return None
    return Batch(
        lines=np.delete(np.arange(lines), [*(b.line for b in broken), *empty]),
        cells=cells,
        damaged=[damaged_record(b, layout) for b in broken],
        blank=len(empty),
    )


def cells_of(text: bytes, layout: Delimited, *, multiline: bool) -> pa.Table:
    kinds = {name: pa.string() for name in layout.header}
    if not text:
        return pa.table({name: pa.array([], pa.string()) for name in layout.header})
    return _parsed(text, layout, kinds, multiline=multiline)


def _parsed(
    text: bytes,
    layout: Delimited,
    kinds: Mapping[str, pa.DataType],
    *,
    multiline: bool,
    quoted: bool = True,
    invalid: Callable[[pa.csv.InvalidRow], str] | None = None,
) -> pa.Table:
    cells = pa.csv.read_csv(
        pa.BufferReader(text),
        read_options=pa.csv.ReadOptions(
            column_names=layout.header, block_size=len(text) + 1, use_threads=False
        ),
        parse_options=pa.csv.ParseOptions(
            delimiter=layout.dialect.mark,
            quote_char='"' if quoted else False,
            newlines_in_values=multiline,
            ignore_empty_lines=False,
            invalid_row_handler=invalid,
        ),
        convert_options=pa.csv.ConvertOptions(
            column_types=kinds,
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=True,
            check_utf8=False,
        ),
    )
    return bared(layout.dialect.cells(cells), layout.kept)


def damaged_record(broken: Broken, layout: Delimited) -> Damaged:
    text = layout.dialect.as_written(broken.text.decode("utf-8", "replace"))
    count = len(layout.header)
    column = ""
    if broken.fields:
        column = layout.header[min(broken.fields, count) - 1]
    return Damaged(broken.line, column, "", broken.reason, text)
