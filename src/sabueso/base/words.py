"""Lists as a sentence has them."""

from __future__ import annotations

import re
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


def first_few(parts: Sequence[str], most: int) -> str:
    """The first of some parts with commas between, and how many more there are.

    Examples
    --------
    >>> first_few(["a", "b", "c"], 3), first_few(["a", "b", "c", "d"], 2)
    ('a, b, c', 'a, b and 2 more')
    """
    # One more takes no more room than to say that there is one.
    if len(parts) <= most + 1:
        return ", ".join(parts)
    return f"{', '.join(parts[:most])} and {len(parts) - most:,} more"


def _joined(parts: Sequence[str], word: str) -> str:
    *before, last = parts or [""]
    return f"{', '.join(before)} {word} {last}" if before else last


_JOINT = re.compile(r"(?<=[a-zà-ÿ0-9])(?=[A-ZÀ-Þ])|(?<=[A-Z])(?=[A-Z][a-z])|_+")


def apart(name: str) -> str:
    """The words of a name set apart by blanks, which programs join by lines or capitals.

    Examples
    --------
    >>> apart("vat_amount"), apart("BorrowerZip"), apart("VATAmount"), apart("Cost Center")
    ('vat amount', 'Borrower Zip', 'VAT Amount', 'Cost Center')
    """
    return _JOINT.sub(" ", name).strip()


_LONG = re.compile(r"[^\W\d_]{4,}")


def have_in_common(one: str, other: str) -> bool:
    """Whether two names have a word of four letters or more in common.

    Examples
    --------
    >>> have_in_common("net_amount", "AmountPaid"), have_in_common("Tax 1", "Tax 2")
    (True, False)
    """
    words = [set(_LONG.findall(apart(name).casefold())) for name in (one, other)]
    return not words[0].isdisjoint(words[1])


class CalledSo:
    """Names that have one of some words, of whatever case and however they are joined with others.

    Examples
    --------
    >>> tax = CalledSo(r"\\bvat\\b|tax")
    >>> [tax.search(name) for name in ("vat_amount", "VATAmount", "Elevator", "Sales Tax")]
    [True, True, False, True]
    """

    def __init__(self, pattern: str) -> None:
        self._pattern = re.compile(pattern, re.IGNORECASE)

    def search(self, name: str) -> bool:
        """Whether a name is called so, as it stands or with its words apart."""
        return any(self._pattern.search(text) is not None for text in (name, apart(name)))
