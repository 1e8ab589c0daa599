"""What a recomputation finds: how much was checked, how much differs, and of a loan its schedule."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal

from sabueso.base.plain import ADDED, ByColumn


@dataclass(frozen=True)
class Scheduled:
    """An instalment by the terms beside what was recorded for it; a number above the last of the terms has
    nothing expected. ``cumulated`` is the sum of the differences so far."""

    number: int
    due: date
    expected: Decimal
    recorded: Decimal
    difference: Decimal
    cumulated: Decimal


@dataclass(frozen=True)
class Solved:
    """One of the terms as the payments seen have it; ``sign_changes`` of the flows, above one of which
    several rates may explain them."""

    rate: float | None = field(default=None, metadata=ADDED)
    periods: int | None = field(default=None, metadata=ADDED)
    principal: Decimal | None = field(default=None, metadata=ADDED)
    payment: Decimal | None = field(default=None, metadata=ADDED)
    sign_changes: int = 1


@dataclass(frozen=True)
class Explained:
    """What the payments from one instalment on would be those of, the rest of the terms being as agreed."""

    number: int
    payment: Decimal
    rate: float | None
    balance: Decimal


@dataclass(frozen=True)
class RecomputeGroup:
    """``checked`` rows, entities or instalments; ``not_checked`` those that nothing can be computed for."""

    group: ByColumn
    what: str
    expression: str
    checked: int
    not_checked: int
    differing: int
    difference_total: Decimal
    flagged: int
    solved: Solved | None = field(default=None, metadata=ADDED)
    explained: Explained | None = field(default=None, metadata=ADDED)
    schedule: list[Scheduled] | None = field(default=None, metadata=ADDED)
    rounding_left: Decimal | None = field(default=None, metadata=ADDED)
