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
from sabueso.population.table import Column, ColumnType

DATE_FORMS: dict[str, tuple[str, str, str, str]] = {
    # form: (pattern of its texts, type, order of its parts, how it is shown)
    "%Y-%m-%d": (r"[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}", "date", "year first", "yyyy-mm-dd"),
    "%Y/%m/%d": (r"[0-9]{4}/[0-9]{1,2}/[0-9]{1,2}", "date", "year first", "yyyy/mm/dd"),
    "%Y.%m.%d": (r"[0-9]{4}\.[0-9]{1,2}\.[0-9]{1,2}", "date", "year first", "yyyy.mm.dd"),
    "%Y%m%d": (r"(?:19|20)[0-9]{6}", "date", "year first", "yyyymmdd"),
    "%d/%m/%Y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}", "date", "day first", "dd/mm/yyyy"),
    "%m/%d/%Y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}", "date", "month first", "mm/dd/yyyy"),
    "%d-%m-%Y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}", "date", "day first", "dd-mm-yyyy"),
    "%m-%d-%Y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}", "date", "month first", "mm-dd-yyyy"),
    "%d.%m.%Y": (r"[0-9]{1,2}\.[0-9]{1,2}\.[0-9]{4}", "date", "day first", "dd.mm.yyyy"),
    "%d/%m/%y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{2}", "date", "day first", "dd/mm/yy"),
    "%m/%d/%y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{2}", "date", "month first", "mm/dd/yy"),
    "%d.%m.%y": (r"[0-9]{1,2}\.[0-9]{1,2}\.[0-9]{2}", "date", "day first", "dd.mm.yy"),
    "%d-%m-%y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{2}", "date", "day first", "dd-mm-yy"),
    "%m-%d-%y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{2}", "date", "month first", "mm-dd-yy"),
    "%d %m %Y": (r"[0-9]{1,2} [0-9]{1,2} [0-9]{4}", "date", "day first", "dd mm yyyy"),
    "dotted": (
        r"[0-9]{4}\. ?[0-9]{1,2}\. ?[0-9]{1,2}\.|[0-9]{4}\. [0-9]{1,2}\. [0-9]{1,2}",
        "date",
        "year first",
        "yyyy. mm. dd.",
    ),
    "signs": (
        r"[0-9]{4} ?[年년] ?[0-9]{1,2} ?[月월] ?[0-9]{1,2} ?[日일]",
        "date",
        "year first",
        "year, month and day by their signs",
    ),
    "era": (
        r"(?:令和|平成|昭和|[RHS]) ?(?:[0-9]{1,2}|元)(?:[年./-]) ?[0-9]{1,2}(?:[月./-]) ?[0-9]{1,2}日?",
        "date",
        "year first",
        "year of an era, month, day",
    ),
    "buddhist": (
        r"[0-9]{1,2}([/.-])[0-9]{1,2}\1(?:24|25|26)[0-9]{2}",
        "date",
        "day first",
        "dd/mm/yyyy, the year of the Buddhist era: 2567 is 2024",
    ),
    "buddhist year": (
        r"(?:24|25|26)[0-9]{2}([/.-])[0-9]{1,2}\1[0-9]{1,2}",
        "date",
        "year first",
        "yyyy-mm-dd, the year of the Buddhist era: 2567 is 2024",
    ),
    "%Y-%m": (r"[0-9]{4}-[0-9]{2}", "date", "year first", "yyyy-mm"),
    "%m/%Y": (r"[0-9]{2}/[0-9]{4}", "date", "month first", "mm/yyyy"),
    "%Y%j": (r"(?:19|20)[0-9]{5}", "date", "year first", "year and day of the year"),
    "%y%j": (r"[0-3][0-9][0-3][0-9]{2}", "date", "year first", "yy and day of the year"),
    "century %y%j": (r"[01][0-9]{5}", "date", "year first", "century, year and day of the year"),
    "century %y%m%d": (r"[01][0-9]{6}", "date", "year first", "century, yymmdd"),
    "%d%m%Y": (r"[0-3]?[0-9][01][0-9](?:19|20)[0-9]{2}", "date", "day first", "ddmmyyyy"),
    "%m%d%Y": (r"[01]?[0-9][0-3][0-9](?:19|20)[0-9]{2}", "date", "month first", "mmddyyyy"),
    "%Y%m%d%H%M%S": (r"(?:19|20)[0-9]{12}", "timestamp", "year first", "yyyymmddhhmmss"),
    "epoch": (r"1[0-9]{9}(?:[0-9]{3})?", "timestamp", "", "seconds since 1970, in UTC"),
    "serial": (r"[1-6][0-9]{4}", "date", "", "day number of a spreadsheet"),
    "serial moment": (
        r"[1-6][0-9]{4}(?:\.[0-9]+)?",
        "timestamp",
        "",
        "day number of a spreadsheet, with the time of day",
    ),
    "%H:%M:%S": (r"[0-9]{1,2}:[0-9]{2}:[0-9]{2}", "time", "", "hh:mm:ss"),
    "%H:%M": (r"[0-9]{1,2}:[0-9]{2}", "time", "", "hh:mm"),
}
OF_FIGURES = (
    "%d%m%Y", "%m%d%Y", "%Y%j", "%y%j", "century %y%j", "century %y%m%d", "%Y%m%d%H%M%S", "serial",
    "serial moment",
)  # fmt: skip
"""Forms of figures alone, which are days only where a name says so."""
_CLOCKS = {" %H:%M:%S": r" [0-9]{1,2}:[0-9]{2}:[0-9]{2}", " %H:%M": r" [0-9]{1,2}:[0-9]{2}",
           "T%H:%M:%S": r"T[0-9]{2}:[0-9]{2}:[0-9]{2}",
           " %H.%M.%S": r" [0-9]{1,2}\.[0-9]{2}\.[0-9]{2}",
           " %I:%M:%S %p": r" [0-9]{1,2}:[0-9]{2}:[0-9]{2} ?[AaPp][Mm]",
           " %I:%M %p": r" [0-9]{1,2}:[0-9]{2} ?[AaPp][Mm]"}  # fmt: skip
