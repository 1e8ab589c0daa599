"""The period that the name of a file or of a sheet tells: ``ventas_2024-03.csv``, ``März 2024``, ``Q1 2024``."""

from __future__ import annotations

import re
import unicodedata

from sabueso.intake.formats.dates import MONTHS

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
    month = next((MONTHS[w] for w in re.findall(r"[a-z]{3,}", text) if w in MONTHS), None)
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


def _plain(text: str) -> str:
    """Small letters without accents, underscores as blanks."""
    folded = unicodedata.normalize("NFKD", text.lower())
    return "".join(c for c in folded if not unicodedata.combining(c)).replace("_", " ")
