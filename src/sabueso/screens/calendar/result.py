"""What a look at the calendar finds: cells of hours and weekdays, by whoever recorded the rows."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn, Cells


@dataclass(frozen=True)
class CalendarCell:
    """``count`` are batches: what one group recorded within a minute is one. ``rows`` are all
    of it, ``amount`` adds up those with a positive sign; ``usual`` says that the cell is within the group's own habit, and is not tested."""

    cell: ByColumn
    count: int
    rows: int
    amount: Decimal | None
    expected: float
    residual: float | None
    p: float | None
    p_adjusted: float | None
    usual: bool
    flagged: bool


@dataclass(frozen=True)
class CalendarGroup:
    """The cells of one group that stand out, the least likely first; of the whole, all of them.
    ``overdispersion`` is the mean square of the residuals that each p was widened by."""

    group: ByColumn
    n: int
    rows: int
    cells: list[CalendarCell]
    flagged: int
    overdispersion: float


def side_values(flag: Cells) -> tuple[str | None, str | None]:
    """The weekday and the hour of a flagged cell, whatever they are called in a condition."""
    weekday, hour = (v for name, v in flag["subject"].items() if name not in flag["group"])
    return weekday, hour
