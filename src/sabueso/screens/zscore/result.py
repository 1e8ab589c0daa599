"""What a test by deviates finds in a group."""

from __future__ import annotations

from dataclasses import dataclass, field

from sabueso.base.plain import ADDED, ByColumn
from sabueso.screens.limits.result import Amounts, Histogram


@dataclass(frozen=True)
class Step:
    """A value removed by the sequential test, its deviate, and the limit at that step."""

    value: float | None
    statistic: float
    limit: float
    outlier: bool


@dataclass(frozen=True)
class DeviateResult:
    """Points of the measure are amounts; ``sd`` and ``mad`` stay on the scale of the test."""

    group: ByColumn
    n: int
    mean: float | None
    sd: float | None
    median: float | None
    mad: float
    skewness: float | None
    kurtosis: float | None
    low: float | None
    high: float | None
    reachable: bool
    flagged: int
    with_flags: Amounts
    without_flags: Amounts | None
    scale_unit: float | None = field(default=None, metadata=ADDED)
    sequential: list[Step] | None = field(default=None, metadata=ADDED)
    histogram: Histogram | None = field(default=None, metadata=ADDED)
