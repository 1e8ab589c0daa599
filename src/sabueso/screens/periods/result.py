"""What a comparison of two periods finds: lines that add up to their total."""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal

from sabueso.base.plain import ADDED, ByColumn


@dataclass(frozen=True)
class Parts:
    """A change split into volume, rate and mix, which add to it to the last unit."""

    volume: Decimal
    rate: Decimal
    mix: Decimal


@dataclass(frozen=True)
class ComparedLine:
    """A line in both periods. Shares are of 1, the shift in percentage points; no per cent where the
    base is 0. ``low`` and ``high`` are the band that the current amount is expected in; ``history`` the
    periods that the expectation comes from, of a flagged line; ``moved`` what came to a line that had nothing
    from the line ``moved_from`` of the same group."""

    key: ByColumn
    base: Decimal
    current: Decimal
    change: Decimal
    change_percent: float | None
    part_of_change: float | None
    base_share: float | None
    current_share: float | None
    share_shift: float | None
    reading: str
    flagged: bool
    rate_volume: Parts | None = field(default=None, metadata=ADDED)
    deviate: float | None = field(default=None, metadata=ADDED)
    rate_percent: float | None = field(default=None, metadata=ADDED)
    volume_percent: float | None = field(default=None, metadata=ADDED)
    low: Decimal | None = field(default=None, metadata=ADDED)
    high: Decimal | None = field(default=None, metadata=ADDED)
    history: dict[str, Decimal] | None = field(default=None, metadata=ADDED)
    moved: Decimal | None = field(default=None, metadata=ADDED)
    moved_from: str | None = field(default=None, metadata=ADDED)


@dataclass(frozen=True)
class Comparison:
    """All lines and their total."""

    group: ByColumn
    base: str
    current: str
    lines: list[ComparedLine]
    total: ComparedLine
    rate_volume: Parts | None
