"""What a search for repeats finds: clusters of rows, and how many chance would give."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sabueso.base.plain import ByColumn


@dataclass(frozen=True)
class RepeatGroup:
    """``looked_at`` are clusters of any kind; ``usual`` those that the party repeats as a habit, ``in_step`` the
    part of these that is as far apart as that party's rows are from one to the next;
    ``reversed`` those of which an equal opposite amount left one row; ``expected_clusters`` how many
    pairs coincide by chance, None where the rows have no dates."""

    group: ByColumn
    same: list[str]
    within: int | None
    looked_at: int
    clusters: int
    rows: int
    expected_clusters: float | None
    excess: Decimal
    usual: int
    reversed: int
    reversed_rows: int
    flagged: int
    in_step: int = 0
