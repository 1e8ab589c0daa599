"""What is known of a column beside its texts."""

from __future__ import annotations

from dataclasses import dataclass

TOLERATED = 0.05
"""Share of texts that may not fit a column's format: these rows go to quarantine."""


@dataclass(frozen=True)
class Hints:
    """What is known of a column beside its texts.

    Attributes
    ----------
    kind : str or None
        ``text``, ``number`` or ``date`` where it is given and not to be guessed.
    decimal, thousands, dates : str or None
        Marks and date order where they are given.
    code : bool
        The column holds identifiers: digits stay text.
    dated : bool
        The header names a date: five digits are the day number of a spreadsheet.
    day_of : bool
        The header names a day or a month beside other words: it may say of what a number is (``Day kWh``).
    begins : str
        The month that days without a year begin with, as 2025-01; nothing where that is not known.
    moment : bool
        The header names a moment: ten digits are its seconds since 1970, thirteen its thousandths.
    measure : bool
        The header names amounts or dates: texts that do not fit are damage, and a letter after the
        digits is a side of the ledger (``12C`` elsewhere is a seat).
    period : bool
        The header names a month or another period.
    """

    kind: str | None = None
    decimal: str | None = None
    thousands: str | None = None
    dates: str | None = None
    code: bool = False
    dated: bool = False
    day_of: bool = False
    begins: str = ""
    moment: bool = False
    measure: bool = False
    period: bool = False
