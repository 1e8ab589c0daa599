"""JSON whose columns stand one after another, each with all its values: arrays, or objects by the number of a row."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from sabueso.base.errors import UserError
from sabueso.base.plain import Json
from sabueso.intake.readers.source import opened

LARGEST = 256 << 20
"""Bytes beyond which such a file is not read: a row is there only once all of it is."""
_SCALAR = re.compile(r"""\[\s*(?:"|-?[0-9]|true\b|false\b|null\b)""")
_NUMBERED = re.compile(r'\{\s*"[0-9]+"\s*:')


def is_column(text: str, begin: int, value: Any) -> bool:
    """Whether the values of a column begin at a place, whole (``value``) or not."""
    if isinstance(value, list):
        return len(value) > 1 and not any(isinstance(each, (list, dict)) for each in value)
    if isinstance(value, dict):
        return len(value) > 1 and all(key.isdigit() for key in value)
    return value is None and bool(_SCALAR.match(text, begin) or _NUMBERED.match(text, begin))


def columns_in(members: Sequence[tuple[str, int, Any]], text: str) -> bool:
    """Whether members of an object are columns: two of one length, or one that goes on beyond what was read."""
    found = [value for _, begin, value in members if is_column(text, begin, value)]
    if any(value is None for value in found):
        return True
    sizes = Counter(len(value) for value in found)
    return max(sizes.values(), default=0) > 1


def records_of(
    path: Path, within: Sequence[str], decoder: json.JSONDecoder
) -> Iterator[tuple[int, Json]]:
    """Rows by their number, of the columns of the object under some keys.

    Raises
    ------
    UserError
        If the columns have not all the same length, the file is too large, or no JSON.
    """
    with opened(path) as file:
        raw = file.read(LARGEST + 1)
    if len(raw) > LARGEST:
        raise UserError(
            f"{path}: its columns stand one after another, in more than {LARGEST >> 20} MB; expected a record "
            "after another, such as JSON Lines"
        )
    try:
        value = decoder.decode(raw.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise UserError(f"{path}: the file is not utf-8: {error.reason}") from None
    except (json.JSONDecodeError, RecursionError) as error:
        reason = str(getattr(error, "msg", "nested too deeply")).lower()
        raise UserError(
            f"{path}, line {getattr(error, 'lineno', 1)}: is no JSON: {reason}"
        ) from None
    for key in within:
        value = value[key]
    columns = {name: each for name, each in value.items() if is_column("", 0, each)}
    sizes = {name: len(each) for name, each in columns.items()}
    if len(set(sizes.values())) != 1:
        (least, few), (most, many) = (
            f(sizes.items(), key=lambda each: each[1]) for f in (min, max)
        )
        raise UserError(
            f"{path}: column {least!r} has {few:,} values, and {most!r} {many:,}; expected as many in each"
        )
    if all(isinstance(each, dict) for each in columns.values()):
        keys = list(dict.fromkeys(key for each in columns.values() for key in each))
        counted = keys in ([str(n + first) for n in range(len(keys))] for first in (0, 1))
        name = next(n for n in ("key", "row key", "key of the row") if n not in columns)
        for number, key in enumerate(keys, 1):
            row = {column: each.get(key) for column, each in columns.items()}
            yield number, row if counted else {name: key} | row
        return
    listed = [list(each.values()) if isinstance(each, dict) else each for each in columns.values()]
    for number, cells in enumerate(zip(*listed, strict=True), 1):
        yield number, dict(zip(columns, cells, strict=True))
