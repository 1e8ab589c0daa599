"""Cut delimited text into records, every one with the line it starts on.

Lines and fields are counted on the bytes themselves, in NumPy, before any parser sees them: a
record with a missing or a surplus field is set aside by its line number, and what is handed on has
exactly one field a column.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

NEWLINE, RETURN, QUOTE = 10, 13, 34
_END = re.compile(rb"\r\n|\r|\n")
_COUNTED = 1 << 17
LONGEST_RECORD = 200  # physical lines; an opening quote without an end would swallow the file


@dataclass(frozen=True)
class Broken:
    """A record with the wrong number of fields, or an unclosed quote."""

    line: int
    fields: int
    text: bytes
    reason: str


RULE = r"[\s|+;,:=_*-]*[-=_*]{3}[\s|+;,:=_*-]*"
_RULED, _DRAWN = b" \t\r\n\v\f|+;,:=_*-", re.compile(rb"[-=_*]{3}")


def is_rule(text: bytes) -> bool:
    """Whether a line is drawn between others, and says nothing.

    Examples
    --------
    >>> is_rule(b"|---|--|"), is_rule(b"-- --"), is_rule(b"-" * 100_000 + b" Total")
    (True, False, False)
    """
    # Not by one pattern: of a long line of dashes with a letter at its end it would be tried from each.
    return not text.strip(_RULED) and _DRAWN.search(text) is not None


def wrong_count(line: int, fields: int, expected: int, text: bytes) -> Broken:
    """A record with too few or too many fields."""
    less = "too few" if fields < expected else "too many"
    return Broken(line, fields, text, f"{less} fields: {fields}, expected {expected}")


@dataclass(frozen=True)
class Records:
    """Whole records of a block: good ones joined as text, with their first lines."""

    text: bytes
    lines: np.ndarray
    broken: list[Broken]
    blank: int
    continued: int
    multiline: bool


def blocks(chunks: Iterable[bytes]) -> Iterator[bytes]:
    """Join chunks into blocks that end with a line; the last may lack its line end.

    A line ends with a line feed, a carriage return, or both.
    """
    carry: list[bytes] = []
    for chunk in chunks:
        end = chunk.rfind(b"\n") + 1
        # A return at the very end may be the first half of an end of line.
        end = max(end, chunk.rfind(b"\r", end, len(chunk) - 1) + 1)
        if end == 0:
            carry.append(chunk)
            continue
        yield b"".join([*carry, memoryview(chunk)[:end]])
        carry = [chunk[end:]] if end < len(chunk) else []
    rest = b"".join(carry)
    if rest:
        yield rest


def count_of(byte: int, data: bytes) -> int:
    """How often a byte occurs: several times as fast as ``bytes.count``, and other threads run meanwhile.

    Examples
    --------
    >>> count_of(NEWLINE, b"one\\ntwo\\n"), count_of(QUOTE, b"")
    (2, 0)
    """
    values, found = np.frombuffer(data, np.uint8), 0
    # In pieces that stay in the processor's cache.
    for at in range(0, len(values), _COUNTED):
        found += int(np.count_nonzero(values[at : at + _COUNTED] == byte))
    return found


class LineEnds:
    """Counts the lines of a text by its bytes alone, to check what was made of them."""

    def __init__(self) -> None:
        self._ends = 0
        self._last = b""

    def counted(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """Hand chunks on, and count them."""
        for chunk in chunks:
            self._ends += count_of(NEWLINE, chunk)
            if b"\r" in chunk:
                self._ends += count_of(RETURN, chunk) - chunk.count(b"\r\n")
            if self._last == b"\r" and chunk.startswith(b"\n"):
                self._ends -= 1
            self._last = chunk[-1:] or self._last
            yield chunk

    @property
    def lines(self) -> int:
        """Lines so far, one that lacks its end included."""
        return self._ends + (self._last not in (b"", b"\n", b"\r"))


def after_lines(stream: Iterator[bytes], count: int) -> bytes:
    """What follows the first lines of a stream in the block in which they end: empty where they are all."""
    data, at = next(stream, b""), 0
    for _ in range(count):
        found = _END.search(data, at)
        while found is None:
            more = next(stream, None)
            if more is None:
                return b""
            data, at = data[at:] + more, 0
            found = _END.search(data)
        at = found.end()
    return data[at:]


def record_lines(pieces: Sequence[bytes], delimiter: bytes, at: int = 0) -> int:
    """Lines of the record that starts at a piece; 0 where its quote does not close."""
    inside = False
    for size, piece in enumerate(pieces[at : at + LONGEST_RECORD], 1):
        inside = _still_open(piece, delimiter[0], inside)
        if not inside:
            return size
    return 0


class Splitter:
    """Splits blocks of lines into records; keeps a record that goes on in the next block."""

    def __init__(self, delimiter: bytes, fields: int, first_line: int) -> None:
        self._mark = delimiter
        self._delimiter = delimiter[0]
        self._fields = fields
        self._line = first_line
        self._open = b""

    @property
    def is_open(self) -> bool:
        """Whether a record goes on in the next block."""
        return bool(self._open)

    def skip(self, lines: int) -> int:
        """Pass over lines that were read elsewhere; returns the first of them."""
        first = self._line
        self._line += lines
        return first

    def split(self, block: bytes, *, last: bool = False) -> Records:
        """Records of the next block. With ``last``, an unclosed quote is an error, not a wait."""
        data = self._open + block
        if not data.endswith((b"\n", b"\r")):
            data += b"\n"
        self._open = b""
        fed = data if data.count(b"\r") == data.count(b"\r\n") else _returns_fed(data)
        if fed is None or b"\0" in data:
            return self._slow(data, last)
        if fed.find(b'"') < 0:
            return self._plain(fed)
        return self._quoted(fed, last) or self._slow(data, last)

    def _plain(self, data: bytes) -> Records:
        """No quote anywhere: every line is a record."""
        buffer = np.frombuffer(data, dtype=np.uint8)
        ends = np.flatnonzero(buffer == NEWLINE)
        delimiters = np.flatnonzero(buffer == self._delimiter)
        return self._collect(data, buffer, ends, delimiters, ends)

    def _quoted(self, data: bytes, last: bool) -> Records | None:
        """Quotes that all stand where they should; None where one does not."""
        buffer = np.frombuffer(data, dtype=np.uint8)
        quotes = np.flatnonzero(buffer == QUOTE)
        newlines = np.flatnonzero(buffer == NEWLINE)
        # An even number of quotes before a mark means that it stands outside of any quotes.
        outside = newlines[np.searchsorted(quotes, newlines) % 2 == 0]
        if not outside.size or outside[-1] != len(data) - 1:
            if last:
                return None
            cut = int(outside[-1]) + 1 if outside.size else 0
            rest = data[cut:]
            if rest.count(b"\n") > LONGEST_RECORD:
                return None
            if cut == 0:
                self._open = rest
                return Records(b"", np.empty(0, np.int64), [], 0, 0, False)
            found = self._quoted(data[:cut], True)
            if found is not None:
                self._open = rest
            return found
        opening, closing = quotes[::2], quotes[1::2]
        before = np.where(opening > 0, buffer[np.maximum(opening - 1, 0)], NEWLINE)
        after = buffer[np.minimum(closing + 1, len(data) - 1)]
        d = self._delimiter
        if not np.isin(before, (d, NEWLINE, QUOTE)).all():
            return None
        if not np.isin(after, (d, NEWLINE, RETURN, QUOTE)).all():
            return None
        lengths = np.diff(np.searchsorted(newlines, outside), prepend=-1)
        if lengths.max(initial=1) > LONGEST_RECORD:
            return None
        delimiters = np.flatnonzero(buffer == d)
        delimiters = delimiters[np.searchsorted(quotes, delimiters) % 2 == 0]
        return self._collect(data, buffer, outside, delimiters, newlines)

    def _collect(
        self,
        data: bytes,
        buffer: np.ndarray,
        ends: np.ndarray,
        delimiters: np.ndarray,
        newlines: np.ndarray,
    ) -> Records:
        """Sort the records that end at ``ends`` into good, blank and broken ones."""
        starts = np.concatenate(([0], ends[:-1] + 1))
        counts = np.diff(np.searchsorted(delimiters, ends), prepend=0)
        sizes = ends - starts
        sizes = sizes - ((sizes > 0) & (buffer[np.maximum(ends - 1, 0)] == RETURN))
        plain = newlines is ends
        rank = np.arange(len(ends)) if plain else np.searchsorted(newlines, ends)
        first = np.concatenate(([0], rank[:-1] + 1))
        lines = self._line + first
        total = int(rank[-1]) + 1 if len(rank) else 0
        blank = sizes == counts  # nothing but delimiters
        good = (counts == self._fields - 1) & ~blank
        broken: list[Broken] = []
        empty = int(blank.sum())
        for i in np.flatnonzero(~good & ~blank).tolist():
            text = data[starts[i] : ends[i]].rstrip(b"\r")
            if not text.strip() or is_rule(text):
                empty += 1
                continue
            broken.append(wrong_count(int(lines[i]), int(counts[i]) + 1, self._fields, text))
        self._line += total
        kept = data if good.all() else _runs(data, starts, ends, good)
        return Records(
            text=kept,
            lines=lines[good],
            broken=broken,
            blank=empty,
            continued=total - len(ends),
            multiline=total > len(ends),
        )

    def _slow(self, data: bytes, last: bool) -> Records:
        """Stray quotes, NUL bytes or returns within quotes: record by record.

        A quote inside a bare field is a letter.
        """
        pieces = data.splitlines(keepends=True)
        good = io.StringIO()
        mark = chr(self._delimiter)
        writer = csv.writer(good, delimiter=mark, lineterminator="\n", quoting=csv.QUOTE_ALL)
        lines: list[int] = []
        broken: list[Broken] = []
        blank = continued = at = 0
        while at < len(pieces):
            size = record_lines(pieces, self._mark, at)
            if size == 0 and not last and len(pieces) - at <= LONGEST_RECORD:
                self._open = b"".join(pieces[at:])
                break
            line = self._line + at
            if size == 0:
                reason = "a quote is opened and not closed"
                if len(pieces) - at > LONGEST_RECORD:
                    reason += f" within {LONGEST_RECORD} lines"
                broken.append(Broken(line, 0, pieces[at].rstrip(b"\r\n"), reason))
                at += 1
                continue
            raw = b"".join(pieces[at : at + size]).removesuffix(b"\n").removesuffix(b"\r")
            at += size
            continued += size - 1
            if not raw.strip(bytes([self._delimiter, 32, 9])) or is_rule(raw):
                blank += 1
            elif b"\0" in raw:
                broken.append(Broken(line, 0, raw, "holds a NUL byte"))
            else:
                text = raw.decode("utf-8", "surrogateescape")
                parsed = list(csv.reader(io.StringIO(text, newline=""), delimiter=mark))
                if len(parsed) != 1:
                    broken.append(Broken(line, 0, raw, "holds an end of line in a bare field"))
                elif len(parsed[0]) == self._fields:
                    writer.writerow(parsed[0])
                    lines.append(line)
                else:
                    broken.append(wrong_count(line, len(parsed[0]), self._fields, raw))
        self._line += at
        joined = good.getvalue().encode("utf-8", "surrogateescape")
        return Records(joined, np.array(lines, dtype=np.int64), broken, blank, continued, True)


def _returns_fed(data: bytes) -> bytes | None:
    """Lone carriage returns as line feeds; None where one stands within quotes, and is text."""
    buffer = np.frombuffer(data, np.uint8).copy()
    returns = np.flatnonzero(buffer == RETURN)
    after = buffer[np.minimum(returns + 1, len(buffer) - 1)]
    lone = returns[after != NEWLINE]
    quotes = np.flatnonzero(buffer == QUOTE)
    if (np.searchsorted(quotes, lone) % 2).any():
        return None
    buffer[lone] = NEWLINE
    return buffer.tobytes()


def _still_open(line: bytes, delimiter: int, inside: bool) -> bool:
    """Whether a quoted field is open after a line. Only a quote at a field's start opens one."""
    if not inside and b'"' not in line:
        return False
    at_start, i = not inside, 0
    while i < len(line):
        mark = line[i]
        if inside:
            if mark == QUOTE:
                if line[i + 1 : i + 2] == b'"':
                    i += 1
                else:
                    inside = False
        elif mark == QUOTE and at_start:
            inside = True
        at_start = not inside and mark == delimiter
        i += 1
    return inside


def _runs(data: bytes, starts: np.ndarray, ends: np.ndarray, good: np.ndarray) -> bytes:
    """The good records joined, copied in runs."""
    edges = np.diff(good.astype(np.int8), prepend=0, append=0)
    first, after = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
    return b"".join(
        data[starts[a] : ends[b - 1] + 1]
        for a, b in zip(first.tolist(), after.tolist(), strict=True)
    )
