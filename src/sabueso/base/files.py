"""Files that appear whole or not at all, and cells that no spreadsheet runs."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import uuid
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sabueso.base.visible import json_visible, visible

_NUMBER = re.compile(r"-?[0-9]+(?:[.,][0-9]+)*")
# Also as full-width characters, which spreadsheets fold to the plain ones.
_FORMULA = frozenset("=+-@＝＋－＠")
_BLANKS = " \t\r\n\v\f\u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u200b\u202f\u205f\u3000\ufeff"


def unfinished(path: Path) -> Path:
    """Where a file is written before it gets its name: beside it, unlike any other process's."""
    # A name that is as long as a file system allows leaves no room for more.
    return path.with_name(f".{path.name[:80]}.{uuid.uuid4().hex[:12]}.part")


def write_whole(path: Path, content: bytes) -> None:
    """Write a file beside its place, flush it to the disk, and move it there in one step."""
    with whole_file(path) as temporary:
        temporary.write_bytes(content)


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A file beside its place, to be written by the caller; it is moved there in one step when the
    block ends well, and taken away when it does not."""
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = unfinished(path)
    try:
        yield temporary
        flush_file(temporary)
        temporary.replace(path)
    except BaseException as error:
        temporary.unlink(missing_ok=True)
        if isinstance(error, OSError) and error.filename is None:
            error.filename = str(path)
        raise
    sync_folder(path.parent)


def flush_file(path: Path) -> None:
    """Flush to the disk what was written to a file by other means."""
    with path.open("r+b") as file:
        os.fsync(file.fileno())


def sync_folder(folder: Path) -> None:
    """Flush a folder's list of names, so that a rename outlives a power cut; where a system does
    not let a folder be opened, it sees to that itself."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    except OSError:
        pass
    finally:
        os.close(handle)


FORMAT = 1
"""The number of the JSON contract: within it keys are added, and none is renamed."""


def numbered(content: Any) -> Any:
    """A result with the number of its contract; a list of results is as it is."""
    return {"format": FORMAT, **content} if isinstance(content, dict) else content


def json_text(content: Any) -> str:
    """JSON a reader can follow: a key a line, and an item a line where a list holds objects.

    The library's own indenting writes one number at a time, ten times slower. What would steer a
    terminal is escaped.
    """
    return "".join(json_pieces(content))


def json_pieces(content: Any) -> Iterator[str]:
    """The same in pieces: a value that is an iterator of objects is written as they come."""
    one = json.JSONEncoder(ensure_ascii=False, allow_nan=False).encode

    def listed(value: Any, indent: str) -> Iterator[str]:
        streamed = isinstance(value, Iterator)
        if not streamed and not (isinstance(value, list) and value and isinstance(value[0], dict)):
            yield one(value)
            return
        before = f"[\n{indent} "
        for item in value:
            yield before + one(item)
            before = f",\n{indent} "
        yield f"\n{indent}]" if before[0] == "," else "[]"

    if not isinstance(content, dict):
        yield from map(json_visible, listed(content, ""))
        return
    before = "{\n"
    for key, value in content.items():
        yield f"{before} {json_visible(one(key))}: "
        yield from map(json_visible, listed(value, " "))
        before = ",\n"
    yield "{\n\n}" if before == "{\n" else "\n}"


def safe_cell(value: object) -> object:
    """A cell that no spreadsheet runs and no terminal obeys.

    Text that would start a formula, blanks before it or not, gets an apostrophe; controls become
    visible, but for the ends of lines and tabs, which a quoted cell holds. A number written as text
    is no formula: −12.50 stays what it is.
    """
    if not isinstance(value, str) or _NUMBER.fullmatch(value):
        return value
    text = visible(value, keep="\n\r\t")
    first = value.lstrip(_BLANKS)[:1]
    return "'" + text if (first in _FORMULA and first) or text[:1] in ("\t", "\r", "\n") else text


def csv_rows(rows: Iterable[Sequence[Any]], *, end: str = "\n") -> str:
    """Rows as CSV, every cell a safe one."""
    text = io.StringIO()
    plain = csv.writer(text, lineterminator=end)
    # The writer quotes the line end it is told of and no other.
    quoted = csv.writer(text, lineterminator=end, quoting=csv.QUOTE_ALL)
    for row in rows:
        cells = ["" if cell is None else safe_cell(cell) for cell in row]
        breaks = any(isinstance(c, str) and ("\r" in c or "\n" in c) for c in cells)
        (quoted if breaks else plain).writerow(cells)
    return text.getvalue()
