"""What a look around a known date finds."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Span:
    """The first and last day of a window, and how many days it has."""

    first: date
    last: date
    days: int


@dataclass(frozen=True)
class WindowDay:
    """A day of the window: its rows and sum, the tail of Student's t, and that times all days."""

    day: date
    rows: int
    sum: Decimal
    p: float | None
    p_adjusted: float | None


@dataclass(frozen=True)
class EventGroup:
    """All rows around the date. ``mean`` and ``sd`` are of the days outside, ``zero_days`` those of all days
    that have nothing; ``rank_p`` is the share of windows as long that hold as much."""

    group: ByColumn
    at: date
    window: Span
    days_outside: int
    rows: int
    rows_inside: int
    sum: Decimal
    expected: Decimal
    mean: float
    sd: float
    zero_days: int
    z: float | None
    rank_p: float | None
    days: list[WindowDay]
    subjects: int
    flagged: int
