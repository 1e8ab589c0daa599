"""Lists as a sentence has them."""

from __future__ import annotations

from collections.abc import Sequence


def listed(parts: Sequence[str]) -> str:
    """Parts with commas between, and ``and`` before the last; nothing of none.

    Examples
    --------
    >>> listed([]), listed(["EUR"]), listed(["EUR", "GBP"]), listed(["EUR", "GBP", "USD"])
    ('', 'EUR', 'EUR and GBP', 'EUR, GBP and USD')
    """
    *before, last = parts or [""]
    return f"{', '.join(before)} and {last}" if before else last
