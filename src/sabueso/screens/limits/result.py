"""What the tests that set limits have in common."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Protocol

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Histogram:
    """Rows by equal bins; ``below`` and ``above`` those outside of them. The counts add to n."""

    edges: list[float]
    counts: list[int]
    below: int
    above: int


@dataclass(frozen=True)
class Amounts:
    """Figures of some amounts."""

    n: int
    mean: float
    median: float
    sd: float | None
    sum: Decimal
    p95: float


class LimitGroup(Protocol):
    """What every group of a limit has."""

    @property
    def group(self) -> ByColumn: ...
    @property
    def n(self) -> int: ...
    @property
    def flagged(self) -> int: ...


class RangeGroup(LimitGroup, Protocol):
    """A group with limits about a middle."""

    @property
    def median(self) -> float | None: ...
    @property
    def low(self) -> float | None: ...
    @property
    def high(self) -> float | None: ...
    @property
    def histogram(self) -> Histogram | None: ...
