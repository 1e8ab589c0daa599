"""How a column's texts are read: as numbers, dates, times or text; decided by the column."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta
from functools import cache, lru_cache
from typing import ClassVar, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.population.table import Column, ColumnType

MOST_DECIMALS = 12
SIDES = "DR|CR|Dr|Cr|D|C|S|H"
"""Marks of the side of the ledger after an amount: debit and credit, debe and haber, Soll and Haben."""
CREDIT_SIDES = "CR|Cr|C|H"
# ISO 4217, the national currencies in use.
_CODES = [
    "AED",
    "AFN",
    "ALL",
    "AMD",
    "ANG",
    "AOA",
    "ARS",
    "AUD",
    "AWG",
    "AZN",
    "BAM",
    "BBD",
    "BDT",
    "BGN",
    "BHD",
    "BIF",
    "BMD",
    "BND",
    "BOB",
    "BRL",
    "BSD",
    "BTN",
    "BWP",
    "BYN",
    "BZD",
    "CAD",
    "CDF",
    "CHF",
    "CLP",
    "CNY",
    "COP",
    "CRC",
    "CUP",
    "CVE",
    "CZK",
    "DJF",
    "DKK",
    "DOP",
    "DZD",
    "EGP",
    "ERN",
    "ETB",
    "EUR",
    "FJD",
    "FKP",
    "GBP",
    "GEL",
    "GHS",
    "GIP",
    "GMD",
    "GNF",
    "GTQ",
    "GYD",
    "HKD",
    "HNL",
    "HTG",
    "HUF",
    "IDR",
    "ILS",
    "INR",
    "IQD",
    "IRR",
    "ISK",
    "JMD",
    "JOD",
    "JPY",
    "KES",
    "KGS",
    "KHR",
    "KMF",
    "KPW",
    "KRW",
    "KWD",
    "KYD",
    "KZT",
    "LAK",
    "LBP",
    "LKR",
    "LRD",
    "LSL",
    "LYD",
    "MAD",
    "MDL",
    "MGA",
    "MKD",
    "MMK",
    "MNT",
    "MOP",
    "MRU",
    "MUR",
    "MVR",
    "MWK",
    "MXN",
    "MYR",
    "MZN",
    "NAD",
    "NGN",
    "NIO",
    "NOK",
    "NPR",
    "NZD",
    "OMR",
    "PAB",
    "PEN",
    "PGK",
    "PHP",
    "PKR",
    "PLN",
    "PYG",
    "QAR",
    "RON",
    "RSD",
    "RUB",
    "RWF",
    "SAR",
    "SBD",
    "SCR",
    "SDG",
    "SEK",
    "SGD",
    "SHP",
    "SLE",
    "SOS",
    "SRD",
    "SSP",
    "STN",
    "SVC",
    "SYP",
    "SZL",
    "THB",
    "TJS",
    "TMT",
    "TND",
    "TOP",
    "TRY",
    "TTD",
    "TWD",
    "TZS",
    "UAH",
    "UGX",
    "USD",
    "UYU",
    "UZS",
    "VES",
    "VND",
    "VUV",
    "WST",
    "XAF",
    "XCD",
    "XOF",
    "XPF",
    "YER",
    "ZAR",
    "ZMW",
]
_CURRENCY = "[€$£¥]|" + "|".join(_CODES)
_UNIT = re.compile(
    rf"[+(-]? ?({_CURRENCY})? ?[+(-]?[0-9][0-9.,' \u00a0\u202f]*[)-]? ?({_CURRENCY}|%)?[)-]?"
)
TOLERATED = 0.05
"""Share of texts that may not fit a column's format: these rows go to quarantine."""


class Format(Protocol):
    """How one column's texts become values."""

    @property
    def type(self) -> ColumnType: ...

    def read(self, texts: pa.Array) -> pa.Array:
        """The values of trimmed texts, empty ones being missing; missing too where none fits.

        Texts may be dictionary-encoded."""

    def fits(self, text: str) -> bool: ...

    def described(self) -> str:
        """What a reader is shown, and what a quarantined value was expected to be."""

    def column(self, name: str) -> Column: ...


@dataclass(frozen=True)
class TextFormat:
    """Text as it stands."""

    type: ClassVar[ColumnType] = "text"

    def read(self, texts: pa.Array) -> pa.Array:
        return texts

    def fits(self, text: str) -> bool:
        return True

    def described(self) -> str:
        return "text"

    def column(self, name: str) -> Column:
        return Column(name, "text")


