"""The currency that amounts state of themselves: by the sign beside them, or in the name of their column."""

from __future__ import annotations

import re
from collections.abc import Mapping

from sabueso.base.currencies import OF_ONE, OF_SEVERAL, coded
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.numbers import NumberFormat

_IN_NAMES = frozenset(
    [
        "USD", "EUR", "GBP", "CHF", "JPY", "CNY", "CAD", "AUD", "NZD", "MXN", "BRL", "SEK", "NOK", "DKK", "PLN", "CZK",
        "HUF", "RON", "INR", "ZAR", "SGD", "HKD", "ARS", "CLP", "COP", "RUB", "UAH", "KRW", "TWD", "IDR", "MYR", "THB",
    ]
)  # fmt: skip
"""Codes that a name of a column is searched for: others are words too."""
_BRACKETED = {"R": "ZAR", "RMB": "CNY", "NIS": "ILS", "Q": "GTQ", "L": "HNL"}
"""What is a currency in brackets alone."""
_LAST = re.compile(
    r"(?:[(\[（]\s*([^()\[\]（）]{1,4})\s*[)\]）]|[\s_]([A-Z]{3})|(?:,\s*|\s)([^\s\w,]{1,3}|\S{0,2}\$|[^\W\d_]{1,3}\.?))\s*$"
)


def stated_currency(name: str, formats: Mapping[str, Format], own: str) -> str | None:
    """The currency of a column's amounts, as they state it: a code, or the sign where several currencies have
    it and the case's is none of these; None where they state nothing.

    Examples
    --------
    >>> stated_currency("Valor (R$)", {}, "EUR"), stated_currency("amount", {}, "EUR")
    ('BRL', None)
    >>> stated_currency("x", {"x": NumberFormat(unit="$")}, "CAD"), stated_currency("x", {"x": NumberFormat(unit="$")}, "EUR")
    ('CAD', '$')
    >>> [stated_currency(name, {}, "EUR") for name in ("Kwota zł", "Сумма, руб.", "金額（円）", "Betrag €", "Dr Cr", "Net Rs")]
    ['PLN', 'RUB', 'JPY', 'EUR', None, None]
    """
    found = formats.get(name)
    if isinstance(found, NumberFormat) and found.unit and found.unit != "%":
        return coded(found.unit, own)
    said = _LAST.search(name)
    text = "" if said is None else (said[1] or said[2] or said[3]).strip()
    # Without brackets a sign is one where it is no word besides: Kwota zł, but not: Cr Fr.
    if said is not None and said[3] and text.isascii() and text.isalpha():
        return None
    if said is not None and said[1] and text in _BRACKETED:
        return _BRACKETED[text]
    if text in _IN_NAMES or text in OF_ONE or text in OF_SEVERAL:
        return coded(text, own)
    return None
