"""What a distance finds in a group: its centre, its spread, and the limit."""

from __future__ import annotations

from dataclasses import dataclass, field

from sabueso.base.plain import ADDED, ByColumn


@dataclass(frozen=True)
class Quantiles:
    """Ordered d² at some ranks, as observed and as the law has them."""

    expected: list[float]
    observed: list[float]


@dataclass(frozen=True)
class Ellipse:
    """Where subjects as far as the limit lie on two measures, by one of the fits."""

    fit: str
    center: list[float]
    covariance: list[list[float]]


@dataclass(frozen=True)
class DistanceGroup:
    """``center`` and ``covariance`` are of the fit that flags, in the order of ``measures``.

    For figures: ``distances`` are the classical and the robust d² of some subjects, the flagged all
    among them; ``points`` their values on the two measures ``axes``, with ``ellipses`` by each fit.
    """

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
    distances: list[list[float]] | None = field(default=None, metadata=ADDED)
    axes: list[str] | None = field(default=None, metadata=ADDED)
    points: list[list[float]] | None = field(default=None, metadata=ADDED)
    ellipses: list[Ellipse] | None = field(default=None, metadata=ADDED)
