"""What the lines above a header say of the amounts below it: their currency, and that they are in thousands."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from sabueso.base.currencies import OF_ONE, written
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.header_words import WORDS
from sabueso.intake.formats.numbers import CODES

_CODES = frozenset(CODES.split())
_WORDS = frozenset(["ALL", "TOP", "CUP", "MOP", "PEN", "MAD", "SOS"])
"""Codes that a title may end in as words."""
_NAMED = frozenset(WORDS["currency"].split())
_IN = re.compile(r"(?:\b(?:in|en)\s+|[:=(]\s*)([A-Z]{3}|[^\w\s]{1,3}|[^\W\d_]?[$€£])\s*\)?\s*$")
_SCALED = re.compile(
    r"\b(?:in|en)\s+(?:[A-Z]{3}\s+|\S\s?)?(?:thousands?|millions?|miles|millones|milliers|tausend|tsd|mio|migliaia|milioni)\b|"
    r"\b(?:TEUR|TCHF|TUSD|KEUR|MEUR|k€|T€|M€)\b|['’]000\b|\b000['’]?s\b",
    re.IGNORECASE,
)


def currency_above(rows: Sequence[Sequence[str]]) -> str:
    """The currency that lines above a header state, beside its name or at the end of what is said of
    amounts; nothing where they state none, or two.

    Examples
    --------
    >>> currency_above([["Account", "1-2"], ["Currency:", "", "gbp"]]), currency_above([["Ledger 2024 (USD)"], ["All"]])
    ('GBP', 'USD')
    >>> currency_above([["Currency: EUR"], ["in CHF"]]), currency_above([["Report of May"], ["in all"]])
    ('', '')
    """
    found = {code for row in rows for code in _stated(row)}
    return found.pop() if len(found) == 1 else ""


def _stated(row: Sequence[str]) -> Iterator[str]:
    cells = [cell.strip() for cell in row if cell.strip()]
    for place, cell in enumerate(cells):
        at_end = _IN.search(cell)
        if at_end is not None and at_end[1] not in _WORDS and (code := _code(at_end[1])):
            yield code
        if not _NAMED.isdisjoint(worded(cell)):
            said = [*re.findall(r"[A-Z]{3}|[^\w\s:]\S*", cell), *cells[place + 1 : place + 2]]
            yield from filter(None, map(_code, said))


def _code(text: str) -> str:
    code = written(text) if text.isupper() or text.islower() else text
    return code if code in _CODES else OF_ONE.get(text, "")


def scaled_above(rows: Sequence[Sequence[str]]) -> str:
    """The words above a header by which the amounts are in thousands or millions; nothing where none say so.

    Examples
    --------
    >>> scaled_above([["Budget 2024, in thousands of EUR"]]), scaled_above([["Budget 2024"]])
    ('Budget 2024, in thousands of EUR', '')
    """
    return next((c.strip() for row in rows for c in row if c and _SCALED.search(c)), "")


def scale_notes(rows: Sequence[Sequence[str]]) -> list[str]:
    """What is said of amounts that are in thousands."""
    words = scaled_above(rows)
    if not words:
        return []
    return [
        f"above the header stands {words!r}: the amounts are taken as they are written, and not made larger"
    ]
