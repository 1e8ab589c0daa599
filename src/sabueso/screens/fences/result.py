"""What the fences of a group are, and how many rows lie beyond them."""

from __future__ import annotations

from dataclasses import dataclass, field

from sabueso.base.plain import ADDED, ByColumn
from sabueso.screens.limits.result import Amounts, Histogram


@dataclass(frozen=True)
class FenceGroup:
    """Quartiles and fences are amounts; ``iqr`` stays on the scale of the test."""

    group: ByColumn
    n: int
    q1: float | None
    median: float | None
    q3: float | None
    iqr: float
    low: float | None
    high: float | None
    outer_low: float | None
    outer_high: float | None
    medcouple: float | None
    flagged: int
    with_flags: Amounts
    without_flags: Amounts | None
    scale_unit: float | None = field(default=None, metadata=ADDED)
    histogram: Histogram | None = field(default=None, metadata=ADDED)
