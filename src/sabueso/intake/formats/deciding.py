"""How a column's texts are read: as numbers, dates, times or text; decided by the column."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import ClassVar, Protocol

import pyarrow as pa

from sabueso.base.figures import plain_figures
from sabueso.intake.formats import clocks
from sabueso.intake.formats.dates import DATE_FORMS, OF_FIGURES, YEARLESS, DateFormat, known_day
from sabueso.intake.formats.numbers import NumberFormat, fitted, unit_of
from sabueso.population.table import Column, ColumnType

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


MARKS = ((".", ""), (",", ""), (".", ","), (",", "."), (",", " "), (".", " "), (",", "'"), (".", "'"),
          (",", "\u00a0"), (",", "\u202f"))  # fmt: skip


@dataclass(frozen=True)
class Hints:
    """What is known of a column beside its texts.

    Attributes
    ----------
    kind : str or None
        ``text``, ``number`` or ``date`` where it is given and not to be guessed.
    decimal, thousands, dates : str or None
        Marks and date order where they are given.
    code : bool
        The column holds identifiers: digits stay text.
    dated : bool
        The header names a date: five digits are the day number of a spreadsheet.
    begins : str
        The month that days without a year begin with, as 2025-01; nothing where that is not known.
    moment : bool
        The header names a moment: ten digits are its seconds since 1970, thirteen its thousandths.
    measure : bool
        The header names amounts or dates: texts that do not fit are damage, and a letter after the
        digits is a side of the ledger (``12C`` elsewhere is a seat).
    period : bool
        The header names a month or another period.
    """

    kind: str | None = None
    decimal: str | None = None
    thousands: str | None = None
    dates: str | None = None
    code: bool = False
    dated: bool = False
    begins: str = ""
    moment: bool = False
    measure: bool = False
    period: bool = False


def decide(values: Sequence[str], hints: Hints) -> Format:
    """The format of a column by a sample of its texts, trimmed and not empty."""
    plain = list(map(plain_figures, values))
    found = _decide(plain, hints)
    if isinstance(found, NumberFormat) and plain != list(values):
        return replace(found, styles=found.styles | {"figures"})
    return found


def _decide(values: Sequence[str], hints: Hints) -> Format:
    kind = hints.kind
    tolerated = 0.3 if hints.measure else TOLERATED
    least = len(values) - int(len(values) * tolerated)
    if kind == "text" or (not values and kind is None):
        return TextFormat()
    if kind != "number":
        dated = hints.dated or kind == "date"
        moment = hints.moment or kind == "date"
        if (both := beside_known(values, hints)) is not None:
            # Whoever says that they are dates has looked.
            return TextFormat() if both.swapped and kind is None else both.format
        date = _decide_date(values, hints.dates, least if kind is None else 1, dated, moment)
        if date is not None and not _is_rather_a_code(date, values, hints):
            return date
        if hints.begins and (found := yearless(values, hints.dates, dated=dated)) is not None:
            return replace(found, begins=hints.begins)
        if kind == "date":
            return DateFormat(_form_of_order(hints.dates))
    if kind is None and (hints.code or any(re.fullmatch(r"0[0-9]+", v) for v in values)):
        return TextFormat()
    if kind is None and _are_months(values, hints):
        return TextFormat()
    sided = hints.measure or kind == "number"
    least = least if kind is None else 0
    return _decide_number(values, hints.decimal, hints.thousands, least, sided) or TextFormat()


_MONTHS = [
    re.compile(text)
    for text in (r"(0[1-9]|1[0-2])[.,](19|20)[0-9]{2}", r"(19|20)[0-9]{2}[.,](0[1-9]|1[0-2])")
]
_MONTHS_UNNAMED = 6


def _are_months(values: Sequence[str], hints: Hints) -> bool:
    """Whether figures with a mark are months and years, ``03.2024`` or ``2024.03``, by the header's name or by
    so many that are nothing else."""
    named = hints.period or (not hints.measure and len(values) >= _MONTHS_UNNAMED)
    return named and any(all(form.fullmatch(v) for v in values) for form in _MONTHS)


def yearless(values: Sequence[str], dates: str | None, *, dated: bool) -> DateFormat | None:
    """The form of days without a year, where nearly every text is one; figures alone only under a date's name."""
    times = Counter(values)  # days repeat: each is read once
    found = [
        DateFormat(form)
        for form, (_, _, order, _) in YEARLESS.items()
        if (dated or "%" not in form)
        and dates in (None, "year first", order)
        and _fits_nearly_all(DateFormat(form), times)
    ]
    return replace(found[0], assumed=len({f.order for f in found}) > 1) if found else None


