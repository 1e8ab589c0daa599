"""Delimiter and header of delimited text."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Sequence
from itertools import islice
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.intake.formats.header import LOOKED_AT, find_header, joined_names
from sabueso.intake.interface import Assumed
from sabueso.intake.readers.cells import SAMPLE_ROWS, said_above
from sabueso.intake.readers.records import (
    LONGEST_RECORD,
    Splitter,
    record_lines,
)
from sabueso.intake.settings import ReadSettings

csv.field_size_limit(2**31 - 1)  # a long text is no error
DELIMITERS = {";": "semicolon", ",": "comma", "\t": "tab", "|": "bar"}


def header_of(
    path: Path, lines: list[str], start: int, delimiter: str, settings: ReadSettings
) -> tuple[list[str], int, list[str]]:
    """The header's cells, the last line of it, and what is to be said of how it was found."""
    given = settings.header
    if isinstance(given, int):
        if given > len(lines):
            raise UserError(f"{path}: there is no line {given} to be the header")
        cells, last = _record(path, lines, given - 1, delimiter)
        if not any(cell.strip() for cell in cells):
            raise UserError(f"{path}, line {given}: expected the header; the line is empty")
        return cells, last, []
    rows, firsts = _rows(lines, start, delimiter)
    found = find_header(rows)
    if found is None:
        raise UserError(f"{path}: the file is empty; expected a header line and rows")
    first = firsts[found.row]
    if given == "none" or (found.none and given is None):
        said = "the file has no header line; the columns are named by their places, and which have roles is for you to say"
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
        raise UserError(
            f"{path}, line {first + 1}: what would be the header opens a quote and does not close it within "
            f"{LONGEST_RECORD} lines"
        )
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
    looked = lines[: start + LOOKED_AT * LONGEST_RECORD]
    pieces = [line.encode("utf-8", "surrogateescape") for line in looked]
    while at < len(pieces) and len(rows) < LOOKED_AT:
        spanned = record_lines(pieces, delimiter.encode(), at) or 1
        body = "\n".join(lines[at : at + spanned])
        try:
            cells = next(csv.reader(io.StringIO(body, newline=""), delimiter=delimiter), [])
        except csv.Error:
            cells = [body]
        rows.append([" ".join(cell.split()) for cell in cells])
        firsts.append(at)
        at += spanned
    return rows, firsts


def first_records(text: str, delimiter: str, fields: int) -> list[list[str]]:
    """The first whole records, cut as the file will be: an open quote swallows none of them."""
    splitter = Splitter(delimiter.encode(), fields, 1)
    records = splitter.split(text.encode("utf-8", "surrogateescape") + b"\n", last=True)
    good = io.StringIO(records.text.decode("utf-8", "surrogateescape"), newline="")
    return list(islice(csv.reader(good, delimiter=delimiter), SAMPLE_ROWS))


def usual_fields(lines: list[str], delimiter: str) -> int:
    """Into how many fields a mark cuts most of the first lines."""
    filled = [line for line in lines[:200] if line.strip()]
    sizes = Counter(len(row) for row in csv.reader(filled, delimiter=delimiter) if row)
    return sizes.most_common(1)[0][0] if sizes else 0


def is_bordered(lines: Sequence[str]) -> bool:
    """Whether a list is drawn with bars on both sides of its lines, and as many between their columns."""
    drawn = [line.strip() for line in lines[:200] if any(map(str.isalnum, line))]
    bars = Counter(line.count("|") for line in drawn if line.startswith("|") and line.endswith("|"))
    usual, many = bars.most_common(1)[0] if bars else (0, 0)
    return usual > 2 and many > 0.8 * len(drawn)


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
