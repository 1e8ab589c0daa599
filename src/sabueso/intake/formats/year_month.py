"""The month of rows that have no date, and a column for its year and one for its number or its name."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.months import MONTHS, folded_month
from sabueso.intake.formats.called import worded

_YEARS = frozenset(
    [
        "year",
        "years",
        "fy",
        "ano",
        "jahr",
        "geschaftsjahr",
        "annee",
        "anno",
        "exercice",
        "ejercicio",
        "jaar",
        "rok",
        "yil",
        "vuosi",
        "ar",
        "год",
        "рік",
        "年",
        "年度",
        "연도",
    ]
)
_MONTHS = frozenset(
    [
        "month",
        "mes",
        "monat",
        "mois",
        "mese",
        "mae",
        "maand",
        "miesiac",
        "mesic",
        "ay",
        "kuukausi",
        "manad",
        "maned",
        "period",
        "periode",
        "periodo",
        "месяц",
        "місяць",
        "月",
        "월",
    ]
)
_YEAR = re.compile(r"(?:FY ?)?((?:19|20)[0-9]{2})(?:\.0)?")
_NUMBER = re.compile(r"[PM]?0{0,2}([1-9]|1[0-2])(?:\.0)?", re.IGNORECASE)
MOSTLY = 0.9
"""Share of rows of which both must be told; a thirteenth period is no month."""


def year_of(text: str) -> str | None:
    """A year in its four digits, by itself."""
    found = _YEAR.fullmatch(text.strip())
    return None if found is None else found[1]


def month_of(text: str) -> str | None:
    """The number of a month in two digits, by its number or its name.

    Examples
    --------
    >>> month_of("3"), month_of("P03"), month_of("März"), month_of("13")
    ('03', '03', '03', None)
    """
    text = text.strip()
    found = _NUMBER.fullmatch(text)
    number = int(found[1]) if found else MONTHS.get(folded_month(text).strip("."))
    return None if number is None else f"{number:02}"


def periods(years: pa.ChunkedArray, months: pa.ChunkedArray) -> pa.Array:
    """``2024-03`` of a year and a month, row by row; missing where either tells none."""
    parts = [_told(years, year_of), _told(months, month_of)]
    return pc.binary_join_element_wise(*parts, "-")


def _told(column: pa.ChunkedArray, read: Callable[[str], str | None]) -> pa.Array:
    encoded = column.combine_chunks().cast(pa.string()).dictionary_encode()
    known = [None if text is None else read(text) for text in encoded.dictionary.to_pylist()]
    return pa.array(known, pa.string()).take(encoded.indices)


def year_and_month(samples: Mapping[str, Sequence[str]]) -> tuple[str, str] | None:
    """The two columns that tell the month of rows; None where there are none."""

    def called(words: frozenset[str], read: Callable[[str], str | None]) -> str | None:
        for name, values in samples.items():
            told = sum(read(value) is not None for value in values)
            if values and not words.isdisjoint(worded(name)) and told >= MOSTLY * len(values):
                return name
        return None

    year, month = called(_YEARS, year_of), called(_MONTHS, month_of)
    return None if year is None or month is None or year == month else (year, month)
