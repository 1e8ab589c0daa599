"""Delimited text: encoding, delimiter and header detected, then read block by block."""

from __future__ import annotations

import csv
import re
from collections import deque
from collections.abc import Collection, Generator, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from itertools import chain
from pathlib import Path

import pyarrow as pa

from sabueso.base.errors import ProgramFault, UserError
from sabueso.intake.formats.above import currency_above, scale_notes, year_above
from sabueso.intake.formats.headings import headings_of
from sabueso.intake.formats.page_heads import page_heads, with_page_heads
from sabueso.intake.interface import Batch, Layout
from sabueso.intake.readers.cells import SAMPLE_ROWS, alone_above, column_names, counted, name_notes
from sabueso.intake.readers.decoding import decoded, utf8
from sabueso.intake.readers.delimited_blocks import (
    Delimited,
    Padding,
    cells_of,
    damaged_record,
    whole_block,
)
from sabueso.intake.readers.delimited_header import (
    DELIMITERS,
    detect_delimiter,
    first_records,
    header_of,
    is_bordered,
    usual_fields,
)
from sabueso.intake.readers.dialects import Dialect, dialect_of, is_wrapped, other_delimiter
from sabueso.intake.readers.fixed_places import Places, cut_batches, is_spaced, layout_at_places
from sabueso.intake.readers.kept_as_text import as_told, bare, bared, kept_as_text
from sabueso.intake.readers.records import (
    LineEnds,
    Splitter,
    after_lines,
    blocks,
)
from sabueso.intake.readers.source import (
    UNTOLD,
    assumed_encoding,
    detect_encoding,
    is_text,
    opened,
    plain_suffix,
)
from sabueso.intake.settings import ReadSettings

WORKERS = 2
REPEATED = pa.dictionary(pa.int32(), pa.string())
SAMPLE = 1 << 20
_NO_TEXT = {
    b"PK\x03\x04": "a spreadsheet or a packed file", b"\xd0\xcf\x11\xe0": "a spreadsheet or document",
    b"%PDF-": "a PDF document", b"\x1f\x8b": "a packed file", b"BZh": "a packed file", b"PAR1": "a Parquet table",
    b"\xfd7zXZ": "a packed file", b"SQLite format 3": "a database",
}  # fmt: skip
_SEPARATOR = re.compile(r"(?i)sep=(.)")
_LABELLED = re.compile(r"\w[\w ./-]{0,30}: ?\S.*")


def _refuse_other_forms(path: Path, lines: list[str]) -> None:
    """Text without a delimiter that is a table in another form.

    Raises
    ------
    UserError
        If its columns stand at fixed places, or each value follows its label.
    """
    filled = [line for line in lines[:SAMPLE_ROWS] if line.strip()]
    if len(filled) < 2:
        return
    if sum(bool(_LABELLED.fullmatch(line.strip())) for line in filled) > 0.8 * len(filled):
        raise UserError(
            f"{path}: each value follows its label, line by line; expected a table with a row a record: "
            "export it as delimited text"
        )
    if is_spaced(filled):
        raise UserError(
            f"{path}: the columns stand at fixed places, with blanks between, and nothing tells where one ends; "
            "expected a delimiter between them: export it as delimited text"
        )


def _columns(records: Sequence[Sequence[str]], names: list[str]) -> pa.Table:
    columns = list(zip(*records, strict=True)) if records else [()] * len(names)
    return pa.table([pa.array(c, pa.string()) for c in columns], names=names)


def _with_lone_lines(
    layout: Delimited, lines: Sequence[str], settings: ReadSettings, heads: frozenset[str]
) -> Delimited | None:
    """The layout with lines of one field as headings of the lines below, where they are: a report's accounts stand
    so between its rows."""
    if settings.headings == "none" or len(layout.header) < 2:
        return None
    first = lines[: 2 * SAMPLE_ROWS]
    if not any(layout.dialect.mark not in line and line.strip() for line in first):
        return None
    plain = "\n".join(first).encode("utf-8", "surrogateescape")
    mark = layout.dialect.mark
    padded = Padding(mark, len(layout.header)).block(plain)
    text = padded.decode("utf-8", "surrogateescape")
    sample = _columns(first_records(text, mark, len(layout.header)), layout.header)
    sample = layout.dialect.cells(sample)
    lone = replace(layout, sample=bared(sample, layout.kept), lone=True)
    return lone if headings_of(with_page_heads(lone, heads), settings.headings) else None


def _first_lines(path: Path, settings: ReadSettings) -> tuple[list[str], str, list[str]]:
    """The lines that a file begins with, its encoding, and what is to be said of that.

    Raises
    ------
    UserError
        If it is empty, or holds no text.
    """
    with opened(path) as file:
        head = file.read(SAMPLE)
        whole = len(head) < SAMPLE
    if not head.strip():
        raise UserError(f"{path}: the file is empty; expected a header line and rows")
    for mark, what in _NO_TEXT.items():
        if head.startswith(mark):
            raise UserError(
                f"{path}: holds {what}, and no text: give the file the suffix of what it is"
            )
    encoding, language = settings.encoding, ""
    if encoding is None:
        encoding, language = detect_encoding(path, head, whole=whole)
    text = decoded(head, encoding, path, whole)
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    lines = text.split("\n")
    if not any(line.strip() for line in lines):
        raise UserError(f"{path}: the file is empty; expected a header line and rows")
    told = language and (language == UNTOLD or encoding not in ("latin-1", "cp1252"))
    return lines, encoding, [assumed_encoding(encoding, language)] if told else []


