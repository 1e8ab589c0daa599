"""Texts as dates, moments and times of day."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache, partial
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.figures import plain_figures
from sabueso.base.months import CROATIAN_MONTHS, MONTHS, folded_month
from sabueso.intake.formats import clocks
from sabueso.intake.formats.date_forms import (
    DATE_FORMS,
    LEADING,
    LEAP,
    OF_MONTHS,
    WEEKDAYS,
    YEARLESS,
)
from sabueso.population.table import Column, ColumnType

_NAMED = ("day name", "day name, Croatian", "name day", "year name", "name year")
_NO_MONTH = frozenset(["de", "del", "of", "d", "m", "st", "nd", "rd", "th", "г", "р"])
BUDDHIST = 543
"""Years by which the Buddhist era is ahead."""


_ERAS = {"令": 2018, "R": 2018, "平": 1988, "H": 1988, "昭": 1925, "S": 1925}
"""The year before the first of an era, by the letter it begins with."""


def _figures(text: str) -> date | None:
    """A date of three figures, year first, of which an era may count the years."""
    year, month, day = (int(n) for n in re.findall("[0-9]+", text.replace("元", "1")))
    return _day(year + _ERAS.get(text[0], 0), month, day)


def _named(form: str, text: str) -> date | None:
    """A date with the month by its name."""
    plain = folded_month(text)
    words = [w.strip(".") for w in re.findall(r"[^\W\d_](?:[^\W\d_]|[\u0e31-\u0e4e]|\.)*", plain)]
    months = CROATIAN_MONTHS if form == "day name, Croatian" else MONTHS
    if len(words) > 1 and words[0] in WEEKDAYS and any(w in months for w in words[1:]):
        words = [w for w in words[1:] if w != "feira"]
    named = [months.get(w) for w in words if w not in _NO_MONTH]
    numbers = [int(n) for n in re.findall(r"[0-9]+", plain)]
    if form == "name year":
        # Names that are of another month elsewhere tell none by themselves.
        told = named + [CROATIAN_MONTHS.get(w, months.get(w)) for w in words if w not in _NO_MONTH]
        month = told[0] if len(set(told)) == 1 and len(numbers) == 1 else None
        return None if month is None else _day(numbers[0], month, 1)
    if len(named) != 1 or named[0] is None or len(numbers) != 2:
        return None
    day, year = reversed(numbers) if form == "year name" else numbers
    year += 0 if year > 99 else 2000 if year < 69 else 1900
    if year >= 2400 and re.search("[\u0e00-\u0e7f]", plain):
        year -= BUDDHIST
    return _day(year, named[0], day)


def _yearless(form: str, text: str) -> date | None:
    """A day in a year that has every day."""
    if "%" not in form:
        return _named("day name", f"{text} {LEAP}")
    figures = re.findall("[0-9]+", text) if form != "%d%m" else [text[:-2], text[-2:]]
    day, month = (int(n) for n in (reversed(figures) if form == "%m/%d" else figures))
    return _day(LEAP, month, day)


def _day(year: int, month: int, day: int) -> date | None:
    """A day of the calendar; None where there is no such day."""
    try:
        return date(year, month, day)
    except ValueError:
        return None


def _of_the_buddhist_era(text: str) -> date | None:
    first, month, last = map(int, re.findall("[0-9]+", text))
    year, day = (first, last) if first > 31 else (last, first)
    return _day(year - BUDDHIST, month, day)


KNOWN = {"date": "%Y-%m-%d", "timestamp": "%Y-%m-%d %H:%M:%S"}
"""The forms in which a spreadsheet's own days and moments are given, but for those that are numbers."""
_ARROW = {"date": pa.date32(), "timestamp": pa.timestamp("us"), "time": pa.time64("us")}
MANY_DATES = 5_000


@lru_cache(maxsize=100_000)
def _moment(form: str, text: str | None) -> date | time | None:
    """A text read by a form, or None where it does not fit or is no day of the calendar."""
    pattern, kind, _, _ = DATE_FORMS[form]
    if text is None:
        return None
    text = plain_figures(text)
    if not re.fullmatch(pattern, text):
        # A moment at midnight may be written as its day alone.
        day = re.split(rf"[ T]%[HI]|{clocks.SUFFIX}\Z", form)[0]
        if kind != "timestamp" or day == form or day not in DATE_FORMS:
            return None
        alone = _moment(day, text)
        return None if alone is None else datetime.combine(alone, time())  # type: ignore[arg-type]
    if form.endswith(clocks.SUFFIX):
        return clocks.moment(text, partial(_day_of, form))
    if form in _NAMED:
        return _named(form, text)
    if form.startswith("century"):
        # The first figure counts centuries from 1900.
        text, form = (
            f"{19 + int(text[0])}{text[1:]}",
            form.removeprefix("century ").replace("%y", "%Y"),
        )
    if form.startswith("buddhist"):
        return _of_the_buddhist_era(text)
    if form in ("dotted", "signs", "era"):
        return _figures(text)
    if form in YEARLESS:
        return _yearless(form, text)
    if form == "serial":
        return date(1899, 12, 30) + timedelta(days=int(text))
    if form == "serial moment":
        return datetime(1899, 12, 30) + timedelta(seconds=round(float(text) * 86_400))
    if form == "epoch":
        return datetime(1970, 1, 1) + timedelta(seconds=int(text[:10]))
    if form in ("zoned", "fraction"):
        return _instant(text)
    if form in LEADING:
        text = text.zfill(8)
    try:
        read = datetime.strptime(_spaced(text) if "%p" in form else text, form)
    except ValueError:
        return None
    return read if kind == "timestamp" else read.date() if kind == "date" else read.time()