@dataclass(frozen=True)
class NumberFormat:
    """An exact decimal. ``styles`` are the ways a minus may be written beside a leading one: trailing,
    in parentheses, or as the side of the ledger (``12.50 CR``). ``unit`` may stand on either side of
    the digits; a per cent sign must, or 12 among 12% would be read as 1200%."""

    decimal: str = "."
    thousands: str = ""
    scale: int = 0
    whole: int = 15
    styles: frozenset[str] = frozenset()
    assumed: bool = False
    unit: str = ""

    type: ClassVar[ColumnType] = "number"

    @property
    def precision(self) -> int:
        return 18 if self.whole + self.scale <= 18 else 38

    def pattern(self, decimals: int | None = None) -> str:
        """Regular expression of the texts that fit, all engines' common subset."""
        most = self.scale if decimals is None else decimals
        digits = r"[0-9]+"
        if self.thousands:
            mark = re.escape(self.thousands)
            digits = rf"(?:[0-9]{{1,3}}(?:{mark}[0-9]{{3}})+|[0-9]+)"
        body = digits
        if most:
            mark = re.escape(self.decimal)
            body = rf"(?:{digits}(?:{mark}[0-9]{{0,{most}}})?|{mark}[0-9]{{1,{most}}})"
        forms = [rf"[+-]?{body}"]
        if "trailing" in self.styles:
            forms.append(rf"{body}-")
        if "parentheses" in self.styles:
            forms.append(rf"\({body}\)")
        if "sides" in self.styles:
            forms.append(rf"{body} ?(?:{SIDES})")
        whole = forms[0] if len(forms) == 1 else "|".join(f"(?:{form})" for form in forms)
        if not self.unit:
            return whole
        unit = re.escape(self.unit)
        if self.unit == "%":
            return rf"(?:{whole}) ?%"
        # The unit may stand between a sign and the digits too: -€5, (€5).
        signed = rf"[+-]? ?{unit} ?{body}-?"
        return rf"{unit} ?(?:{whole})|(?:{whole}) ?{unit}|{signed}|{whole}|\({unit} ?{body}\)"

    def fits(self, text: str) -> bool:
        return _compiled(self).fullmatch(text) is not None

    def read(self, texts: pa.Array) -> pa.Array:
        kind = pa.decimal128(self.precision, self.scale)
        if pa.types.is_dictionary(texts.type):
            texts = texts.cast(pa.string())
        if not (self.thousands or self.styles or self.unit or _is_foreign(texts, self._points())):
            # Nothing but digits, signs and the decimal mark: what converts, fits.
            try:
                return self._plain(texts).cast(kind)
            except pa.ArrowInvalid:
                pass
        fits = pc.match_substring_regex(texts, rf"\A(?:{self.pattern()})\z")
        texts = pc.if_else(fits, texts, pa.scalar(None, pa.string()))
        negative = None
        if self.unit:
            texts = pc.replace_substring_regex(texts, rf" ?{re.escape(self.unit)} ?", "")
        if self.styles or self.unit:
            negative = pc.match_substring_regex(texts, rf"[(-]|(?:{CREDIT_SIDES})\z")
            texts = pc.replace_substring_regex(texts, rf"[()-]| ?(?:{SIDES})\z", "")
        sizes = _decimals(self._plain(texts), kind)
        return sizes if negative is None else pc.if_else(negative, pc.negate(sizes), sizes)

    def _plain(self, texts: pa.Array) -> pa.Array:
        """Texts as exact decimals are written everywhere."""
        if self.thousands:
            texts = pc.replace_substring(texts, self.thousands, "")
        if self.decimal == "," and self.scale:
            texts = pc.replace_substring(texts, ",", ".")
        return texts

    def _points(self) -> bool:
        """Whether a point is this format's decimal mark."""
        return self.decimal == "." and self.scale > 0

    def described(self) -> str:
        grouped = f"1{self.thousands}234" if self.thousands else "1234"
        unit = f" {self.unit}" if self.unit else ""
        if "sides" in self.styles:
            unit += " D/C"
        if not self.scale:
            return f"whole number {grouped}{unit}"
        shown = f"number {grouped}{self.decimal}{'5678901234567'[: self.scale]}{unit}"
        return shown + (" (decimal mark assumed)" if self.assumed else "")

    def column(self, name: str) -> Column:
        return Column(name, "number", self.scale, self.precision)


