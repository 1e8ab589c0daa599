"""Cells of any source as texts, and the names of their columns."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, time
from decimal import Decimal
from itertools import islice
from typing import Any

import numpy as np
import pyarrow as pa

from sabueso.base.plain import Values
from sabueso.intake.interface import Batch, Damaged
from sabueso.report import numbers as num

SAMPLE_ROWS = 500
BATCH_ROWS = 50_000


def column_names(header: Sequence[str]) -> list[str]:
    """Header names, trimmed; an empty one is numbered, a repeated one gets its number."""
    names: list[str] = []
    taken: set[str] = set()
    times: Counter[str] = Counter()
    for position, cell in enumerate(header, 1):
        plain = " ".join(cell.replace("\ufeff", "").split()) or f"column {position}"
        name = plain
        while name.lower() in taken:
            times[plain.lower()] += 1
            name = f"{plain} {times[plain.lower()] + 1}"
        taken.add(name.lower())
        names.append(name)
    return names


def name_notes(header: Sequence[str], names: Sequence[str]) -> tuple[str, ...]:
    """What is to be said of names that a file's columns could not keep."""
    notes = []
    for place, (cell, name) in enumerate(zip(header, names, strict=True), 1):
        plain = " ".join(cell.replace("\ufeff", "").split())
        if not plain:
            notes.append(f"column {place} has no name: it is called {name!r}")
        elif plain != name:
            notes.append(f"column {place}, {plain!r}, is called {name!r}: another has its name")
    return tuple(notes)


TRACE = 1e-9
"""What a sum of amounts in binary fractions may be off, far below any digit that somebody wrote."""


def _is_nearly(value: float) -> bool:
    """Whether a number is one of at most six decimals but for such a trace: 50.3999999999996 is 50.4, and a
    third stays as it is."""
    return 1 <= abs(value) < 1e9 and abs(value - round(value, 6)) < TRACE


def text_of(value: Any) -> str | None:
    """A value as it is written where every program reads it the same; None where there is none.

    A float has the 15 digits that a spreadsheet keeps, without the traces of sums that were made of binary
    fractions; a time with a zone is told in UTC.
    """
    if value is None or isinstance(value, str):
        return value or None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        short = format(round(value, 6) if _is_nearly(value) else value, ".15g")
        return format(Decimal(short), "f") if "e" in short else short
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, datetime):
        if value.tzinfo is not None:
            value = value.astimezone(UTC).replace(tzinfo=None)
        at_midnight = value.time() == time()
        return value.date().isoformat() if at_midnight else value.isoformat(" ", "seconds")
    if isinstance(value, (date, time)):
        return value.isoformat()
    if isinstance(value, (dict, list)):
        return json.dumps(value, ensure_ascii=False)
    return str(value)


def num_lines(count: int) -> str:
    return f"{count:,} line{'s' if count != 1 else ''}"


def said_above(header: int, above: int) -> str:
    """What is said of the lines above a header."""
    verb = num.verb(above, "is no row", "are no rows")
    return f"the header is line {header}; {num_lines(above)} before it {verb} of the table"


def alone_above(rows: Sequence[Sequence[str | None]]) -> str:
    """The text that stands alone on the last filled one of the lines above a header; empty where several do.

    Examples
    --------
    >>> alone_above([["General ledger", "2024"], ["1000 Cash at bank", ""], []]), alone_above([["From", "To"]])
    ('1000 Cash at bank', '')
    """
    filled = [[c.strip() for c in row if c and any(map(str.isalnum, c))] for row in rows]
    last = next((cells for cells in reversed(filled) if cells), [])
    return last[0] if len(last) == 1 else ""


Record = tuple[int, Mapping[str, Any]]
"""The place of a record in its source, and its values by column name."""


def by_column(values: Mapping[str, Any], names: Mapping[str, str]) -> Values:
    """Values by the names of their columns."""
    return {names[key]: item for key, item in values.items()}


def short_day(text: str) -> str:
    """yymmdd with its century: that of the years 1980 to 2079.

    Examples
    --------
    >>> short_day("250131"), short_day("991231")
    ('2025-01-31', '1999-12-31')
    """
    return f"{20 if int(text[:2]) < 80 else 19}{text[:2]}-{text[2:4]}-{text[4:6]}"


def text_table(header: Sequence[str], records: Sequence[Mapping[str, Any]]) -> pa.Table:
    """Records as a table of text cells."""
    return pa.table(
        {name: pa.array([text_of(r.get(name)) for r in records], pa.string()) for name in header}
    )


def batches_of(
    header: Sequence[str], records: Iterable[Record | Damaged], part: str = ""
) -> Iterator[Batch]:
    """Records in batches; damaged ones among them are set aside.

    The place of a row tells it from all others of its file: where several begin on one line, as in JSON that is
    written without line ends, they are counted on.
    """
    stream, last = iter(records), 0
    while taken := list(islice(stream, BATCH_ROWS)):
        good = [item for item in taken if not isinstance(item, Damaged)]
        places = np.array([line for line, _ in good], dtype=np.int64)
        if places.size:
            # Each is its own, or one more than the one before, whichever is more.
            steps = np.arange(places.size)
            places = np.maximum(np.maximum.accumulate(places - steps), last + 1) + steps
            last = int(places[-1])
        yield Batch(
            lines=places,
            cells=text_table(header, [values for _, values in good]),
            damaged=[item for item in taken if isinstance(item, Damaged)],
            part=part,
        )


def counted(header: Sequence[str], lines: int) -> Batch:
    """A batch without rows: how many lines a file has, counted apart from its rows."""
    return replace(stating(header, "", {}), file_lines=lines)


def first_rows(records: Iterable[Record | Damaged]) -> list[Mapping[str, Any]]:
    """The values of the first records that can be read."""
    head = islice(records, SAMPLE_ROWS)
    return [item[1] for item in head if not isinstance(item, Damaged)]


def stating_balances(header: Sequence[str], changes: Mapping[str, Decimal], amount: str) -> Batch:
    """What the statements of a file say that their entries add up to."""
    change = sum(changes.values(), Decimal(0))
    return stating(header, "closing less opening balance", {amount: change})


def stating(header: Sequence[str], what: str, stated: Mapping[str, Decimal]) -> Batch:
    """A batch without rows: what a file states of its own sums."""
    empty = pa.table({name: pa.array([], pa.string()) for name in header})
    lines = np.empty(0, dtype=np.int64)
    return Batch(lines=lines, cells=empty, stated={k: (what, v) for k, v in stated.items()})
