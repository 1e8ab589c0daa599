"""Delimited text: encoding, delimiter and header detected, then read block by block."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter, deque
from collections.abc import Callable, Collection, Generator, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from itertools import chain, islice
from pathlib import Path
from typing import IO

import numpy as np
import pyarrow as pa
import pyarrow.csv

from sabueso.base.errors import ProgramFault, UserError
from sabueso.intake.formats.above import currency_above, scale_notes, year_above
from sabueso.intake.formats.header import LOOKED_AT, find_header, joined_names
from sabueso.intake.interface import Assumed, Batch, Damaged, Layout, OtherEncoding
from sabueso.intake.readers.cells import column_names, counted, name_notes, said_above
from sabueso.intake.readers.fixed_places import Places, cut_batches, is_spaced, layout_at_places
from sabueso.intake.readers.records import (
    NEWLINE,
    RETURN,
    Broken,
    LineEnds,
    Splitter,
    after_lines,
    blocks,
    is_rule,
    record_lines,
    wrong_count,
)
from sabueso.intake.readers.source import (
    CHUNK,
    UNTOLD,
    assumed_encoding,
    detect_encoding,
    is_text,
    opened,
    other_encoding,
    plain_suffix,
)
from sabueso.intake.settings import ReadSettings

csv.field_size_limit(2**31 - 1)  # a long text is no error
WORKERS = 2
REPEATED = pa.dictionary(pa.int32(), pa.string())
SAMPLE = 1 << 20
SAMPLE_ROWS = 500
DELIMITERS = {";": "semicolon", ",": "comma", "\t": "tab", "|": "bar"}


@dataclass(frozen=True)
class _Delimited(Layout):
    encoding: str
    delimiter: str


_NO_TEXT = {
    b"PK\x03\x04": "a spreadsheet or a packed file", b"\xd0\xcf\x11\xe0": "a spreadsheet or document",
    b"%PDF-": "a PDF document", b"\x1f\x8b": "a packed file", b"BZh": "a packed file", b"PAR1": "a Parquet table",
    b"\xfd7zXZ": "a packed file", b"SQLite format 3": "a database",
}  # fmt: skip
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


class DelimitedReader:
    """Comma-, semicolon-, tab- or bar-separated text, under the suffix of a spreadsheet too."""

    suffixes = (".csv", ".txt", ".tsv", ".tab", ".psv", ".asc", ".dat", ".xls", ".xlsx")
    unit = "lines"
    reads_any = True

    def takes(self, path: Path) -> bool:
        return plain_suffix(path) not in (".xls", ".xlsx") or is_text(path)

    def layout(self, path: Path, settings: ReadSettings) -> _Delimited | Places:
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
        text = _decoded(head, encoding, path, whole)
        text = text.replace("\r\n", "\n").replace("\r", "\n")
        if not whole:
            text = text[: text.rfind("\n") + 1] or text
        lines = text.split("\n")
        if not any(line.strip() for line in lines):
            raise UserError(f"{path}: the file is empty; expected a header line and rows")
        said = _SEPARATOR.fullmatch(lines[0].strip())
        start = 1 if said else 0
        assumed = []
        if language and (language == UNTOLD or encoding not in ("latin-1", "cp1252")):
            assumed.append(assumed_encoding(encoding, language))
        delimiter = settings.delimiter or (said[1] if said else detect_delimiter(lines[start:]))
        if settings.delimiter is None and not said:
            places = layout_at_places(lines, encoding, assumed, settings)
            if places is not None and len(places.header) > _fields(lines, delimiter):
                return places
        header, header_line, notes = _header(path, lines, start, delimiter, settings)
        above = list(csv.reader(lines[start : max(header_line - 1, start)], delimiter=delimiter))
        notes += [*assumed, *scale_notes(above)]
        sample = _sample("\n".join(lines[header_line:]), delimiter, len(header))
        if len(header) == 1 and settings.delimiter is None:
            _refuse_other_forms(path, lines[header_line:])
        names = column_names(header)
        columns = list(zip(*sample, strict=True)) if sample else [()] * len(names)
        return _Delimited(
            header=names,
            header_line=header_line,
            described={
                "encoding": encoding,
                "delimiter": DELIMITERS.get(delimiter, repr(delimiter)),
            },
            sample=pa.table([pa.array(c, pa.string()) for c in columns], names=names),
            notes=(*notes, *name_notes(header, names)),
            found={"encoding": encoding, "delimiter": delimiter}
            | ({} if header_line == 1 else {"header": header_line}),
            currency=currency_above(above),
            year=year_above(above),
            encoding=encoding,
            delimiter=delimiter,
        )

    def batches(
        self, path: Path, layout: Layout, settings: ReadSettings, repeated: Collection[str] = ()
    ) -> Generator[Batch]:
        if isinstance(layout, Places):
            yield from self._cut(path, layout, settings)
            return
        assert isinstance(layout, _Delimited)
        splitter = Splitter(layout.delimiter.encode(), len(layout.header), layout.header_line + 1)
        kinds = {name: REPEATED if name in repeated else pa.string() for name in layout.header}
        waiting: deque[tuple[bytes, Future[Batch | None]]] = deque()
        pool = ThreadPoolExecutor(WORKERS)
        try:
            with opened(path) as file:
                ends = LineEnds()
                stream = blocks(ends.counted(_utf8(file, layout.encoding, path, settings)))
                # The header is cut off: of a file of a line or two it may be in the second block.
                first = after_lines(stream, layout.header_line)
                for block in chain([first] if first else [], stream):
                    waiting.append((block, pool.submit(_whole_block, block, layout, kinds)))
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
            stream = blocks(ends.counted(_utf8(file, layout.encoding, path, settings)))
            first = after_lines(stream, layout.header_line)
            given = chain([first] if first else [], stream)
            yield from cut_batches(given, layout, layout.header_line + 1)
            yield counted(layout.header, ends.lines)

    def _next(
        self,
        splitter: Splitter,
        block: bytes,
        parsed: Future[Batch | None],
        layout: _Delimited,
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
        cells = _cells(records.text, layout, multiline=records.multiline)
        if cells.num_rows != len(records.lines):
            raise ProgramFault(
                f"{cells.num_rows} rows parsed where {len(records.lines)} records were counted"
            )
        return Batch(
            lines=records.lines,
            cells=cells,
            damaged=[_damaged(b, layout) for b in records.broken],
            blank=records.blank,
            continued=records.continued,
        )


_SEPARATOR = re.compile(r"(?i)sep=(.)")


def _header(
    path: Path, lines: list[str], start: int, delimiter: str, settings: ReadSettings
) -> tuple[list[str], int, list[str]]:
    """The header's cells, the last line of it, and what is to be said of how it was found."""
    given = settings.header
    if isinstance(given, int):
        if given > len(lines):
            raise UserError(f"{path}: there is no line {given} to be the header")
        return *_record(path, lines, given - 1, delimiter), []
    rows, firsts = _rows(lines, start, delimiter)
    found = find_header(rows)
    if found is None:
        raise UserError(f"{path}: the file is empty; expected a header line and rows")
    first = firsts[found.row]
    if given == "none" or (found.none and given is None):
        said = "the file has no header line; the columns are named by their places"
        cells = [f"column {i}" for i in range(1, found.width + 1)]
        return cells, first, [said if given else Assumed(said, "read.header")]
    cells, last = _record(path, lines, first, delimiter)
    notes: list[str] = []
    top = first
    if found.above is not None:
        top = firsts[found.above]
        cells = joined_names(rows[found.above], cells)
        notes.append(
            Assumed(f"the names stand in two lines, {top + 1} and {first + 1}", "read.header")
        )
    skipped = [i for i in range(start, top) if lines[i].strip()]
    if skipped:
        notes.append(Assumed(said_above(first + 1, len(skipped)), "read.header"))
    # One mark more, or less, at the end of every line is a habit of the program that wrote them.
    wide = Counter(len(row) for row in rows[found.row + 1 :] if any(row))
    usual = wide.most_common(1)[0][0] if wide else len(cells)
    if usual == len(cells) - 1 and not cells[-1].strip():
        cells = cells[:-1]
        notes.append("the header ends with a mark more than the lines below: it is left out")
    elif usual == len(cells) + 1 and not any(
        row[-1] for row in rows[found.row + 1 :] if len(row) == usual
    ):
        cells = [*cells, ""]
        notes.append("every line ends with a mark more than the header: an empty column is kept")
    return cells, last, notes


