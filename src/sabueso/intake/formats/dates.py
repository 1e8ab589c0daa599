"""Texts as dates, moments and times of day."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.months import MONTHS
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
    "%Y-%m": (r"[0-9]{4}-[0-9]{2}", "date", "year first", "yyyy-mm"),
    "%m/%Y": (r"[0-9]{2}/[0-9]{4}", "date", "month first", "mm/yyyy"),
    "serial": (r"[1-6][0-9]{4}", "date", "", "day number of a spreadsheet"),
    "%H:%M:%S": (r"[0-9]{1,2}:[0-9]{2}:[0-9]{2}", "time", "", "hh:mm:ss"),
    "%H:%M": (r"[0-9]{1,2}:[0-9]{2}", "time", "", "hh:mm"),
}
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

# Months by their names, whole or cut, in the main languages of Europe; without accents, small letters.
_NAME = r"[^\W\d_]{3,10}\.?"
_NAMED_CLOCK = r"(?:,? [0-9]{1,2}:[0-9]{2}(?::[0-9]{2})?)?"
DATE_FORMS["day name"] = (
    rf"[0-9]{{1,2}}(?:st|nd|rd|th|\.)?[ .\-/]?(?:de |of )?{_NAME}[ .\-/,]{{0,2}}(?:de |del )?(?:[0-9]{{4}}|[0-9]{{2}})",
    "date", "day first", "day, month by its name, year",
)  # fmt: skip
DATE_FORMS["name day"] = (
    rf"{_NAME}[ .\-]?[0-9]{{1,2}}(?:st|nd|rd|th)?,?[ \-][0-9]{{4}}",
    "date", "month first", "month by its name, day, year",
)  # fmt: skip


_ERAS = {"令": 2018, "R": 2018, "平": 1988, "H": 1988, "昭": 1925, "S": 1925}
"""The year before the first of an era, by the letter it begins with."""


def _figures(text: str) -> date | None:
    """A date of three figures, year first, of which an era may count the years."""
    year, month, day = (int(n) for n in re.findall("[0-9]+", text.replace("元", "1")))
    try:
        return date(year + _ERAS.get(text[0], 0), month, day)
    except ValueError:
        return None


def _named(form: str, text: str) -> date | None:
    """A date with the month by its name."""
    plain = unicodedata.normalize("NFKD", text.casefold())
    plain = "".join(c for c in plain if not unicodedata.combining(c))
    words = [
        w
        for w in re.findall(r"[a-z]+", plain)
        if w not in ("de", "del", "of", "st", "nd", "rd", "th")
    ]
    numbers = [int(n) for n in re.findall(r"[0-9]+", plain)]
    if len(words) != 1 or len(numbers) != 2 or words[0] not in MONTHS:
        return None
    day, year = numbers
    year += 0 if year > 99 else 2000 if year < 69 else 1900
    try:
        return date(year, MONTHS[words[0]], day)
    except ValueError:
        return None


_ARROW = {"date": pa.date32(), "timestamp": pa.timestamp("us"), "time": pa.time64("us")}
MANY_DATES = 5_000


@lru_cache(maxsize=100_000)
def _moment(form: str, text: str | None) -> date | time | None:
    """A text read by a form, or None where it does not fit or is no day of the calendar."""
    pattern, kind, _, _ = DATE_FORMS[form]
    if text is None:
        return None
    if not re.fullmatch(pattern, text):
        # A moment at midnight may be written as its day alone.
        day = re.split(r"[ T]%[HI]", form)[0]
        if kind != "timestamp" or day == form or day not in DATE_FORMS:
            return None
        alone = _moment(day, text)
        return None if alone is None else datetime.combine(alone, time())  # type: ignore[arg-type]
    if form in ("day name", "name day"):
        return _named(form, text)
    if form in ("dotted", "signs", "era"):
        return _figures(text)
    if form == "serial":
        return date(1899, 12, 30) + timedelta(days=int(text))
    if form in ("zoned", "fraction"):
        return _instant(text)
    try:
        read = datetime.strptime(_spaced(text) if "%p" in form else text, form)
    except ValueError:
        return None
    return read if kind == "timestamp" else read.date() if kind == "date" else read.time()


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
    """A date, timestamp or time of day. ``assumed`` where the column does not tell its order."""

    form: str
    assumed: bool = False

    @property
    def type(self) -> ColumnType:
        return DATE_FORMS[self.form][1]  # type: ignore[return-value]

    @property
    def order(self) -> str:
        return DATE_FORMS[self.form][2]

    def fits(self, text: str) -> bool:
        return _moment(self.form, text) is not None

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
        elif len(texts) > MANY_DATES and self.order and "%" in self.form and "%I" not in self.form:
            try:
                return pc.replace_substring_regex(texts, *_iso(self.form)).cast(kind)
            except pa.ArrowInvalid:
                pass
        return pa.array([_moment(self.form, text) for text in texts.to_pylist()], kind)

    def described(self) -> str:
        return f"{self.type} {DATE_FORMS[self.form][3]}" + (" (assumed)" if self.assumed else "")

    def column(self, name: str) -> Column:
        return Column(name, self.type)
