"""What a distance finds in a group: its centre, its spread, and the limit."""

from __future__ import annotations

from dataclasses import dataclass

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Quantiles:
    """Ordered d² at some ranks, as observed and as the law has them."""

    expected: list[float]
    observed: list[float]


@dataclass(frozen=True)
class DistanceGroup:
    """``center`` and ``covariance`` are of the fit that flags, in the order of ``measures``."""

    group: ByColumn
    n: int
    measures: list[str]
    fit: str
    center: list[float]
    covariance: list[list[float]]
    limit: float
    mardia_skewness_p: float | None
    mardia_kurtosis_p: float | None
    dropped: list[str]
    flagged: int
    quantiles: Quantiles