def _record(path: Path, lines: list[str], first: int, delimiter: str) -> tuple[list[str], int]:
    """The cells of the record that starts at a line, and its last line from 1."""
    # A name in quotes may go on in the next line.
    pieces = [line.encode("utf-8", "surrogateescape") for line in lines[first:]]
    spanned = record_lines(pieces, delimiter.encode())
    if not spanned:
        raise UserError(f"{path}, line {first + 1}: the header opens a quote and does not close it")
    body = "\n".join(lines[first : first + spanned])
    try:
        cells = next(csv.reader(io.StringIO(body, newline=""), delimiter=delimiter), [])
    except csv.Error as error:
        raise UserError(f"{path}, line {first + 1}: {error}; expected a header line") from None
    return cells, first + spanned


def _rows(lines: list[str], start: int, delimiter: str) -> tuple[list[list[str]], list[int]]:
    """The first records, their cells trimmed, each with its first line from 0."""
    rows: list[list[str]] = []
    firsts: list[int] = []
    at = start
    while at < len(lines) and len(rows) < LOOKED_AT:
        pieces = [line.encode("utf-8", "surrogateescape") for line in lines[at : at + 40]]
        spanned = record_lines(pieces, delimiter.encode()) or 1
        body = "\n".join(lines[at : at + spanned])
        try:
            cells = next(csv.reader(io.StringIO(body, newline=""), delimiter=delimiter), [])
        except csv.Error:
            cells = [body]
        rows.append([" ".join(cell.split()) for cell in cells])
        firsts.append(at)
        at += spanned
    return rows, firsts


