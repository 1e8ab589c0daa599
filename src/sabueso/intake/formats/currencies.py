"""The currency that amounts state of themselves: by the sign beside them, or in the name of their column."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from sabueso.base.currencies import CODES, COINS, OF_ONE, OF_SEVERAL, coded
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.header_words import CURRENCY_WORDS
from sabueso.intake.formats.numbers import NumberFormat

_IN_NAMES = frozenset(
    [
        "USD", "EUR", "GBP", "CHF", "JPY", "CNY", "CAD", "AUD", "NZD", "MXN", "BRL", "SEK", "NOK", "DKK", "PLN", "CZK",
        "HUF", "RON", "INR", "ZAR", "SGD", "HKD", "ARS", "CLP", "COP", "RUB", "UAH", "KRW", "TWD", "IDR", "MYR", "THB",
    ]
)  # fmt: skip
"""Codes that a name of a column is searched for: others are words too."""
_WORDS = frozenset(
    ["CUP", "TRY", "PEN", "MOP", "GEL", "MAD", "SOS", "BAM", "LAK", "ANG", "BOB", "AMD", "MUR", "NAD", "SCR",
     "STN", "CVE", "ERN", "FKP", "SHP", "MGA", "WST", "DOP"]
)  # fmt: skip
"""Codes that are words, or abbreviations, of headers in capitals."""
_NEVER = frozenset(["ALL", "TOP", "SSP"])
"""Codes that stand for something else wherever they are beside a word of money: of all, at the top, sick pay."""
_ALONE = _IN_NAMES | OF_ONE.keys()
"""What names a currency by itself."""
_BRACKETED = {"R": "ZAR", "RMB": "CNY", "NIS": "ILS", "Q": "GTQ", "L": "HNL"}
"""What is a currency in brackets alone."""
_LAST = re.compile(
    r"(?:[(\[（]\s*([^()\[\]（）]{1,4})\s*[)\]）]|[\s_]([A-Z]{3})|(?:,\s*|\s)([^\s\w,()\[\]（）]{1,3}|[^\s()\[\]（）]{0,2}\$|[^\W\d_]{1,3}\.?))\s*$"
)

_FIRST = re.compile(r"\s*([A-Z]{3})[ _](.+)")


def stated_currency(name: str, formats: Mapping[str, Format], own: str) -> str | None:
    """The currency of a column's amounts, as they state it: a code, or the sign where several currencies have
    it and the case's is none of these; None where they state nothing.

    Examples
    --------
    >>> stated_currency("Valor (R$)", {}, "EUR"), stated_currency("amount", {}, "EUR"), stated_currency("GBP", {}, "EUR")
    ('BRL', None, 'GBP')
    >>> stated_currency("USD Value", {}, "EUR"), stated_currency("NET Value", {}, "EUR")
    ('USD', None)
    >>> stated_currency("amount_usd", {}, "EUR"), stated_currency("amount_all", {}, "EUR")
    ('USD', None)
    >>> [stated_currency(name, {}, "EUR") for name in ("Amount KES", "AED Value", "TOTAL ALL", "Paid AMT", "amount_ngn")]
    ['KES', 'AED', None, None, 'NGN']
    >>> stated_currency("x", {"x": NumberFormat(unit="$")}, "CAD"), stated_currency("x", {"x": NumberFormat(unit="$")}, "EUR")
    ('CAD', '$')
    >>> [stated_currency(name, {}, "EUR") for name in ("Kwota zł", "Сумма, руб.", "金額（円）", "Betrag €", "Dr Cr", "Net Rs")]
    ['PLN', 'RUB', 'JPY', 'EUR', None, None]
    >>> stated_currency("Total (USD)", {"Total (USD)": NumberFormat(unit="$")}, "EUR")
    'USD'
    """
    found, said = formats.get(name), _in_name(name, own)
    if isinstance(found, NumberFormat) and found.unit and found.unit != "%":
        # Of a sign that several currencies have the name says which is meant.
        meant = said is not None and said in OF_SEVERAL.get(found.unit, "").split()
        return said if meant else coded(found.unit, own)
    return said


def _in_name(name: str, own: str) -> str | None:
    """The currency that a column's name states."""
    if name.strip() in _ALONE:
        return coded(name.strip(), own)
    if name.islower() and (code := re.search(r"[a-z][ _]([a-z]{3})$", name.strip())):
        # amount_usd
        upper = code[1].upper()
        money = upper in CODES - _WORDS - _NEVER and _OF_MONEY.search(name.replace("_", " "))
        return upper if upper in _IN_NAMES or money else None
    first = _FIRST.match(name)
    if first is not None and _OF_MONEY.search(first[2].casefold()):
        if first[1] in _ALONE:
            return coded(first[1], own)
        if _is_code(first[1], first[2]):
            return first[1]
    said = _LAST.search(name)
    text = "" if said is None else (said[1] or said[2] or said[3]).strip()
    # Without brackets a sign is one where it is no word besides: Kwota zł, but not: Cr Fr.
    if said is not None and said[3] and text.isascii() and text.isalpha():
        return None
    if said is not None and said[1] and text in _BRACKETED:
        return _BRACKETED[text]
    if said is not None and said[1] and text in CODES:
        return text
    if text in _ALONE or text in OF_SEVERAL:
        return coded(text, own)
    before = name[: said.start()] if said is not None and said[2] else ""
    return text if _OF_MONEY.search(before.casefold()) and _is_code(text, before) else None


