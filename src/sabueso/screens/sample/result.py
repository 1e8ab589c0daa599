"""A sample as it was drawn: from what, how many, by which interval and start."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class SampleGroup:
    """A stratum, or all of it: ``n`` items of which ``size`` were drawn.

    ``low`` and ``high`` are its limits, the upper one outside. ``whole`` where all were taken.
    """

    group: ByColumn
    n: int
    size: int
    whole: bool
    total: Decimal | None = None
    drawn: Decimal | None = None
    sd: float | None = None
    low: Decimal | None = None
    high: Decimal | None = None


@dataclass(frozen=True)
class Draw:
    """What the draw was made of: the interval and the start of equal intervals, in items or in amounts,
    and the error that can be tolerated of all there is."""

    method: str
    size: int
    solved_for: str
    interval: str | None = None
    start: str | None = None
    tolerable_amount: Decimal | None = None
    tolerable_rate: float | None = None