def _whole_block(
    block: bytes, layout: _Delimited, kinds: Mapping[str, pa.DataType]
) -> Batch | None:
    """A block in which every line is a record, its lines counted from 0; None where one is not.

    The parser's count of records must be the count of line ends: a quote that swallowed one would
    show.
    """
    quoted = b'"' in block
    if b"\0" in block or (quoted and block.count(b'"') % 2):
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
        if text.strip(layout.delimiter + " \t") and not is_rule(raw):
            broken.append(wrong_count(place, row.actual_columns, fields, raw))
        else:
            empty.append(place)
        return "skip"

    try:
        cells = _parsed(block, layout, kinds, multiline=True, quoted=quoted, invalid=set_aside)
    except pa.ArrowInvalid:
        return None
    lines = cells.num_rows + len(broken) + len(empty)
    if quoted and lines != np.count_nonzero(data == NEWLINE):
        return None
    return Batch(
        lines=np.delete(np.arange(lines), [*(b.line for b in broken), *empty]),
        cells=cells,
        damaged=[_damaged(b, layout) for b in broken],
        blank=len(empty),
    )


def _cells(text: bytes, layout: _Delimited, *, multiline: bool) -> pa.Table:
    kinds = {name: pa.string() for name in layout.header}
    if not text:
        return pa.table({name: pa.array([], pa.string()) for name in layout.header})
    return _parsed(text, layout, kinds, multiline=multiline)


