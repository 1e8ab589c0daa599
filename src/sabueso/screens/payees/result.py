"""What a look at payees finds: bands of recency, frequency and money, and how they cross."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class Bands:
    """Lower edges of the bands, the first band's first: days since the last row, rows, sum."""

    recency: list[int]
    frequency: list[int]
    money: list[Decimal]


@dataclass(frozen=True)
class CrossCell:
    """Payees of one band each; their sums add up to the total used."""

    r: int
    f: int
    m: int
    count: int
    sum: Decimal


@dataclass(frozen=True)
class PayeeGroup:
    """``reasons`` are how many payees are flagged for each; ``top_row`` and ``top_sum`` the amounts from
    which a row and a payee's sum count as large."""

    group: ByColumn
    n: int
    rows: int
    bands: Bands
    cells: list[CrossCell]
    reasons: dict[str, int]
    top_row: Decimal | None
    top_sum: Decimal | None
    tested_for_silence: int
    tested_for_bursts: int
    flagged: int
    asked_for_numbers: int = 0
    tested_for_rows: int = 0
