"""Which reader takes a file, and what the libraries behind readers say of a damaged one."""

from __future__ import annotations

import csv
import lzma
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pyarrow as pa

from sabueso.base import installed
from sabueso.base.errors import UserError
from sabueso.intake.interface import Reader
from sabueso.intake.readers.source import plain_suffix


def reader_for(path: Path) -> Reader:
    """The reader for a file's suffix, through the entry-point group ``sabueso.readers``.

    Raises
    ------
    UserError
        If no reader takes it.
    """
    suffix = plain_suffix(path)
    readers: list[Reader] = [point.load()() for point in installed.every("sabueso.readers")]
    fitting = [reader for reader in readers if suffix in reader.suffixes]
    # What reads any text stands back where another knows the text's form.
    for reader in sorted(fitting, key=lambda each: getattr(each, "reads_any", False)):
        if reader.takes(path):
            return reader
    if fitting:
        raise UserError(f"{path}: its content is not that of {suffix} files, and is not read")
    known = sorted({each for reader in readers for each in reader.suffixes})
    raise UserError(f"{path}: no reader for {suffix or 'a file without suffix'}; "
                    f"expected {', '.join(known)}, or one of them packed as .gz or .zip")  # fmt: skip


@contextmanager
def readable(path: Path) -> Iterator[None]:
    """What a library says of a damaged or odd file, as one sentence."""
    try:
        yield
    except _UNREADABLE as error:
        raise UserError(f"{path}: cannot be read: {_reason(error)}") from error
    except BaseException as error:
        # Of the spreadsheet library, whose compiled part has faults that are no exceptions like
        # others; it is not loaded for other files.
        kinds = {kind.__name__ for kind in type(error).__mro__}
        if not kinds & {"PanicException", "CalamineError"}:
            raise
        raise UserError(f"{path}: cannot be read, the file is damaged: {_reason(error)}") from error


def _reason(error: BaseException) -> str:
    text = (str(error).strip().splitlines() or ["no reason is known"])[0]
    return f"{text[:1].lower()}{text[1:]}"


_UNREADABLE = (
    pa.ArrowException, EOFError, UnicodeError, RecursionError, MemoryError, OverflowError,
    NotImplementedError, zlib.error, lzma.LZMAError, zipfile.BadZipFile, SyntaxError,
    struct.error, csv.Error,
)  # fmt: skip
"""What the libraries that read files raise of a file, and not of a fault in the call."""