def _fits_nearly_all(found: Format, times: Mapping[str, int]) -> bool:
    """Whether a format fits nearly all texts, of which there are so many each; no more are read than it takes."""
    allowed = int(sum(times.values()) * TOLERATED)
    for text, many in times.items():
        if not found.fits(text):
            allowed -= many
            if allowed < 0:
                return False
    return bool(times)


@dataclass(frozen=True)
class Beside:
    """Days that a spreadsheet knows for such among others that it does not: how those are read, how many are of
    each kind, one of the texts, and whether all stand as where days were taken for months."""

    format: DateFormat
    known: int
    texts: int
    example: str
    swapped: bool


def beside_known(values: Sequence[str], hints: Hints) -> Beside | None:
    """How days are read that stand year first and in another form in one column; None where they do not.

    A program that reads days first as months first, or the other way round, makes days of those up to the
    twelfth, and not of the rest: then what it knows is not what was meant.
    """
    if not (hints.dated or hints.kind == "date"):
        return None
    days = {v: day for v in set(values) if (day := known_day(v, "timestamp")) is not None}
    known, rest = [v for v in values if v in days], [v for v in values if v not in days]
    if min(len(known), len(rest)) < LEAST_BESIDE:
        return None
    least = len(rest) - int(len(values) * TOLERATED)
    found = _decide_date(rest, hints.dates, least, hints.dated, hints.moment)
    if found is None or found.order not in ("day first", "month first"):
        return None
    moments = any(":" in v for v in known) or found.type == "timestamp"
    if moments and found.type == "date":
        found = replace(found, form=found.form + clocks.SUFFIX)
    others = [sorted(map(int, re.findall("[0-9]+", v)[:2])) for v in rest if found.fits(v)]
    figures = "%" in found.form
    swapped = (
        figures
        and max(day.day for day in days.values()) <= 12
        and min(each[-1] for each in others) > 12
    )
    return Beside(replace(found, beside=True), len(known), len(rest), rest[0], swapped)


LEAST_BESIDE = 3
"""Days of each of two kinds from which a column has both."""


def _is_rather_a_code(date: DateFormat, values: Sequence[str], hints: Hints) -> bool:
    """Whether what could be read as dates are numbers of something: eight digits, or parts of two (``3.1.01`` is
    an account as well as a day), under a name that tells of none. Of those days some are after the
    twelfth."""
    if hints.kind == "date" or hints.dated:
        return False
    if hints.code:
        return (
            date.form in ("%Y%m%d", "%Y%m%d%H%M%S") or _TWO_DIGIT_YEAR.search(date.form) is not None
        )
    if not _TWO_DIGIT_YEAR.search(date.form):
        return False
    parts = [[int(part) for part in re.findall("[0-9]+", value)[:2]] for value in set(values)]
    return all(max(each, default=0) <= 12 for each in parts)


_TWO_DIGIT_YEAR = re.compile(r"%[dm][./-]%[dm][./-]%y")


def _form_of_order(dates: str | None) -> str:
    return {"day first": "%d/%m/%Y", "month first": "%m/%d/%Y"}.get(dates or "", "%Y-%m-%d")


LEAST_ORDINAL = 10
"""Distinct texts from which five figures that are all a year and a day of it are no numbers of days."""


def _are_days_of_six(texts: Sequence[str]) -> bool:
    """Whether six figures may be day, month and year, in whatever order: then they are no day of a year."""
    return any(
        sum(bool(_of_six(text, order)) for text in texts) > 0.5 * len(texts)
        for order in ("%d%m%y", "%m%d%y", "%y%m%d")
    )


def _of_six(text: str, order: str) -> datetime | None:
    try:
        return datetime.strptime(text, order) if len(text) == 6 else None
    except ValueError:
        return None