class DelimitedReader:
    """Comma-, semicolon-, tab- or bar-separated text, under the suffix of a spreadsheet too."""

    suffixes = (".csv", ".txt", ".tsv", ".tab", ".psv", ".asc", ".dat", ".xls", ".xlsx")
    unit = "lines"
    reads_any = True

    def takes(self, path: Path) -> bool:
        return plain_suffix(path) not in (".xls", ".xlsx") or is_text(path)

    def layout(self, path: Path, settings: ReadSettings) -> Delimited | Places:
        given, encoding, assumed = _first_lines(path, settings)
        wrapped = is_wrapped(given)
        lines = Dialect(wrapped=wrapped).lines(given)
        said = _SEPARATOR.fullmatch(lines[0].strip())
        start = 1 if said else 0
        delimiter = settings.delimiter or (said[1] if said else "")
        if not delimiter and is_bordered(lines):
            delimiter = "|"
        if not delimiter:
            delimiter = detect_delimiter(lines)
            cut = usual_fields(lines, delimiter)
            places = layout_at_places(lines, encoding, assumed, settings)
            if places is not None and len(places.header) > cut:
                return places
            if cut < 2:
                delimiter = other_delimiter(lines[start:]) or delimiter
        dialect = dialect_of(lines[start:], delimiter, settings, wrapped=wrapped)
        lines, mark = dialect.lines(given), dialect.mark
        header, header_line, notes = header_of(path, lines, start, mark, settings)
        above = list(csv.reader(lines[start : max(header_line - 1, start)], delimiter=mark))
        notes += [*assumed, *scale_notes(above)]
        sample = first_records("\n".join(lines[header_line:]), mark, len(header))
        if len(header) == 1 and settings.delimiter is None:
            _refuse_other_forms(path, lines[header_line:])
        header = [bare(dialect.cell(name)) for name in header]
        names = column_names(header)
        cells = dialect.cells(_columns(sample, names))
        kept = kept_as_text(cells)
        found = Delimited(
            header=names,
            header_line=header_line,
            described={
                "encoding": encoding,
                "delimiter": DELIMITERS.get(dialect.delimiter, repr(dialect.delimiter)),
            }
            | dialect.described,
            sample=bared(cells, kept),
            notes=(*notes, *name_notes(header, names), *as_told(kept)),
            found={"encoding": encoding, "delimiter": dialect.delimiter}
            | dialect.found
            | ({} if header_line == 1 else {"header": header_line}),
            currency=currency_above(above),
            year=year_above(above),
            heading=alone_above(above),
            encoding=encoding,
            delimiter=dialect.delimiter,
            dialect=dialect,
            kept=kept,
        )
        first = lines[: header_line + 2 * SAMPLE_ROWS]
        heads = frozenset() if settings.headings == "none" else page_heads(first, header_line)
        lone = _with_lone_lines(found, lines[header_line:], settings, heads)
        return with_page_heads(found if lone is None else lone, heads)

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        if isinstance(layout, Places):
            yield from self._cut(path, layout, settings)
            return
        assert isinstance(layout, Delimited)
        dialect, fields = layout.dialect, len(layout.header)
        splitter = Splitter(dialect.mark.encode(), fields, layout.header_line + 1)
        kinds = {name: REPEATED if name in repeated else pa.string() for name in layout.header}
        waiting: deque[tuple[bytes, Future[Batch | None]]] = deque()
        pool = ThreadPoolExecutor(WORKERS)
        try:
            with opened(path) as file:
                ends = LineEnds()
                stream = blocks(ends.counted(utf8(file, layout.encoding, path, settings)))
                # The header is cut off: of a file of a line or two it may be in the second block.
                first = after_lines(stream, layout.header_line)
                rows: Iterable[bytes] = chain([first] if first else [], stream)
                if not dialect.is_usual:
                    rows = map(dialect.block, rows)
                if layout.lone:
                    rows = map(Padding(dialect.mark, fields).block, rows)
                for block in rows:
                    waiting.append((block, pool.submit(whole_block, block, layout, kinds)))
                    if len(waiting) > WORKERS:
                        yield self._next(splitter, *waiting.popleft(), layout)
                while waiting:
                    last = len(waiting) == 1
                    yield self._next(splitter, *waiting.popleft(), layout, last=last)
                yield counted(layout.header, ends.lines)
        finally:
            pool.shutdown(wait=True, cancel_futures=True)

    def _cut(self, path: Path, layout: Places, settings: ReadSettings) -> Generator[Batch]:
        with opened(path) as file:
            ends = LineEnds()
            stream = blocks(ends.counted(utf8(file, layout.encoding, path, settings)))
            first = after_lines(stream, layout.header_line)
            given = chain([first] if first else [], stream)
            yield from cut_batches(given, layout, layout.header_line + 1)
            yield counted(layout.header, ends.lines)

    def _next(
        self,
        splitter: Splitter,
        block: bytes,
        parsed: Future[Batch | None],
        layout: Delimited,
        *,
        last: bool = False,
    ) -> Batch:
        """A block parsed whole, or record by record where it cannot be."""
        whole = parsed.result()
        # A record still open from the block before goes on in this one.
        if whole is not None and not splitter.is_open:
            start = splitter.skip(len(whole.lines) + len(whole.damaged) + whole.blank)
            damaged = [replace(d, line=d.line + start) for d in whole.damaged]
            return replace(whole, lines=whole.lines + start, damaged=damaged)
        records = splitter.split(block, last=last)
        cells = cells_of(records.text, layout, multiline=records.multiline)
        if cells.num_rows != len(records.lines):
            raise ProgramFault(
                f"{cells.num_rows} rows parsed where {len(records.lines)} records were counted"
            )
        return Batch(
            lines=records.lines,
            cells=cells,
            damaged=[damaged_record(b, layout) for b in records.broken],
            blank=records.blank,
            continued=records.continued,
        )