def _is_foreign(texts: pa.Array, points: bool) -> bool:
    """Whether some text has a letter, which a conversion takes for an exponent, or a point where
    none belongs; by the bytes as they lie."""
    _, offsets, data = texts.buffers()
    if data is None or not len(texts):
        return False
    ends = np.frombuffer(offsets, np.int32)[[texts.offset, texts.offset + len(texts)]]
    held = np.frombuffer(data, np.uint8)[ends[0] : ends[1]]
    if not len(held):
        return False
    return bool(held.max() > ord("9") or (not points and (held == ord(".")).any()))


def _decimals(texts: pa.Array, kind: pa.Decimal128Type) -> pa.Array:
    """Plain decimal texts as decimals; missing where one has more digits than the column."""
    try:
        return texts.cast(kind)
    except pa.ArrowInvalid:
        whole = kind.precision - kind.scale
        digits = pc.utf8_length(pc.replace_substring_regex(texts, r"\A[+-]?0*|\..*\z", ""))
        return pc.if_else(pc.less_equal(digits, whole), texts, pa.scalar(None, pa.string())).cast(
            kind
        )


@cache
def _compiled(format: NumberFormat) -> re.Pattern[str]:
    return re.compile(format.pattern())


_DATE_FORMS: dict[str, tuple[str, str, str, str]] = {
    # form: (pattern of its texts, type, order of its parts, how it is shown)
    "%Y-%m-%d": (r"[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}", "date", "year first", "yyyy-mm-dd"),
    "%Y/%m/%d": (r"[0-9]{4}/[0-9]{1,2}/[0-9]{1,2}", "date", "year first", "yyyy/mm/dd"),
    "%Y%m%d": (r"(?:19|20)[0-9]{6}", "date", "year first", "yyyymmdd"),
    "%d/%m/%Y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}", "date", "day first", "dd/mm/yyyy"),
    "%m/%d/%Y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}", "date", "month first", "mm/dd/yyyy"),
    "%d-%m-%Y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}", "date", "day first", "dd-mm-yyyy"),
    "%m-%d-%Y": (r"[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}", "date", "month first", "mm-dd-yyyy"),
    "%d.%m.%Y": (r"[0-9]{1,2}\.[0-9]{1,2}\.[0-9]{4}", "date", "day first", "dd.mm.yyyy"),
    "%d/%m/%y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{2}", "date", "day first", "dd/mm/yy"),
    "%m/%d/%y": (r"[0-9]{1,2}/[0-9]{1,2}/[0-9]{2}", "date", "month first", "mm/dd/yy"),
    "%d.%m.%y": (r"[0-9]{1,2}\.[0-9]{1,2}\.[0-9]{2}", "date", "day first", "dd.mm.yy"),
    "%Y-%m": (r"[0-9]{4}-[0-9]{2}", "date", "year first", "yyyy-mm"),
    "%m/%Y": (r"[0-9]{2}/[0-9]{4}", "date", "month first", "mm/yyyy"),
    "serial": (r"[1-6][0-9]{4}", "date", "", "day number of a spreadsheet"),
    "%H:%M:%S": (r"[0-9]{1,2}:[0-9]{2}:[0-9]{2}", "time", "", "hh:mm:ss"),
    "%H:%M": (r"[0-9]{1,2}:[0-9]{2}", "time", "", "hh:mm"),
}
_CLOCKS = {" %H:%M:%S": r" [0-9]{1,2}:[0-9]{2}:[0-9]{2}", " %H:%M": r" [0-9]{1,2}:[0-9]{2}",
           "T%H:%M:%S": r"T[0-9]{2}:[0-9]{2}:[0-9]{2}"}  # fmt: skip
for _form, (_pattern, _type, _order, _shown) in list(_DATE_FORMS.items())[:9]:
    if _form != "%Y%m%d":
        for _clock, _clock_pattern in _CLOCKS.items():
            _DATE_FORMS[_form + _clock] = (
                _pattern + _clock_pattern,
                "timestamp",
                _order,
                _shown + _clock.replace("%H:%M:%S", "hh:mm:ss").replace("%H:%M", "hh:mm"),
            )