_SHOWN_CLOCKS = {
    " %H:%M:%S": " hh:mm:ss", " %H:%M": " hh:mm", "T%H:%M:%S": "Thh:mm:ss", " %H.%M.%S": " hh.mm.ss",
    " %I:%M:%S %p": " hh:mm:ss am/pm", " %I:%M %p": " hh:mm am/pm",
}  # fmt: skip
for _form, (_pattern, _type, _order, _shown) in list(DATE_FORMS.items())[:14]:
    if _form != "%Y%m%d":
        for _clock, _clock_pattern in _CLOCKS.items():
            DATE_FORMS[_form + _clock] = (
                _pattern + _clock_pattern,
                "timestamp",
                _order,
                _shown + _SHOWN_CLOCKS[_clock],
            )


# ISO 8601 with fractions of a second or a zone: kept as the same moment in UTC, so that rows of
# several zones compare. Without a zone the clock is the client's own.
_ZONE = r"(?:Z|[+-][0-9]{2}(?::?[0-9]{2})?)"
_INSTANT = r"[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]{1,9})?"
DATE_FORMS["zoned"] = (
    rf"{_INSTANT} ?{_ZONE}", "timestamp", "year first", "yyyy-mm-dd hh:mm:ss with a zone, in UTC",
)  # fmt: skip
DATE_FORMS["fraction"] = (
    _INSTANT,
    "timestamp",
    "year first",
    "yyyy-mm-dd hh:mm:ss with fractions of a second",
)