def _day_of(form: str, text: str) -> date | None:
    """The day of a form that has a time of day behind it."""
    return _moment(form.removesuffix(clocks.SUFFIX), text)  # type: ignore[return-value]


def _spaced(text: str) -> str:
    """10:39PM as 10:39 PM."""
    return re.sub(r"([0-9])([AaPp][Mm])\Z", r"\1 \2", text)


def _instant(text: str) -> datetime | None:
    """An ISO 8601 moment, in UTC where it has a zone."""
    try:
        read = datetime.fromisoformat(re.sub(r"(\.[0-9]{6})[0-9]+", r"\1", text.replace(" Z", "Z")))
    except ValueError:
        return None
    return read.astimezone(UTC).replace(tzinfo=None) if read.tzinfo else read


def known_day(text: str | None, kind: ColumnType) -> Any:
    """What a spreadsheet gives of a day that it knows for one: year first, or its number; None of other texts."""
    found = _moment(KNOWN[kind], text)
    if found is not None:
        return found
    day = _moment("serial", text)
    return day if kind == "date" or day is None else datetime.combine(day, time())  # type: ignore[arg-type]


def _iso(form: str) -> tuple[str, str]:
    """Pattern and replacement that turn a form's texts with two-digit parts into ISO 8601."""
    sizes = {"Y": 4, "m": 2, "d": 2, "H": 2, "M": 2, "S": 2}
    parts = re.findall("%([A-Za-z])", form)
    shape = re.escape(form).replace("\\ ", " ")
    for part in parts:
        shape = shape.replace(f"%{part}", f"([0-9]{{{sizes.get(part, 0)}}})")
    at = {part: rf"\{position}" for position, part in enumerate(parts, 1)}
    day = f"{at.get('Y', 'x')}-{at.get('m', 'x')}-{at.get('d', 'x')}"
    clock = f" {at['H']}:{at['M']}:{at.get('S', '00')}" if "H" in at else ""
    return rf"\A{shape}\z", day + clock


@dataclass(frozen=True)
class DateFormat:
    """A date, timestamp or time of day. ``assumed`` where the column does not tell its order. Of days without a
    year ``begins`` is the month that they begin with, as 2025-01. ``beside`` where others of the column stand
    year first, as a spreadsheet gives the days that it knows for such."""

    form: str
    assumed: bool = False
    begins: str = ""
    beside: bool = False

    @property
    def type(self) -> ColumnType:
        return DATE_FORMS[self.form][1]  # type: ignore[return-value]

    @property
    def of_months(self) -> bool:
        """Whether its days stand for whole months."""
        return self.form in OF_MONTHS

    @property
    def order(self) -> str:
        return DATE_FORMS[self.form][2]

    def fits(self, text: str) -> bool:
        return self.day_of(text) is not None

    def day_of(self, text: str | None) -> Any:
        """What a text states, None where it does not fit."""
        found = self._placed(_moment(self.form, text))
        if found is None and self.beside:
            return known_day(text, self.type)
        return found

    def _placed(self, found: Any) -> Any:
        """A day without a year in its year; others as they are."""
        if found is None or self.form not in YEARLESS:
            return found
        year, month = map(int, (self.begins or f"{LEAP}-01").split("-"))
        return _day(year + (found.month < month), found.month, found.day)

    def read(self, texts: pa.Array) -> pa.Array:
        encoded = texts if pa.types.is_dictionary(texts.type) else texts.dictionary_encode()
        return self._distinct(encoded.dictionary).take(encoded.indices)

    def _distinct(self, texts: pa.Array) -> pa.Array:
        """Values of distinct texts: dates repeat, and few of them are read one by one."""
        kind = _ARROW[self.type]
        if len(texts) > MANY_DATES and self.order and self.form in ("zoned", "fraction"):
            zone = "UTC" if self.form == "zoned" else None
            try:
                return texts.cast(pa.timestamp("us", zone)).cast(kind)
            except pa.ArrowInvalid:
                pass
        elif len(texts) > MANY_DATES and self.form.endswith(clocks.SUFFIX):
            read = clocks.moments(texts, partial(_day_of, self.form))
            if read.null_count == texts.null_count:
                return read
        elif (
            len(texts) > MANY_DATES
            and self.order
            and "%" in self.form
            and not re.search("%[Ij]|century", self.form)
            and self.form not in YEARLESS
        ):
            try:
                return pc.replace_substring_regex(texts, *_iso(self.form)).cast(kind)
            except pa.ArrowInvalid:
                pass
        return pa.array(list(map(self.day_of, texts.to_pylist())), kind)

    def described(self) -> str:
        year = f", from {self.begins} on" if self.begins else ""
        both = " or yyyy-mm-dd" if self.beside else ""
        return f"{self.type} {DATE_FORMS[self.form][3]}{both}{year}" + (
            " (assumed)" if self.assumed else ""
        )

    def column(self, name: str) -> Column:
        return Column(name, self.type)