# ISO 8601 with fractions of a second or a zone: kept as the same moment in UTC, so that rows of
# several zones compare. Without a zone the clock is the client's own.
_ZONE = r"(?:Z|[+-][0-9]{2}(?::?[0-9]{2})?)"
_INSTANT = r"[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]{1,9})?"
_DATE_FORMS["zoned"] = (
    rf"{_INSTANT} ?{_ZONE}", "timestamp", "year first", "yyyy-mm-dd hh:mm:ss with a zone, in UTC",
)  # fmt: skip
_DATE_FORMS["fraction"] = (
    _INSTANT,
    "timestamp",
    "year first",
    "yyyy-mm-dd hh:mm:ss with fractions of a second",
)

_ARROW = {"date": pa.date32(), "timestamp": pa.timestamp("us"), "time": pa.time64("us")}
MANY_DATES = 5_000


@lru_cache(maxsize=100_000)
def _moment(form: str, text: str | None) -> date | time | None:
    """A text read by a form, or None where it does not fit or is no day of the calendar."""
    pattern, kind, _, _ = _DATE_FORMS[form]
    if text is None or not re.fullmatch(pattern, text):
        return None
    if form == "serial":
        return date(1899, 12, 30) + timedelta(days=int(text))
    if form in ("zoned", "fraction"):
        return _instant(text)
    try:
        read = datetime.strptime(text, form)
    except ValueError:
        return None
    return read if kind == "timestamp" else read.date() if kind == "date" else read.time()


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
        return _DATE_FORMS[self.form][1]  # type: ignore[return-value]

    @property
    def order(self) -> str:
        return _DATE_FORMS[self.form][2]

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
        elif len(texts) > MANY_DATES and self.order:
            try:
                return pc.replace_substring_regex(texts, *_iso(self.form)).cast(kind)
            except pa.ArrowInvalid:
                pass
        return pa.array([_moment(self.form, text) for text in texts.to_pylist()], kind)

    def described(self) -> str:
        return f"{self.type} {_DATE_FORMS[self.form][3]}" + (" (assumed)" if self.assumed else "")

    def column(self, name: str) -> Column:
        return Column(name, self.type)


_MARKS = ((".", ""), (",", ""), (".", ","), (",", "."), (",", " "), (".", " "), (",", "'"), (".", "'"),
          (",", "\u00a0"), (",", "\u202f"))  # fmt: skip


def decide(
    values: Sequence[str],
    *,
    kind: str | None = None,
    decimal: str | None = None,
    thousands: str | None = None,
    dates: str | None = None,
    code: bool = False,
    dated: bool = False,
    measure: bool = False,
) -> Format:
    """The format of a column by a sample of its texts.

    Parameters
    ----------
    values : sequence of str
        Texts, trimmed and not empty.
    kind : str, optional
        ``text``, ``number`` or ``date`` where it is given and not to be guessed.
    decimal, thousands, dates : str, optional
        Marks and date order where they are given.
    code : bool
        The column holds identifiers: digits stay text.
    dated : bool
        The header names a date: five digits are the day number of a spreadsheet.
    measure : bool
        The header names amounts or dates: texts that do not fit are damage, and a letter after the
        digits is a side of the ledger (``12C`` elsewhere is a seat).
    """
    tolerated = 0.3 if measure else TOLERATED
    least = len(values) - int(len(values) * tolerated)
    if kind == "text" or (not values and kind is None):
        return TextFormat()
    if kind != "number":
        date = _decide_date(values, dates, least if kind is None else 1, dated or kind == "date")
        # Eight digits are a date only beside nothing that looks like an identifier.
        if date is not None and not (code and date.form == "%Y%m%d"):
            return date
        if kind == "date":
            return DateFormat(_form_of_order(dates))
    if kind is None:
        if code:
            return TextFormat()
        zeros = sum(1 for v in values if re.fullmatch(r"0[0-9]+", v))
        if zeros:
            return TextFormat()
    sided = measure or kind == "number"
    number = _decide_number(values, decimal, thousands, least if kind is None else 0, sided)
    return number or TextFormat()


def _form_of_order(dates: str | None) -> str:
    return {"day first": "%d/%m/%Y", "month first": "%m/%d/%Y"}.get(dates or "", "%Y-%m-%d")