def _is_code(text: str, beside: str) -> bool:
    """Whether capitals beside a word of money are a currency's code: among other capitals they may be a word."""
    return text in CODES - _NEVER and (text not in _WORDS or not beside.isupper())


_ONE = re.compile(
    r"\b(base|local|functional|accounted|acctd|company code|reporting|home|domestic|equivalent|consolidated|contravalor|gegenwert|hauswahrung|lc)\b"
)
_MONEY = re.compile(
    r"\b(amount|amt|value|importe|betrag|montant|importo|valor|total|equivalent|contravalor|gegenwert)\b"
)
_OF_MONEY = re.compile(
    r"\b(amount|amt|value|importe|betrag|montant|importo|valor|total|equivalent|price|cost|fee|balance|net|gross|debit|credit|principal|paid|salary)\b"
)


def names_one_currency(name: str) -> bool:
    """Whether a column of amounts is called as those are which stand in one currency beside others.

    Examples
    --------
    >>> [names_one_currency(name) for name in ("Base amount", "Amount (EUR)", "Amount", "Local Currency", "Base pay")]
    [True, True, False, False, False]
    >>> [names_one_currency(name) for name in ("EUR", "In GBP", "€", "Euro rate")]
    [True, True, True, False]
    """
    if re.sub(r"^in\s+", "", name.strip(), flags=re.IGNORECASE) in _ALONE:
        return True
    plain = " ".join(worded(name))
    money = _MONEY.search(plain) is not None
    return money and (_ONE.search(plain) is not None or stated_currency(name, {}, "") is not None)


def names_ledgers_side(name: str) -> bool:
    """Whether a debit or a credit is called as those are which stand in the ledger's currency beside others.

    Examples
    --------
    >>> [names_ledgers_side(name) for name in ("Accounted Dr", "Entered Dr", "Credit (local)")]
    [True, False, True]
    """
    return _ONE.search(" ".join(worded(name))) is not None


_SIGNS = "|".join(
    re.escape(each) for each in sorted((*OF_ONE, "$", "kr", "¥"), key=len, reverse=True)
)
_OF_COINS = CURRENCY_WORDS | {"asset", "assets", "coin", "coins", "token", "tokens", "crypto", "symbol", "ticker", "unit"}  # fmt: skip


def currency_column(samples: Mapping[str, Sequence[str]]) -> str | None:
    """The column of texts that are codes of currencies, every one of them, whatever its name; of coins too, where
    it is called as such are.

    Examples
    --------
    >>> currency_column({"who": ["ANA", "USD"], "in": ["USD", "eur", "USD"], "empty": []})
    'in'
    >>> currency_column({"who": ["ADA", "SOL"], "Asset": ["BTC", "usdt", "EUR"]})
    'Asset'
    """
    for name, values in samples.items():
        known = CODES if _OF_COINS.isdisjoint(worded(name)) else CODES | COINS
        if values and all(value.strip().upper() in known for value in set(values)):
            return name
    return None


_BESIDE_DIGITS = re.compile(rf"^[-+(]?\s*(?:{_SIGNS})\s*[-+]?\d|\d\s*(?:{_SIGNS})\s*[-)]?$")


def states_currency(samples: Mapping[str, Sequence[str]]) -> bool:
    """Whether a table says a currency anywhere: in a name, beside digits, or in a column of codes.

    Examples
    --------
    >>> [states_currency(s) for s in ({"Amount KES": ["4"]}, {"x": ["£1.20"]}, {"x": ["1,20 €"]}, {"c": ["USD"]})]
    [True, True, True, True]
    >>> states_currency({"amount": ["1.20", "R2-7"], "note": ["PO $x", "5 $"], "empty": []})
    False
    """
    if any(stated_currency(name, {}, "") for name in samples) or currency_column(samples):
        return True
    filled = ([text.strip() for text in texts if text.strip("- ")] for texts in samples.values())
    return any(texts and all(map(_BESIDE_DIGITS.search, texts)) for texts in filled)