def _parsed(
    text: bytes,
    layout: _Delimited,
    kinds: Mapping[str, pa.DataType],
    *,
    multiline: bool,
    quoted: bool = True,
    invalid: Callable[[pa.csv.InvalidRow], str] | None = None,
) -> pa.Table:
    return pa.csv.read_csv(
        pa.BufferReader(text),
        read_options=pa.csv.ReadOptions(
            column_names=layout.header, block_size=len(text) + 1, use_threads=False
        ),
        parse_options=pa.csv.ParseOptions(
            delimiter=layout.delimiter,
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


def _damaged(broken: Broken, layout: _Delimited) -> Damaged:
    text = broken.text.decode("utf-8", "replace")
    count = len(layout.header)
    column = ""
    if broken.fields:
        column = layout.header[min(broken.fields, count) - 1]
    return Damaged(broken.line, column, "", broken.reason, text)


def _sample(text: str, delimiter: str, fields: int) -> list[list[str]]:
    """The first whole records, cut as the file will be: an open quote swallows none of them."""
    splitter = Splitter(delimiter.encode(), fields, 1)
    records = splitter.split(text.encode("utf-8", "surrogateescape") + b"\n", last=True)
    good = io.StringIO(records.text.decode("utf-8", "surrogateescape"), newline="")
    return list(islice(csv.reader(good, delimiter=delimiter), SAMPLE_ROWS))


def _fields(lines: list[str], delimiter: str) -> int:
    """Into how many fields a mark cuts most of the first lines."""
    filled = [line for line in lines[:200] if line.strip()]
    sizes = Counter(len(row) for row in csv.reader(filled, delimiter=delimiter) if row)
    return sizes.most_common(1)[0][0] if sizes else 0


def detect_delimiter(lines: list[str]) -> str:
    """The mark that cuts most lines into equally many fields, of those into the most."""
    chosen = [line for line in lines[:200] if line.strip()]
    best, score = ",", (0.0, 0)
    for mark in DELIMITERS:
        sizes = Counter(len(row) for row in csv.reader(chosen, delimiter=mark) if row)
        several = {size: count for size, count in sizes.items() if size > 1}
        if several:
            fields = max(several, key=lambda size: (several[size], size))
            share = several[fields] / max(sum(sizes.values()), 1)
            if (round(share, 1), fields) > score:
                best, score = mark, (round(share, 1), fields)
    return best


def _decoded(head: bytes, encoding: str, path: Path, whole: bool) -> str:
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    try:
        return decoder.decode(head, final=whole).removeprefix("\ufeff")
    except UnicodeDecodeError as error:
        line = head[: error.start].count(b"\n") + 1
        raise UserError(
            f"{path}, line {line}: byte {head[error.start]:#04x} is not {encoding}; "
            "set read.encoding of the table in case.toml"
        ) from None


def _utf8(file: IO[bytes], encoding: str, path: Path, settings: ReadSettings) -> Iterator[bytes]:
    """The file as UTF-8 chunks without a byte-order mark.

    Raises
    ------
    OtherEncoding
        If what was taken for UTF-8 is not.
    UserError
        If it is not in the encoding given.
    """
    if encoding in ("utf-8", "ascii"):
        yield from _checked(file, path, given=settings.encoding is not None)
        return
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    start, done = True, False
    while not done:
        chunk = file.read(CHUNK)
        done = not chunk
        try:
            text = decoder.decode(chunk, final=done)
        except UnicodeDecodeError as error:
            raise UserError(
                f"{path}: {error.reason} near byte {file.tell() - len(chunk) + error.start}: the "
                f"file is not {encoding}; set read.encoding of the table in case.toml"
            ) from None
        if start and text:
            text, start = text.removeprefix("\ufeff"), False
        if text:
            yield text.encode("utf-8")


def _checked(file: IO[bytes], path: Path, *, given: bool) -> Iterator[bytes]:
    """UTF-8 as it is, once it is seen to be that."""
    decoder = codecs.getincrementaldecoder("utf-8")("strict")
    done = False
    while not done:
        chunk = file.read(CHUNK)
        done = not chunk
        try:
            # A chunk of ASCII needs no decoding, unless a letter is still open before it.
            if done or not chunk.isascii() or decoder.getstate()[0]:
                decoder.decode(chunk, final=done)
        except UnicodeDecodeError:
            if not given:
                raise OtherEncoding(other_encoding(path)[0]) from None
            raise UserError(
                f"{path} is not utf-8; set read.encoding of the table in case.toml"
            ) from None
        if chunk:
            yield chunk
