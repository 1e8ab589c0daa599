"""What a look at numbers finds of each series."""

from __future__ import annotations

from dataclasses import dataclass, field

from sabueso.base.plain import ADDED, ByColumn


@dataclass(frozen=True)
class Series:
    """Numbers with one beginning and one ending, within a group. ``count`` are its rows, ``numbers`` the
    distinct ones; ``missing`` lie between the first and the last in ``gaps``; ``complete`` says that
    so few are missing that each is looked for; ``out_of_order`` is None where rows have no date, or numbers do not follow them."""

    group: ByColumn
    series: str
    first: str
    last: str
    count: int
    numbers: int
    missing: int
    gaps: int
    repeated: int
    out_of_order: int | None
    complete: bool


@dataclass(frozen=True)
class SequenceTotals:
    """Of all series together, those too short to look at among them; ``other_form`` are numbers that are
    written as hardly any other of their group, ``occasions`` those looked for in place of numbers, in their order."""

    series: int
    series_not_looked_at: int
    rows_not_looked_at: int
    other_form: int
    occasions: list[str] | None = field(default=None, metadata=ADDED)
