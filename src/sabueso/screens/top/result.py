"""The share of a group that was asked for, in rows and in amounts."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class TopGroup:
    """``k`` of ``n`` rows were wanted at each end; ``flagged`` may be more where amounts tie."""

    group: ByColumn
    n: int
    share: float
    k: int
    cutoff: Decimal | None
    cutoff_high: Decimal | None
    cutoff_low: Decimal | None
    flagged: int
