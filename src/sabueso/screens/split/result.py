"""What a look below a limit finds."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Band:
    """Where the band below a limit begins and ends: ``low`` in it, ``high`` not."""

    low: Decimal
    high: Decimal


@dataclass(frozen=True)
class Bin:
    """Rows of a bin, and what the curve through all but the band has there."""

    low: Decimal
    count: int
    expected: float
    inside: bool


@dataclass(frozen=True)
class SplitGroup:
    """One limit. ``count`` rows lie in the band, where ``expected`` would by the bins around it; ``around``
    are the rows of all bins. ``clusters`` are bundles of rows, each below the limit and together at or
    over it, ``expected_clusters`` how many there would be of the same amounts on the same days in any
    order. ``expected``, ``p`` and ``bins`` are None where the rows around the limit are too few."""

    group: ByColumn
    limit: Decimal
    band: Band
    n: int
    around: int
    count: int
    expected: float | None
    p: float | None
    dispersion: float | None
    bins: list[Bin] | None
    clusters: int
    expected_clusters: float
    flagged: int
