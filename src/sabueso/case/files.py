"""Files that appear whole or not at all."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path
from typing import Any

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


def json_text(content: Any) -> str:
    """JSON a reader can follow: a key a line, and an item a line where a list holds objects.

    The library's own indenting writes one number at a time, ten times slower.
    """
    one = json.JSONEncoder(ensure_ascii=False, allow_nan=False).encode

    def listed(value: Any, indent: str) -> str:
        if isinstance(value, list) and value and isinstance(value[0], dict):
            items = f",\n{indent} ".join(map(one, value))
            return f"[\n{indent} {items}\n{indent}]"
        return one(value)

    if not isinstance(content, dict):
        return listed(content, "")
    pairs = (f" {one(key)}: {listed(value, ' ')}" for key, value in content.items())
    return "{\n" + ",\n".join(pairs) + "\n}"


def safe_cell(value: object) -> object:
    """A cell that no spreadsheet runs: text that would start a formula gets an apostrophe.

    A number written as text is no formula: −12.50 stays what it is.
    """
    if isinstance(value, str) and _NUMBER.fullmatch(value):
        return value
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r"):
        return "'" + value
    return value