# Months by their names, whole or cut, in small letters without accents; names of Thai have marks
# among their letters, and points among those that are cut.
_NAME = r"(?:[^\W\d_]|[\u0e31-\u0e4e]|\.(?=[\u0e00-\u0e7f])){3,14}\.?"
_BETWEEN = r"[ .\-/,]{0,2}"
_DAY = r"[0-9]{1,2}(?:st|nd|rd|th|\.|º)?"
WEEKDAYS = frozenset(
    [
        "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "mon", "tue", "tues", "wed",
        "thu", "thur", "thurs", "fri", "sat", "sun", "lunes", "martes", "miercoles", "jueves", "viernes", "sabado",
        "domingo", "lun", "mar", "mie", "mier", "jue", "vie", "sab", "dom", "montag", "dienstag", "mittwoch",
        "donnerstag", "freitag", "samstag", "sonnabend", "sonntag", "mo", "di", "mi", "do", "fr", "sa", "so", "lundi",
        "mardi", "mercredi", "jeudi", "vendredi", "samedi", "dimanche", "mer", "jeu", "ven", "sam", "dim", "lunedi",
        "martedi", "mercoledi", "giovedi", "venerdi", "domenica", "gio", "segunda", "terca", "quarta", "quinta",
        "sexta", "maandag", "dinsdag", "woensdag", "donderdag", "vrijdag", "zaterdag", "zondag", "ma", "wo", "vr",
        "za", "zo",
    ]
)  # fmt: skip
"""Small letters without accents; one before a day is left off, where it is no month."""
_OF_WEEK = r"(?:[^\W\d_]{2,14}(?:-feira)?(?:\.,?|,) ?|[^\W\d_]{2,14}(?:-feira)? )?"
_DAY_NAME = (
    rf"{_OF_WEEK}{_DAY}[ .\-/]?(?:de |of |d'|d’)?{_NAME}{_BETWEEN}(?:de |del )?(?:[0-9]{{4}}|[0-9]{{2}})(?: ?[гр]\.?)?",
    "date", "day first", "day, month by its name, year",
)  # fmt: skip
DATE_FORMS["day name"] = _DAY_NAME
DATE_FORMS["day name, Croatian"] = (*_DAY_NAME[:3], "day, month by its Croatian name, year")
DATE_FORMS["name day"] = (
    rf"{_OF_WEEK}{_NAME}[ .\-]?[0-9]{{1,2}}(?:st|nd|rd|th)?,?[ \-][0-9]{{4}}",
    "date", "month first", "month by its name, day, year",
)  # fmt: skip
DATE_FORMS["year name"] = (
    rf"[0-9]{{4}}\.?(?: m\.?)?{_BETWEEN}{_NAME}{_BETWEEN}[0-9]{{1,2}}\.?(?: d\.?)?",
    "date", "year first", "year, month by its name, day",
)  # fmt: skip
for _form, (_pattern, _type, _order, _shown) in list(DATE_FORMS.items()):
    if _type == "date" and _order and _form not in ("%Y-%m", "%m/%Y", *OF_FIGURES):
        DATE_FORMS[_form + clocks.SUFFIX] = (
            f"(?:{_pattern}){clocks.PATTERN}",
            "timestamp",
            _order,
            _shown + " and a time of day",
        )
YEARLESS = {
    "%d/%m": (r"[0-9]{1,2}/[0-9]{1,2}", "date", "day first", "dd/mm"),
    "%m/%d": (r"[0-9]{1,2}/[0-9]{1,2}", "date", "month first", "mm/dd"),
    "%d.%m": (r"[0-9]{1,2}\.[0-9]{1,2}\.?", "date", "day first", "dd.mm."),
    "%d-%m": (r"[0-9]{1,2}-[0-9]{1,2}", "date", "day first", "dd-mm"),
    "%d%m": (r"[0-9]{3,4}", "date", "day first", "ddmm"),
    "day, month": (
        rf"{_DAY}[ .\-/]?(?:de |of |d'|d’)?{_NAME}", "date", "day first", "day, month by its name",
    ),
    "month, day": (
        rf"{_NAME}[ .\-]?[0-9]{{1,2}}(?:st|nd|rd|th)?", "date", "month first", "month by its name, day",
    ),
}  # fmt: skip
"""Forms of days without a year, which is said elsewhere. Those of figures alone may be numbers."""
DATE_FORMS |= YEARLESS
_LEADING = ("%d%m%Y", "%m%d%Y")
LEAP = 2000
"""The year of days that have none yet: it has every day."""
_NAMED = ("day name", "day name, Croatian", "name day", "year name")
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
    if form in _LEADING:
        text = text.zfill(8)  # a program that took it for a number left the nought out
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
