"""Marks of delimited text beside the usual: other delimiters, single quotes, marks after a backslash.

A file in such marks is rewritten block by block into the usual ones, so that one parser reads them all. Every step can
be undone to the letter: what is set aside is shown as it stands in the file.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.settings import ReadSettings

LOOKED_AT = 200
OTHERS = "~^\x01\x1f\x1e\x1d\x1c\x02\x14¦§¬¤"
"""Delimiters that are looked for where the usual ones cut nothing."""
BETWEEN = "\x1f"
"""What stands for a delimiter of several bytes."""
# Characters that Unicode keeps for a program's own use, and no text has.
_BACKSLASH, _DOUBLE, _SINGLE, _DELIMITER, _AWAY = "\ufdd0\ufdd1\ufdd2\ufdd3\ufdd4"
_SWAPPED = str.maketrans("\"'", "'\"")
_SWAPPED_BYTES = bytes.maketrans(b"\"'", b"'\"")
_JOINED = frozenset("|;~^\t¦§¬")
"""What a delimiter of several characters is made of, if not of one alone."""
_AGREED = 0.95
_WRAPPED = re.compile(rb'^"((?:[^"\r\n]|"")*)"(?=[ \t]*\r?$)', re.MULTILINE)


@dataclass(frozen=True)
class Dialect:
    """How the fields of a file are parted, quoted and escaped."""

    delimiter: str = ","
    quote: str = '"'
    escape: bool = False
    """Whether a backslash takes its meaning from the quote, delimiter or backslash after it."""
    wrapped: bool = False
    """Whether each line stands within quotes as one field."""

    @property
    def mark(self) -> str:
        """The delimiter in what is handed on: one byte."""
        return self.delimiter if len(self.delimiter.encode()) == 1 else BETWEEN

    @property
    def is_usual(self) -> bool:
        """Whether nothing is to be rewritten."""
        others = self.quote != '"' or self.escape or self.wrapped
        return not others and self.mark == self.delimiter

    @cached_property
    def _escapes(self) -> dict[str, str]:
        """What stands in the file, and what stands for it here."""
        stand_ins = {"\\\\": _BACKSLASH, '\\"': _DOUBLE, "\\'": _SINGLE}
        return stand_ins | {f"\\{self.delimiter}": _DELIMITER} if self.escape else {}

    @cached_property
    def _meant(self) -> dict[str, str]:
        """What is to be put in a cell of rewritten lines for what stands there, one after the other."""
        # Quotes change places by way of a character that no text has.
        meant = {"'": _AWAY, '"': "'", _AWAY: '"'} if self.quote == "'" else {}
        meant |= {stand_in: written[1:] for written, stand_in in self._escapes.items()}
        return meant | ({BETWEEN: self.delimiter} if self.mark != self.delimiter else {})

    @cached_property
    def _pattern(self) -> re.Pattern[bytes]:
        return re.compile(b"|".join(re.escape(written.encode()) for written in self._escapes))

    def block(self, block: bytes) -> bytes:
        """Whole lines in the usual marks; as many lines as before."""
        if self.wrapped:
            block = _WRAPPED.sub(_unwrapped, block)
        if self.escape and b"\\" in block:
            stand_ins = {old.encode(): new.encode() for old, new in self._escapes.items()}
            block = self._pattern.sub(lambda found: stand_ins[found[0]], block)
        if self.mark != self.delimiter:
            block = block.replace(self.delimiter.encode(), BETWEEN.encode())
        return block.translate(_SWAPPED_BYTES) if self.quote == "'" else block

    def lines(self, lines: Sequence[str]) -> list[str]:
        """Lines in the usual marks."""
        if self.is_usual:
            return list(lines)
        text = "\n".join(lines).encode("utf-8", "surrogateescape")
        return self.block(text).decode("utf-8", "surrogateescape").split("\n")

    def as_written(self, text: str) -> str:
        """Text of rewritten lines as it stands in the file."""
        if self.quote == "'":
            text = text.translate(_SWAPPED)
        if self.mark != self.delimiter:
            text = text.replace(BETWEEN, self.delimiter)
        for written, stand_in in self._escapes.items():
            text = text.replace(stand_in, written)
        return '"' + text.replace('"', '""') + '"' if self.wrapped else text

    def cell(self, text: str) -> str:
        """What a cell of rewritten lines says."""
        for old, new in self._meant.items():
            text = text.replace(old, new)
        return text

    def cells(self, cells: pa.Table) -> pa.Table:
        """What the cells of rewritten lines say."""
        if self.is_usual:
            return cells
        for place, name in enumerate(cells.column_names):
            column = cells.column(name)
            if pa.types.is_dictionary(column.type):
                column = column.cast(pa.string())
            for old, new in self._meant.items():
                column = pc.replace_substring(column, old, new)
            cells = cells.set_column(place, name, column)
        return cells

    @property
    def described(self) -> dict[str, str]:
        """What is said of the marks beside the delimiter, where they are not the usual."""
        said = {"quote": "single"} if self.quote == "'" else {}
        said |= {"quote": "double, around each line"} if self.wrapped else {}
        return said | ({"escape": "backslash"} if self.escape else {})

    @property
    def found(self) -> dict[str, str]:
        """The same as settings of the plan."""
        said = {"quote": self.quote} if self.quote == "'" else {}
        return said | ({"escape": "backslash"} if self.escape else {})


def _unwrapped(found: re.Match[bytes]) -> bytes:
    return found[1].replace(b'""', b'"')


def _rows(
    lines: Sequence[str], delimiter: str, quote: str = '"', *, escape: bool = False
) -> Iterator[list[str] | None]:
    """The fields of each line; None of one whose quotes stand where none may."""
    for line in lines:
        try:
            yield next(
                csv.reader(
                    [line], delimiter=delimiter, quotechar=quote, strict=True,
                    escapechar="\\" if escape else None,
                ),
                [],
            )  # fmt: skip
        except csv.Error:
            yield None


def _faults(rows: Iterator[list[str] | None]) -> int:
    """Lines that have another number of fields than most, or none that can be told."""
    sizes = Counter(0 if row is None else len(row) for row in rows)
    usual = max((n for size, n in sizes.items() if size), default=0)
    return sum(sizes.values()) - usual


def _is_single_quoted(lines: Sequence[str], delimiter: str) -> bool:
    """Whether nearly every line has fields within single quotes, and none within double ones."""
    mark = re.escape(delimiter)
    field = rf"(?:^|{mark})%s(?:[^%s]|%s)*%s(?=$|{mark})"
    single = re.compile(field % ("'", "'", "''", "'"))
    double = re.compile(field % ('"', '"', '""', '"'))
    if any(double.search(line) for line in lines):
        return False
    return sum(bool(single.search(line)) for line in lines) >= _AGREED * len(lines)


def _alike(lines: Sequence[str], mark: str) -> int:
    """How often nearly every line has a mark; 0 where they differ."""
    counts = Counter(line.count(mark) for line in lines)
    usual, many = counts.most_common(1)[0]
    return usual if many >= _AGREED * len(lines) else 0


def _longer(lines: Sequence[str], delimiter: str) -> str:
    """The mark of several characters that every delimiter is a part of, such as ``||`` or ``~|~``; else the
    delimiter."""
    first = lines[0]
    places = [i for i, letter in enumerate(first) if letter == delimiter]
    for size in (3, 2):
        for back in range(size):
            around = {first[max(i - back, 0) : max(i - back, 0) + size] for i in places}
            for mark in sorted(around):
                # A sign beside a delimiter may be a unit: 5 %,100 has no delimiter of two.
                if len(mark) != size or not (set(mark) <= _JOINED or mark == delimiter * size):
                    continue
                if not any(delimiter in line.replace(mark, "") for line in lines) and all(
                    map(str.strip, first.split(mark))
                ):
                    return mark
    return delimiter


def is_wrapped(lines: Sequence[str]) -> bool:
    """Whether each line stands within quotes as a whole, and holds fields of its own.

    Examples
    --------
    >>> is_wrapped(['"a,b"', '"1,x"']), is_wrapped(['"a","b"', '"1","x"']), is_wrapped(['"a"', '"b"'])
    (True, False, False)
    """
    filled = [line.encode("utf-8", "surrogateescape") for line in lines[:LOOKED_AT] if line.strip()]
    found = [_WRAPPED.fullmatch(line) for line in filled]
    if len(filled) < 2 or not all(found):
        return False
    inside = [_unwrapped(match).decode("utf-8", "surrogateescape") for match in found if match]
    for mark in ",;\t|":
        sizes = Counter(0 if row is None else len(row) for row in _rows(inside, mark))
        fields, many = sizes.most_common(1)[0]
        if fields > 1 and many >= _AGREED * len(inside):
            return True
    return False


def other_delimiter(lines: Sequence[str]) -> str:
    """A delimiter beside the usual that cuts nearly every line into as many fields; none, where it is empty."""
    filled = [line for line in lines[:LOOKED_AT] if line.strip()]
    if len(filled) < 2:
        return ""
    often = {mark: _alike(filled, mark) for mark in OTHERS}
    best = max(often, key=lambda mark: often[mark])
    return _longer(filled, best) if often[best] else ""


def dialect_of(
    lines: Sequence[str], delimiter: str, settings: ReadSettings, *, wrapped: bool = False
) -> Dialect:
    """How a file is written whose fields a delimiter parts: what the plan says, and what its first lines show.

    Of lines that stand within quotes, those without them are looked at.
    """
    filled = [line for line in lines[:LOOKED_AT] if line.strip()]
    if settings.delimiter is None and filled:
        delimiter = _longer(filled, delimiter)
    quote, escape = settings.quote, settings.escape
    plain = Dialect(delimiter)
    shown = plain.lines(filled)
    if quote is None:
        quote = "'" if len(filled) > 1 and _is_single_quoted(shown, plain.mark) else '"'
    if escape is None:
        marked = any(f"\\{mark}" in line for line in filled for mark in ('"', "'", delimiter))
        escape = "none"
        if marked:
            without = _faults(_rows(shown, plain.mark, quote))
            escaped = _faults(_rows(shown, plain.mark, quote, escape=True))
            escape = "backslash" if escaped < without else "none"
    return Dialect(delimiter, quote, escape == "backslash", wrapped)
