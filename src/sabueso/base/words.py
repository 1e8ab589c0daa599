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
    return _joined(parts, "and")


def either(parts: Sequence[str]) -> str:
    """The same with ``or`` before the last."""
    return _joined(parts, "or")


def _joined(parts: Sequence[str], word: str) -> str:
    *before, last = parts or [""]
    return f"{', '.join(before)} {word} {last}" if before else last
