"""Which of two days of a row is its own, where neither is called so: the one that the other is never before."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import pyarrow as pa

from sabueso.intake.formats.called import worded
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.guessing import may_be_its_day
from sabueso.intake.formats.role_words import OF_VALUE

LEAST, LATER, BEFORE = 20, 0.5, 0.01
"""Rows with both days, share of them whose second day is later, and share up to which it may be earlier."""


def earlier_of_two(
    taken: Collection[str], sample: pa.Table, formats: Mapping[str, Format]
) -> str | None:
    """The column in which what a row tells of begins, such as a car that goes out and comes back; None where there are
    more days than two, or fewer, beside the columns that are ``taken``, or neither always comes first."""
    there = set(sample.column_names)
    days = {
        name: f
        for name, f in formats.items()
        if isinstance(f, DateFormat)
        and f.type in ("date", "timestamp")
        and name in there
        and name not in taken
        and may_be_its_day(name)
        and OF_VALUE.isdisjoint(worded(name))
    }
    if len(days) != 2 or len({f.type for f in days.values()}) != 1:
        return None
    (first, one), (second, other) = days.items()
    texts = zip(sample.column(first).to_pylist(), sample.column(second).to_pylist(), strict=True)
    read = ((one.day_of(a), other.day_of(b)) for a, b in texts)
    both = [(a, b) for a, b in read if a is not None and b is not None]
    if len(both) < LEAST or 2 * len(both) < sample.num_rows:
        return None
    for name, later, before in (
        (first, sum(b > a for a, b in both), sum(b < a for a, b in both)),
        (second, sum(a > b for a, b in both), sum(a < b for a, b in both)),
    ):
        if later >= LATER * len(both) and before <= BEFORE * len(both):
            return name
    return None
