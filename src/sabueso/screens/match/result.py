"""What a match of two tables finds: both sides counted, and who stands where."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Side:
    """Keys of one table with their rows; ``matched`` and ``absent`` add up to them."""

    table: str
    keys: int
    rows: int
    amount: Decimal | None
    matched: int
    matched_rows: int
    matched_amount: Decimal | None
    absent: int
    absent_rows: int
    absent_amount: Decimal | None


@dataclass(frozen=True)
class Compared:
    """Keys of invoices beside their orders and receipts: how many lack one, are over what was ordered or
    received, or over the price; and what all of that comes to."""

    keys: int
    without_order: int
    without_receipt: int
    over_ordered: int
    over_received: int
    over_price: int
    excess: Decimal


@dataclass(frozen=True)
class MatchGroup:
    """``method`` is how keys were compared: exact, normalised, alike. ``three_way`` where orders, receipts
    and invoices were compared."""

    group: ByColumn
    n: int
    method: str
    find: str
    left: Side
    right: Side
    flagged: int
    three_way: Compared | None = None
