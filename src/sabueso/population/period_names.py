"""The period that the name of a file or of a sheet tells: ``ventas_2024-03.csv``, ``März 2024``, ``Q1 2024``."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from datetime import date

from sabueso.base.errors import UserError
from sabueso.base.months import MONTHS, folded_month
from sabueso.population.calendar import Span

PERIOD_NAMES = frozenset(
    [
        "period",
        "periodo",
        "período",
        "periode",
        "période",
        "mes",
        "month",
        "year",
        "año",
        "ejercicio",
        "quarter",
        "trimestre",
        "fy",
        "jahr",
        "monat",
        "mois",
        "année",
        "exercice",
        "mese",
        "anno",
        "ano",
        "mês",
        "quartal",
        "per.",
        "yearmonth",
        "yyyymm",
    ]
) | {"fiscal year", "fiscal period"}
"""What a column of periods is called."""
_ENDS = ("monat", "jahr", "periode", "quartal", "maand", "kuukausi", "månad")
"""What compounds that name a period end in."""
_OF_BOOKS = frozenset(
    ["posting", "accounting", "booking", "reporting", "payroll", "pay", "billing", "fiscal", "gl"]
)
"""Words beside which a period is that of the books, and not when something was built or is due."""


def _words_of(name: str) -> str:
    return name.lower().replace("_", " ").strip()


def names_period_alone(name: str) -> bool:
    """Whether a column is called as a period is, and nothing besides."""
    return _words_of(name) in PERIOD_NAMES


def names_period(name: str) -> bool:
    """Whether a column is called as those of the periods of the books are, alone or in a compound.

    Examples
    --------
    >>> names_period("Period"), names_period("Abrechnungsmonat"), names_period("posting_month"), names_period("Year built")
    (True, True, True, False)
    """
    plain = _words_of(name).removesuffix(" name")
    first, _, last = plain.rpartition(" ")
    return plain in PERIOD_NAMES or (
        last in PERIOD_NAMES and first in _OF_BOOKS if first else plain.endswith(_ENDS)
    )


_YEAR = r"(?:19|20)[0-9]{2}"
_DAY = re.compile(
    rf"(?<![0-9])({_YEAR})[-_. ]?(0[1-9]|1[0-2])[-_. ]?(0[1-9]|[12][0-9]|3[01])(?![0-9])"
)
_DAY_FIRST = re.compile(
    rf"(?<![0-9])(0[1-9]|[12][0-9]|3[01])[-_. ](0[1-9]|1[0-2])[-_. ]({_YEAR})(?![0-9])"
)
_YEAR_MONTH = re.compile(rf"(?<![0-9])({_YEAR})[-_. ]?(?:M|m)?(0[1-9]|1[0-2])(?![0-9])")
_MONTH_YEAR = re.compile(rf"(?<![0-9])(0?[1-9]|1[0-2])[-_. ]({_YEAR})(?![0-9])")
_TWO_YEARS = re.compile(rf"(?<![0-9])({_YEAR})[-_/ ]({_YEAR}|[0-9]{{2}})(?![0-9])")
_ONE_YEAR = re.compile(rf"(?<![0-9])({_YEAR})(?![0-9])")
_PART = re.compile(
    r"(?<![a-z0-9])(?:([qthks])[. ]?([1-4])(?![a-z0-9])|([1-4])[. ]?([qthks])[a-z]*)"
)
_MONTH_ALONE = re.compile(r"^\W*(0?[1-9]|1[0-2])\W*$")


def period_of(name: str, beside: str = "") -> str | None:
    """The period in a name: ``2024-03-31``, ``2024-03``, ``2024-Q1``, ``2024-H1``, ``2023-2024`` or ``2024``.

    Parameters
    ----------
    name : str
        The name of a file or sheet.
    beside : str
        Another name that may tell the year: of the file where ``name`` is a sheet's.

    Examples
    --------
    >>> period_of("ventas_202403"), period_of("März 2024"), period_of("Q1 2024")
    ('2024-03', '2024-03', '2024-Q1')
    >>> period_of("Enero", "nominas 2024"), period_of("north")
    ('2024-01', None)
    """
    text = _plain(name)
    if found := _DAY.search(text):
        return "-".join(found.groups())
    if found := _DAY_FIRST.search(text):
        return "-".join(reversed(found.groups()))
    years = _ONE_YEAR.findall(text) or _ONE_YEAR.findall(_plain(beside))
    year = years[0] if len(set(years)) == 1 else None
    words = re.findall(r"[^\W\d_]{3,}", folded_month(text))
    month = next((MONTHS[w] for w in words if w in MONTHS), None)
    if month and year:
        return f"{year}-{month:02}"
    part = _PART.search(text)
    if part and year:
        letter, number = (part[1], part[2]) if part[1] else (part[4], part[3])
        return f"{year}-{'H' if letter in 'hs' else 'Q'}{number}"
    if found := _TWO_YEARS.search(text):
        first, second = found.groups()
        second = first[:2] + second if len(second) == 2 else second
        if int(second) == int(first) + 1:
            return f"{first}-{second}"
    if found := _YEAR_MONTH.search(text):
        return f"{found[1]}-{found[2]}"
    if found := _MONTH_YEAR.search(text):
        return f"{found[2]}-{int(found[1]):02}"
    if (found := _MONTH_ALONE.match(text)) and year:
        return f"{year}-{int(found[1]):02}"
    return year if _ONE_YEAR.search(text) else None


_MONTH_NAME = re.compile(r"[\W_]*([^\W\d_]{3,})[\W_]*([0-9]{2})?[\W_]*")


def _month_and_digits(name: str) -> tuple[int, str | None] | None:
    """The month that a name is, and the two digits after it; None where it is more than that."""
    found = _MONTH_NAME.fullmatch(name)
    month = None if found is None else MONTHS.get(folded_month(found[1]))
    return None if found is None or month is None else (month, found[2])


def shared_year(names: Sequence[str]) -> str:
    """The year that several sheets share which are called by month and two digits; nothing where one alone
    has such a name: it may be a day.

    Examples
    --------
    >>> shared_year(["Jan 24", "Feb 24", "Mar 24"]), shared_year(["Jan 24"]), shared_year(["Jan 24", "Feb 25"])
    ('2024', '', '')
    """
    told = [found for name in names if (found := _month_and_digits(name)) and found[1]]
    months, years = {month for month, _ in told}, {digits for _, digits in told}
    return f"20{years.pop()}" if len(told) == len(names) == len(months) > 1 == len(years) else ""


def names_month(name: str) -> bool:
    """Whether a name is that of a month, with its year or alone.

    Examples
    --------
    >>> [names_month(name) for name in ("Jan-24", "2024-01", "März", "Total", "May fee")]
    [True, True, True, False, False]
    """
    return len(period_of(name) or "") == len("2024-01") or _month_and_digits(name) is not None


MOST_YEARS = 5


def may_be_months(texts: Sequence[str]) -> bool:
    """Whether a month and two digits are perhaps the month of a year, and no day of it: so few digits come.

    Examples
    --------
    >>> may_be_months(["Jan-23", "Mar-24"]), may_be_months([f"Jan {day}" for day in range(10, 20)]), may_be_months([])
    (True, False, False)
    """
    told = [_month_and_digits(text) for text in set(texts)]
    digits = {found[1] for found in told if found is not None and found[1]}
    return None not in told and 0 < len(digits) <= MOST_YEARS


def _plain(text: str) -> str:
    """Small letters without accents, underscores as blanks."""
    folded = unicodedata.normalize("NFKD", text.lower())
    return "".join(c for c in folded if not unicodedata.combining(c)).replace("_", " ")


_PLAIN_MONTH = re.compile(
    rf"({_YEAR})(?:[-_/. ]?(1[0-2]|0[1-9])|[-_/. ]([1-9]))|(1[0-2]|0?[1-9])[-_/. ]({_YEAR})"
)
_NO_MONTH = re.compile(rf"{_YEAR}[-_/. ]?[0-9]{{1,2}}|[0-9]{{1,2}}[-_/. ]{_YEAR}")
"""A year with a number that is no month of it, such as the thirteenth period of some ledgers."""


_NUMBERED = re.compile(
    rf"(?:FY ?)?({_YEAR}|(?<=FY)[0-9]{{2}})[-_/. ]?[PM]?0?(0[1-9]|1[0-2])|[PM]?0?(0[1-9]|1[0-2])[-_/. ]({_YEAR})",
    re.IGNORECASE,
)
"""A year with the number of a period, in three figures or behind a letter, which is a month where the year begins in
January."""


def _year_of(digits: str) -> str:
    return digits if len(digits) == 4 else f"{20 if int(digits) < 69 else 19}{digits}"


def span_named(value: str, first_month: int = 1) -> Span | None:
    """The days that a value of a column of periods stands for: ``2024``, ``3/2024``, ``Q1 2024``, ``marzo
    2024``, ``Mar-24``, ``P03-2024``, ``2024-H1``, ``2023/24``; None where it names no period.

    Examples
    --------
    >>> span_named("3/2024").name, span_named("2T 2024").name, span_named("2024-H2").start.isoformat()
    ('2024-03', '2024-Q2', '2024-07-01')
    >>> [span_named(value).name for value in ("Mar-24", "P03-2024", "2024.003", "FY24-03")]
    ['2024-03', '2024-03', '2024-03', '2024-03']
    >>> span_named("P03-2024", 4) is None  # the third period of a fiscal year is no March
    True
    """
    month = _PLAIN_MONTH.fullmatch(value.strip())
    if month is not None:
        year, number = month[1] or month[5], month[2] or month[3] or month[4]
        return Span.of(f"{year}-{int(number):02}", first_month)
    named = _month_and_digits(value)
    if named is not None and named[1]:
        return Span.of(f"{_year_of(named[1])}-{named[0]:02}", first_month)
    if (numbered := _NUMBERED.fullmatch(value.strip())) is not None:
        if first_month != 1:
            return None
        year, number = numbered[1] or numbered[4], numbered[2] or numbered[3]
        return Span.of(f"{_year_of(year)}-{int(number):02}", first_month)
    name = period_of(value)
    if name is None or (len(name) != 9 and _NO_MONTH.fullmatch(value.strip())):
        return None
    try:
        if name[4:6] == "-H":
            quarters = (1, 2) if name[6] == "1" else (3, 4)
            first, last = (Span.of(f"{name[:4]}-Q{q}", first_month) for q in quarters)
            return Span(name, first.start, last.end)
        if len(name) == 9:  # a fiscal year that is named by the two calendar years it touches
            return Span(name, *_year(int(name[:4]), first_month))
        return Span.of(name, first_month)
    except UserError:  # the name has digits that make no day of the calendar
        return None


def _year(year: int, first_month: int) -> tuple[date, date]:
    own = Span.of(str(year), first_month)
    return own.start, own.end
