"""What the lines above a header say of the amounts below it: their currency, and that they are in thousands."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from datetime import date, timedelta

from sabueso.base.currencies import CODES, OF_ONE, written
from sabueso.base.months import MONTHS, folded_month
from sabueso.intake.formats.called import worded
from sabueso.intake.formats.header_words import WORDS

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


_DATED = re.compile(
    r"([0-9]{1,2})[ ./-]{1,2}([0-9]{1,2}|[^\W\d_]{3,}\.?)[ ./,-]{1,2}((?:19|20)[0-9]{2})(?![0-9])"
    r"|((?:19|20)[0-9]{2})-([0-9]{2})-([0-9]{2})"
    r"|(?<![^|])((?:19|20)[0-9]{2})([0-9]{2})([0-9]{2})(?![^|])"
    r"|([^\W\d_]{3,})\.?(?: [0-9]{1,2},)?[ ./-]{1,2}((?:19|20)[0-9]{2})(?![0-9])"
)
_COMPACT = re.compile("[0-9]{8}")
_YEAR = re.compile(r"(?<![0-9])(?:19|20)[0-9]{2}(?![0-9])")
LEAST_OF_A_YEAR, MOST_DAYS, HALF_A_YEAR = 330, 370, 182


def year_above(rows: Sequence[Sequence[str]]) -> str:
    """The month from which on days without a year are nearest to the dates above a header: half a year before
    their middle; the first of a year that stands there alone. Nothing where neither does, or they lie far apart.

    Examples
    --------
    >>> year_above([["Statement", "01 Dec 2024 - 31 Dec 2024"]]), year_above([["from 01/01/2025 to 12/31/2025"]])
    ('2024-06', '2025-01')
    >>> year_above([["20240131", "29098", "20240101", "20241231"]]), year_above([["No. 20241231"]])
    ('2024-01', '')
    >>> year_above([["Ledger 2024"]]), year_above([["Fiscal years 2023 and 2025"]]), year_above([["Ledger"]])
    ('2024-01', '', '')
    """
    # A cell of eight figures and nothing else may be a day.
    text = " ".join(
        f"|{cell}|" if _COMPACT.fullmatch(cell) else cell for row in rows for cell in row
    )
    days = sorted(filter(None, map(_dated, _DATED.finditer(text))))
    if days:
        apart = days[-1] - days[0]
        begin = days[0] + apart / 2 - timedelta(days=HALF_A_YEAR)
        if apart.days >= LEAST_OF_A_YEAR:
            begin = days[0]
        return f"{begin.year}-{begin.month:02d}" if apart.days <= MOST_DAYS else ""
    year = one_year(rows)
    return f"{year}-01" if year else ""


def one_year(rows: Sequence[Sequence[str]]) -> str:
    """The only year that lines above a header state; nothing where they state none, or several.

    Examples
    --------
    >>> one_year([["Wages Jan 2024"], ["printed in 2024"]]), one_year([["2023 and 2024"]]), one_year([])
    ('2024', '', '')
    """
    years = {year for row in rows for cell in row for year in _YEAR.findall(cell)}
    return years.pop() if len(years) == 1 else ""


def _dated(said: re.Match[str]) -> date | None:
    """The day of a date; of a month and its year the middle."""
    first, second, year, *iso, name, of = said.groups()
    iso = iso[:3] if iso[0] is not None else iso[3:]
    if year is not None:
        month = int(second) if second.isdigit() else MONTHS.get(folded_month(second.strip(".")), 0)
        day, month = (month, int(first)) if month > 12 else (int(first), month)
    elif iso[0] is not None:
        year, month, day = iso[0], int(iso[1]), int(iso[2])
    else:
        year, month, day = of, MONTHS.get(folded_month(name), 0), 15
    try:
        return date(int(year), month, day)
    except ValueError:
        return None


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
    return code if code in CODES else OF_ONE.get(text, "")


def scale_notes(rows: Sequence[Sequence[str]]) -> list[str]:
    """What is said of amounts that lines above their header call thousands, or millions.

    Examples
    --------
    >>> [note[:60] for note in scale_notes([["Budget 2024, in thousands of EUR"]])], scale_notes([["Budget 2024"]])
    (["above the header stands 'Budget 2024, in thousands of EUR': "], [])
    """
    said = next((c.strip() for row in rows for c in row if c and _SCALED.search(c)), None)
    if said is None:
        return []
    return [
        f"above the header stands {said!r}: the amounts are taken as they are written, and not made larger"
    ]