def _decide_date(
    values: Sequence[str], dates: str | None, least: int, dated: bool, moment: bool
) -> DateFormat | None:
    fitting: list[tuple[int, DateFormat]] = []
    times = Counter(values)  # dates repeat: each is read once
    probe = list(times)[:60]
    for form, (pattern, _, order, _) in DATE_FORMS.items():
        if form in YEARLESS or (dates and order and order != dates and order != "year first"):
            continue
        if form in OF_FIGURES and not (dated or (moment and form == "%Y%m%d%H%M%S")):
            continue
        if form == "epoch" and not moment:
            continue
        shape = re.compile(pattern)
        if not any(map(shape.fullmatch, probe)):
            continue
        if form == "century %y%j" and _are_days_of_six(probe):
            continue
        if form == "%y%j" and len(times) < LEAST_ORDINAL:
            continue  # a few numbers of days may look so
        found = DateFormat(form)
        count = sum(times[v] for v in times if found.fits(v))
        if count >= max(least, 1):
            fitting.append((count, found))
    if not fitting:
        return None
    most = max(count for count, _ in fitting)
    best = [f for count, f in fitting if count == most]
    forms = {f.form for f in best}
    if {"day name", "day name, Croatian"} <= forms:
        return None  # the same name is of two months, and nothing tells which
    # A year that far ahead is counted from another beginning.
    best = [f for f in best if f.form.startswith("buddhist")] or best
    if any(f.form == "%y%j" for f in best):
        best = [f for f in best if f.form != "serial"]
    orders = {f.order for f in best}
    # Who counts the hours to twelve twice puts the month first, as a rule.
    best.sort(key=lambda f: "%p" in f.form and f.order != "month first")
    # Day and month both up to 12 throughout: day first is assumed, and said.
    return replace(best[0], assumed=len(orders) > 1 and not dates)


def _decide_number(
    values: Sequence[str], decimal: str | None, thousands: str | None, least: int, sided: bool
) -> NumberFormat | None:
    best: tuple[tuple[int, int], NumberFormat] | None = None
    times = Counter(values)
    unit = unit_of(times)
    for preference, (point, mark) in enumerate(MARKS):
        if decimal not in (None, point) or thousands not in (None, mark):
            continue
        found = fitted(NumberFormat(point, mark, unit=unit), list(times), sided=sided)
        count = sum(times[v] for v in times if found.fits(v))
        score = (count, -preference)
        if best is None or score > best[0]:
            best = score, found
    if best is None or best[0][0] < least:
        return None
    if decimal is None and thousands is None:
        mark = _thousands_or_decimals(times)
        if mark:
            other = "," if mark == "." else "."
            grouped = fitted(
                NumberFormat(other, mark, unit=unit, assumed=True), list(times), sided=sided
            )
            grouped = replace(grouped, scale=0)
            if sum(times[v] for v in times if grouped.fits(v)) >= best[0][0]:
                return replace(grouped, assumed=not any(map(tells_thousands, times)))
    return best[1]


_GROUPED = re.compile(r"[^0-9.,]*[1-9][0-9]{0,2}(?:\.[0-9]{3}|,[0-9]{3})+[^0-9.,]*")
_BARE = re.compile(r"[^0-9.,]*[1-9][0-9]{0,2}[^0-9.,]*")


def _thousands_or_decimals(times: Mapping[str, int]) -> str:
    """The one mark that has exactly three digits after it wherever it stands, and may be either that
    of thousands or that of decimals; nothing where the texts tell."""
    marked = [v for v in times if "." in v or "," in v]
    marks = {c for v in marked for c in v if c in ".,"}
    if not marked or len(marks) != 1:
        return ""
    if not all(_GROUPED.fullmatch(v) for v in marked):
        return ""
    # A whole number above 999 without a mark: thousands are not marked here.
    for text in times:
        digits = re.sub(r"[^0-9]", "", text)
        if text not in marked and len(digits) > 3:
            return ""
    return marks.pop()


def tells_thousands(text: str) -> bool:
    """Whether a text that fits assumed thousands tells that they are some: two marks in it, or none,
    where a decimal would have its three places."""
    marks = sum(c in ".," for c in text)
    return marks > 1 or (not marks and _BARE.fullmatch(text) is not None)


def widened(
    format: Format, failing: Sequence[str], *, decimal: str | None, thousands: str | None
) -> Format | None:
    """A wider format of the same kind that reads some of the failing texts, or None."""
    if isinstance(format, NumberFormat) and format.assumed and format.thousands:
        # What contradicts thousands that were assumed makes decimals of them, or settles them.
        pointed = NumberFormat(
            format.thousands, "", unit=format.unit, scale=3, styles=format.styles
        )
        settled = replace(format, assumed=False)
        for wider in (fitted(pointed, failing), fitted(settled, failing)):
            if all(map(wider.fits, failing)):
                return wider
        format = settled
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
        if swapped in DATE_FORMS and any(map(DateFormat(swapped).fits, failing)):
            return DateFormat(swapped)
    if isinstance(format, DateFormat) and format.type == "date":
        # Days among which moments turn up are moments at midnight.
        for form in DATE_FORMS:
            clocked = form.startswith(format.form) and form != format.form
            if clocked and any(map(DateFormat(form).fits, failing)):
                return DateFormat(form, format.assumed)
    return None
