"""How a column's texts are read: as numbers, dates, times or text; decided by the column."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Protocol

import pyarrow as pa

from sabueso.base.figures import plain_figures
from sabueso.intake.formats.called import CENTS
from sabueso.intake.formats.date_forms import DATE_FORMS, DOTTED_MONTHS, FIGURES_OF_MONTHS
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.days import (
    beside_known,
    decide_date,
    form_of_order,
    is_rather_a_code,
    may_be_day_numbers,
    yearless,
)
from sabueso.intake.formats.hints import TOLERATED, Hints
from sabueso.intake.formats.numbers import NumberFormat, fitted, shapes_of, unit_of
from sabueso.population.table import Column, ColumnType


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
    # In a short column one that is no amount is a twentieth already.
    allowed = max(int(len(values) * tolerated), int(_have_cents(values)))
    least = len(values) - allowed
    if kind == "text" or (not values and kind is None):
        return TextFormat()
    if kind != "number":
        dated = hints.dated or kind == "date"
        moment = hints.moment or kind == "date"
        if (both := beside_known(values, hints)) is not None:
            # Whoever says that they are dates has looked.
            return TextFormat() if both.swapped and kind is None else both.format
        months: Sequence[str] = FIGURES_OF_MONTHS if dated or hints.period else ()
        if not months and _are_months(values, hints):
            months = DOTTED_MONTHS
        enough = least if kind is None else 1
        date = decide_date(values, hints.dates, enough, dated, moment, months)
        if kind is None and date is not None and date.form == "serial":
            date = date if may_be_day_numbers(values, day_of=hints.day_of) else None
        if date is not None and not is_rather_a_code(date, values, hints):
            return date
        if hints.begins and (found := yearless(values, hints.dates, dated=dated)) is not None:
            return replace(found, begins=hints.begins)
        if kind == "date":
            return DateFormat(form_of_order(hints.dates))
    if kind is None and (hints.code or any(re.fullmatch(r"0[0-9]+", v) for v in values)):
        return TextFormat()
    if kind is None and _are_months(values, hints):
        return TextFormat()
    sided = hints.measure or kind == "number"
    least = least if kind is None else 0
    return _decide_number(values, hints.decimal, hints.thousands, least, sided) or TextFormat()


LEAST_CENTS = 8


def _have_cents(values: Sequence[str]) -> bool:
    """Whether all of several texts but one are amounts with cents."""
    return (
        len(values) > LEAST_CENTS
        and sum(CENTS.fullmatch(v) is not None for v in values) == len(values) - 1
    )


_MONTHS = [
    re.compile(text)
    for text in (r"0?(0[1-9]|1[0-2])[.,](19|20)[0-9]{2}", r"(19|20)[0-9]{2}[.,]0?(0[1-9]|1[0-2])")
]
_MONTHS_UNNAMED = 6


def _are_months(values: Sequence[str], hints: Hints) -> bool:
    """Whether figures with a mark are months and years, ``03.2024`` or ``2024.03``, by the header's name or by
    so many that are nothing else."""
    named = hints.period or (not hints.measure and len(values) >= _MONTHS_UNNAMED)
    return named and any(all(form.fullmatch(v) for v in values) for form in _MONTHS)


def _decide_number(
    values: Sequence[str], decimal: str | None, thousands: str | None, least: int, sided: bool
) -> NumberFormat | None:
    best: tuple[tuple[int, int], NumberFormat] | None = None
    times = Counter(values)
    unit = unit_of(times)
    shapes = shapes_of(times)
    for preference, (point, mark) in enumerate(MARKS):
        if decimal not in (None, point) or thousands not in (None, mark):
            continue
        found = fitted(NumberFormat(point, mark, unit=unit), list(shapes), sided=sided)
        count = sum(shapes[v] for v in shapes if found.fits(v))
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