def _decide_date(
    values: Sequence[str], dates: str | None, least: int, dated: bool
) -> DateFormat | None:
    fitting: list[tuple[int, DateFormat]] = []
    times = Counter(values)  # dates repeat: each is read once
    probe = list(times)[:60]
    for form, (pattern, _, order, _) in _DATE_FORMS.items():
        if dates and order and order != dates and order != "year first":
            continue
        if form == "serial" and not dated:
            continue
        shape = re.compile(pattern)
        if not any(map(shape.fullmatch, probe)):
            continue
        found = DateFormat(form)
        count = sum(times[v] for v in times if shape.fullmatch(v) and found.fits(v))
        if count >= max(least, 1):
            fitting.append((count, found))
    if not fitting:
        return None
    most = max(count for count, _ in fitting)
    best = [f for count, f in fitting if count == most]
    orders = {f.order for f in best}
    # Day and month both up to 12 throughout: day first is assumed, and said.
    return replace(best[0], assumed=len(orders) > 1 and not dates)


def _decide_number(
    values: Sequence[str], decimal: str | None, thousands: str | None, least: int, sided: bool
) -> NumberFormat | None:
    best: tuple[tuple[int, int], NumberFormat] | None = None
    times = Counter(values)
    unit = _unit_of(times)
    ambiguous = all(re.fullmatch(r"[+-]?[0-9]{1,3}([.,])[0-9]{3}", v) for v in values)
    for preference, (point, mark) in enumerate(_MARKS):
        if decimal not in (None, point) or thousands not in (None, mark):
            continue
        found = fitted(NumberFormat(point, mark, unit=unit), list(times), sided=sided)
        count = sum(times[v] for v in times if found.fits(v))
        # Texts with three decimals after a single mark may be thousands: a column of nothing else
        # is read by the decimal mark of the file where that is known, else as decimals.
        score = (count, -preference)
        if best is None or score > best[0]:
            best = score, replace(found, assumed=ambiguous and bool(values) and decimal is None)
    if best is None or best[0][0] < least:
        return None
    return best[1]


def _unit_of(times: Mapping[str, int]) -> str:
    """The currency or per cent sign beside the digits of at least half of the texts, or nothing.

    A unit that few texts have is another unit than that of the rest: these go to quarantine.
    """
    found: Counter[str] = Counter()
    for text, count in times.items():
        match = _UNIT.fullmatch(text)
        if match and (match[1] or match[2]):
            found[match[1] or match[2]] += count
    unit, most = found.most_common(1)[0] if found else ("", 0)
    return unit if 2 * most >= sum(times.values()) else ""


def fitted(start: NumberFormat, values: Sequence[str], *, sided: bool = False) -> NumberFormat:
    """A number format with the same marks, wide enough for those texts that can be read by it."""
    styles_known = {"trailing", "parentheses"} | ({"sides"} if sided else set())
    every = replace(start, styles=frozenset(styles_known | start.styles))
    pattern = re.compile(every.pattern(MOST_DECIMALS))
    scale, whole, styles = start.scale, start.whole if start.scale else 0, set(start.styles)
    for text in values:
        if pattern.fullmatch(text):
            side = re.search(
                rf" ?(?:{SIDES})\Z", text.replace(start.unit, "") if start.unit else text
            )
            digits, _, decimals = (
                re.sub(r"[^0-9.,' \u00a0\u202f]", "", text).strip().partition(start.decimal)
            )
            scale = max(scale, len(decimals))
            whole = max(whole, len(digits) - digits.count(start.thousands or "\0"))
            if "(" in text:
                styles.add("parentheses")
            elif text.endswith("-"):
                styles.add("trailing")
            elif side:
                styles.add("sides")
    # A column is wide enough for its totals too: 15 whole digits where they fit 18.
    return replace(
        start, scale=scale, whole=max(whole, min(15, 18 - scale)), styles=frozenset(styles)
    )


def widened(
    format: Format, failing: Sequence[str], *, decimal: str | None, thousands: str | None
) -> Format | None:
    """A wider format of the same kind that reads some of the failing texts, or None."""
    if isinstance(format, NumberFormat):
        marks = [format.thousands]
        if not format.thousands and thousands is None:
            other = "." if format.decimal == "," else ","
            marks = ["", other, " ", "'"]
        points = [format.decimal]
        if format.scale == 0 and decimal is None:
            points = [".", ","]
        for point in points:
            for mark in marks:
                if mark == point:
                    continue
                wider = fitted(
                    replace(format, decimal=point, thousands=mark, assumed=False), failing
                )
                if wider != format and any(map(wider.fits, failing)):
                    return wider
        return None
    if isinstance(format, DateFormat) and format.assumed:
        swapped = format.form.replace("%d", "%_").replace("%m", "%d").replace("%_", "%m")
        if swapped in _DATE_FORMS and any(map(DateFormat(swapped).fits, failing)):
            return DateFormat(swapped)
    return None
