"""What a cross table finds: cells of whoever recorded rows and of what kind they are."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class CrossCell:
    """The rows of one group that are of one kind. ``expected`` are those it would have if it had the share that all
    groups have together; ``others`` is the share that the other groups have. ``amount`` adds up the positive ones.
    ``overdispersion`` is what the residuals of most groups spread by in this kind, in squares: p is widened by it."""

    kind: ByColumn
    rows: int
    amount: Decimal | None
    expected: float
    others: float | None
    residual: float | None
    p: float | None
    p_adjusted: float | None
    overdispersion: float
    flagged: bool


@dataclass(frozen=True)
class CrossGroup:
    """The cells of one group, flagged ones first, then the least likely; of the whole, all kinds."""

    group: ByColumn
    n: int
    cells: list[CrossCell]
    flagged: int
