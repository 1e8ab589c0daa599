"""Times of day behind a day, as programs write them: 14:05, 14.05.11, 02:05:11.123 PM, 2:05 p. m."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date, datetime, time

import pyarrow as pa
import pyarrow.compute as pc

SUFFIX = " clock"
"""What the name of a form of days ends in where a time of day stands behind them."""
_CLOCK = (
    r"[0-9]{1,2}[:.][0-9]{2}(?:[:.][0-9]{2}(?:[.,:][0-9]{1,9})?)?"
    "(?:[ \u00a0]?[AaPp]\\.?[ \u00a0]?[Mm]\\.?)?(?: ?(?:Uhr|h|hrs))?"
)
_BETWEEN = "[ ,T:-]{1,3}"
PATTERN = f"{_BETWEEN}(?:{_CLOCK})"
"""What follows a day."""
_BOTH = f"(?P<day>.*?[0-9.年월日일]){_BETWEEN}(?P<clock>{_CLOCK})"
_PYTHON = re.compile(_BOTH)


def apart(text: str) -> tuple[str, str] | None:
    """A text's day and its time of day; None where it has not both.

    Examples
    --------
    >>> apart("03-MAR-24 02.05.11.123456 PM"), apart("03.03.2024, 14:05 Uhr"), apart("03.03.2024")
    (('03-MAR-24', '02.05.11.123456 PM'), ('03.03.2024', '14:05 Uhr'), None)
    """
    found = _PYTHON.fullmatch(text)
    return None if found is None else (found["day"], found["clock"])


def clock(text: str) -> time | None:
    """A time of day; None where there is none such.

    Examples
    --------
    >>> clock("14:05"), clock("2:05 p. m."), clock("12.00.00.5 AM"), clock("25:00"), clock("14:05 PM")
    (datetime.time(14, 5), datetime.time(14, 5), datetime.time(0, 0, 0, 500000), None, None)
    """
    figures = re.findall("[0-9]+", text)
    hour, minute = int(figures[0]), int(figures[1])
    second = int(figures[2]) if len(figures) > 2 else 0
    part = int(figures[3][:6].ljust(6, "0")) if len(figures) > 3 else 0
    half = re.search(r"([AaPp])\.?[ \u00a0]?[Mm]", text)
    if half is not None:
        if not 1 <= hour <= 12:
            return None
        hour = hour % 12 + 12 * (half[1] in "Pp")
    try:
        return time(hour, minute, second, part)
    except ValueError:
        return None


def moment(text: str, day: Callable[[str], date | None]) -> datetime | None:
    """A text of a day and a time of day."""
    parts = apart(text)
    if parts is None:
        return None
    on, at = day(parts[0]), clock(parts[1])
    return None if on is None or at is None else datetime.combine(on, at)


def moments(texts: pa.Array, day: Callable[[str], date | None]) -> pa.Array:
    """Texts of days and times of day, shape (n,): of each, days and times, the distinct ones are read."""
    parts = pc.extract_regex(texts, rf"\A{_BOTH}\z")

    def read(name: str, of: Callable[[str], date | time | None], kind: pa.DataType) -> pa.Array:
        encoded = pc.struct_field(parts, name).dictionary_encode()
        known = pa.array(
            [None if t is None else of(t) for t in encoded.dictionary.to_pylist()], kind
        )
        return known.take(encoded.indices)

    days = read("day", day, pa.date32()).cast(pa.timestamp("us"))
    past = read("clock", clock, pa.time64("us")).cast(pa.int64()).cast(pa.duration("us"))
    return pc.add(days, past)
