"""Which form the days of a column are in, by a sample of its texts."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Protocol

from sabueso.base.errors import UserError
from sabueso.intake.formats import clocks
from sabueso.intake.formats.date_forms import (
    DATE_FORMS,
    FIGURES_OF_MONTHS,
    OF_FIGURES,
    OF_SIX,
    YEARLESS,
)
from sabueso.intake.formats.dates import DateFormat, known_day
from sabueso.intake.formats.hints import TOLERATED, Hints


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


def _fits_nearly_all(found: DateFormat, times: Mapping[str, int]) -> bool:
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
    found = decide_date(rest, hints.dates, least, hints.dated, hints.moment)
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


def is_rather_a_code(date: DateFormat, values: Sequence[str], hints: Hints) -> bool:
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


def form_of_order(dates: str | None) -> str:
    return {"day first": "%d/%m/%Y", "month first": "%m/%d/%Y"}.get(dates or "", "%Y-%m-%d")


LEAST_ORDINAL = 10
"""Distinct texts from which five figures that are all a year and a day of it are no numbers of days."""


_PART_OF_A_DAY = re.compile(r"[0-9]{5}\.[0-9]{3,}")


def _are_days_of_six(texts: Sequence[str]) -> bool:
    """Whether six figures may be day, month and year, in whatever order: then they are no day of a year."""
    return any(
        sum(bool(_of_six(text, order)) for text in texts) > 0.5 * len(texts) for order in OF_SIX
    )


LEAST_OF_SIX, MOST_YEARS = 10, 3
"""Distinct days of six figures from which their years tell their order, and how many years they may have."""


def _order_of_six(texts: Sequence[str]) -> str | None:
    """The only order of six figures in which all are days of a few years; None where several are, or none.

    Examples
    --------
    >>> _order_of_six([f"24{month:02}{day:02}" for month in range(1, 13) for day in (3, 9, 17, 28)])
    '%y%m%d'
    >>> _order_of_six(["010203", "020304"] * 9) is None
    True
    """
    some = {text for text in texts if len(text) == 6 and text.isdigit()}
    if len(some) < LEAST_OF_SIX:
        return None
    fitting = []
    for order in OF_SIX:
        days = [_of_six(text, order) for text in some]
        years = {day.year for day in days if day is not None}
        if None not in days and len(years) <= MOST_YEARS:
            fitting.append(order)
    return fitting[0] if len(fitting) == 1 else None


def _of_six(text: str, order: str) -> datetime | None:
    try:
        return datetime.strptime(text, order) if len(text) == 6 else None
    except ValueError:
        return None


class Fitting(Protocol):
    """What tells whether it reads a text."""

    def fits(self, text: str) -> bool: ...


BOTH_ORDERS = 0.05
"""Share of a column's days that only the other order of day and month reads, above which none is taken for granted:
of the days up to the twelfth as many may be the wrong way round."""
_SWAPPED = str.maketrans("dm", "md")


def in_both_orders(texts: Sequence[str]) -> tuple[str, str] | None:
    """A day that is day first alone and one that is month first alone, of one form; None where not both are there."""
    every = dict.fromkeys(texts)
    for form, (_, kind, order, _) in DATE_FORMS.items():
        other = form.translate(_SWAPPED)
        if order != "day first" or kind != "date" or other not in DATE_FORMS or "%" not in form:
            continue
        mine, theirs = DateFormat(form), DateFormat(other)
        first = next((t for t in every if mine.fits(t) and not theirs.fits(t)), None)
        if first is None:
            continue
        second = next((t for t in every if theirs.fits(t) and not mine.fits(t)), None)
        if second is not None:
            return first, second
    return None


def refuse_both_orders(name: str, found: Fitting, texts: Sequence[str]) -> None:
    """Refuse a column of days that was taken in neither order, because more than a few are of either alone.

    Raises
    ------
    UserError
        If it is one.
    """
    unfit = [text for text in dict.fromkeys(texts) if not found.fits(text)]
    both = in_both_orders(texts) if unfit else None
    if both is not None and both[0] in unfit and both[1] in unfit:
        raise UserError(
            f"column {name!r} holds days that can only be day first, such as {both[0]!r}, and some that can only be "
            f"month first, such as {both[1]!r}: the others may be either; say with --dates which order they have, and "
            "the rest goes to quarantine"
        )


def of_the_other_order(found: DateFormat, times: Mapping[str, int]) -> Counter[str]:
    """Texts that a form does not read, and that with day and month changed does, with how many there are."""
    other = found.form.translate(_SWAPPED)
    if other == found.form or other not in DATE_FORMS or "%" not in found.form:
        return Counter()
    swapped = DateFormat(other)
    return Counter({t: n for t, n in times.items() if not found.fits(t) and swapped.fits(t)})


def _of_another_calendar(found: DateFormat, texts: Sequence[str]) -> bool:
    """Whether most years are those of a calendar that began some six hundred years later: 1403, 1445."""
    if "%Y" not in found.form:
        return False
    years = [day.year for t in texts if isinstance(day := found.day_of(t), date)]
    return 2 * sum(1300 <= year < 1500 for year in years) > max(len(years), 1)


def decide_date(
    values: Sequence[str],
    dates: str | None,
    least: int,
    dated: bool,
    moment: bool,
    months: Collection[str] = (),
) -> DateFormat | None:
    """The form that most texts are in, at least ``least`` of them; ``months`` are forms of figures that may be
    whole months, and no numbers."""
    fitting: list[tuple[int, DateFormat]] = []
    times = Counter(values)  # dates repeat: each is read once
    probe = list(times)[:60]
    if not any(any(map(str.isdigit, text)) for text in probe):
        return None  # no form is without figures
    for form, (pattern, _, order, _) in DATE_FORMS.items():
        if form in YEARLESS or (dates and order and order != dates and order != "year first"):
            continue
        if form in OF_FIGURES and not (dated or (moment and form == "%Y%m%d%H%M%S")):
            continue
        if form in FIGURES_OF_MONTHS and form not in months:
            continue
        if form == "epoch" and not moment:
            continue
        shape = re.compile(pattern)
        if not any(map(shape.fullmatch, probe)):
            continue
        if form == "serial moment" and not any(map(_PART_OF_A_DAY.fullmatch, probe)):
            continue  # amounts may look so
        if form == "century %y%j" and _are_days_of_six(probe):
            continue
        if form in OF_SIX and form != _order_of_six(list(times)):
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
    if any(_of_another_calendar(f, list(times)) for f in best):
        return None
    otherwise = max(of_the_other_order(f, times).total() for f in best)
    if not dates and otherwise > max(BOTH_ORDERS * len(values), 1):
        return None
    # A year that far ahead is counted from another beginning.
    best = [f for f in best if f.form.startswith("buddhist")] or best
    # Days none of which is after the twelfth are months.
    best = [f for f in best if f.form == "%Y%m"] or best
    if any(f.form == "%y%j" for f in best):
        best = [f for f in best if f.form != "serial"]
    orders = {f.order for f in best}
    # Who counts the hours to twelve twice puts the month first, as a rule.
    best.sort(key=lambda f: "%p" in f.form and f.order != "month first")
    # Day and month both up to 12 throughout: day first is assumed, and said.
    return replace(best[0], assumed=len(orders) > 1 and not dates)


_WHOLE = re.compile(r"[0-9]{1,9}")
_SURELY = 0.98
"""Share of whole numbers that must be day numbers of a spreadsheet for these to be some."""
_EVER, _LATELY, _SPAN = (10_959, 58_500), (36_526, 51_544), 15 * 365
"""Between which days, by such numbers, nearly all are (1930 and 2060); and where a header says less (2000 and 2041), with how many
days between them."""


def may_be_day_numbers(values: Sequence[str], *, day_of: bool) -> bool:
    """Whether whole numbers are rather days, as a spreadsheet numbers them, than what a meter stands at: next to all are of
    some decades, and of some years where the header may say of what they are (``day_of``)."""
    numbers = sorted(int(v) for v in values if _WHOLE.fullmatch(v))
    if not numbers:
        return True
    few = int(len(numbers) * (0 if day_of else (1 - _SURELY) / 2))
    low, high = numbers[few], numbers[-1 - few]
    first, last = _LATELY if day_of else _EVER
    return first <= low and high <= last and (high - low <= _SPAN or not day_of)


LEAST_NAMELESS, YEARS_OF_NAMELESS = 30, 10
"""Texts of a column without a name from which they may be days, and years that these may be of."""
_PLACED = re.compile(r"column [0-9]+")
_DAY_AND_YEAR = re.compile(r"[0-3][0-9][0-3][0-9](?:19|20)[0-9]{2}")


def are_nameless_days(name: str, values: Sequence[str]) -> bool:
    """Whether a column that is named by its place holds eight figures each of which are a day and a year of a few."""
    if _PLACED.fullmatch(name) is None or len(values) < LEAST_NAMELESS:
        return False
    years = {value[4:] for value in values}
    return len(years) <= YEARS_OF_NAMELESS and all(map(_DAY_AND_YEAR.fullmatch, values))
