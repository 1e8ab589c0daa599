"""Files that appear whole or not at all."""

from __future__ import annotations

import os
import re
from pathlib import Path

_NUMBER = re.compile(r"-?[0-9]+(?:[.,][0-9]+)*")


def write_whole(path: Path, content: bytes) -> None:
    """Write a file beside its place, flush it to the disk, and move it there in one step."""
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        with temporary.open("wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise


def safe_cell(value: object) -> object:
    """A cell that no spreadsheet runs: text that would start a formula gets an apostrophe.

    A number written as text is no formula: −12.50 stays what it is.
    """
    if isinstance(value, str) and _NUMBER.fullmatch(value):
        return value
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r"):
        return "'" + value
    return value
