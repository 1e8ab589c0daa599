"""Whether the data of a period cover it: days with rows against the usual, weekday by weekday."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from datetime import date, timedelta
from fractions import Fraction
from math import prod

from sabueso.population.calendar import Span
from sabueso.screens.finding import Caution

LEAST_EXPECTED = 2.5
"""Days that would usually have rows, for a gap to be one."""
SURELY = 0.001
ALIKE = Fraction(3, 100)
"""A difference in what two periods reach that is none."""
LEAST_CALENDAR = 28
"""Days outside a period that are enough to tell what is usual."""


def partial_periods(
    spans: Iterable[tuple[str, Span, Collection[date]]],
) -> list[Caution]:
    """``partial_period`` for each period whose data stop early or start late.

    Parameters
    ----------
    spans : iterable of (name, span, days)
        The periods compared, each with all days of its table that have rows, inside it or not.
    """
    every = list(spans)
    found = []
    for name, span, days in every:
        others = [s for n, s, _ in every if n != name]
        doubts = [*_gaps(span, days), *_months_without(span, days, every, others)]
        if doubts:
            text = f"{name} {' and '.join(doubts)}: its figures are those of a part of it"
            found.append(Caution("partial_period", text, {"period": name}))
    return found


def pace(
    before: tuple[Span, Collection[date]] | None, now: tuple[Span, Collection[date]]
) -> Fraction:
    """How far the data of a period reach into it, beside how far those of another do: 1 where neither stops
    early or starts late, or both reach alike, or where rows are figures of months. Without another it is one that
    is whole."""
    sides = [side for side in (before, now) if side is not None]
    if not any(_ends_open(*side) for side in sides):
        return Fraction(1)
    found = _reach(*now) / (1 if before is None else _reach(*before))
    return Fraction(1) if abs(found - 1) < ALIKE else found


def _ends_open(span: Span, days: Collection[date]) -> bool:
    inside = sorted(d for d in days if span.start <= d < span.end)
    if not inside or _by_month(days):
        return False
    return bool(_open_ends(span, inside, _usual(span, days, inside)))


def _reach(span: Span, days: Collection[date]) -> Fraction:
    """The part of a period from its first day with rows to the last."""
    inside = [d for d in days if span.start <= d < span.end]
    if not inside:
        return Fraction(1)
    return Fraction((max(inside) - min(inside)).days + 1, (span.end - span.start).days)


def _by_month(days: Collection[date]) -> bool:
    """Whether rows are figures of months, dated the first day of each."""
    return all(each.day == 1 for each in days)


def _gaps(span: Span, days: Collection[date]) -> list[str]:
    inside = sorted(d for d in days if span.start <= d < span.end)
    if not inside:
        return ["has no rows"]
    if _by_month(days):
        return []  # a month's figure is dated one day
    rate = _usual(span, days, inside)
    end = span.end - timedelta(days=1)
    found = []
    for gap, text in _open_ends(span, inside, rate):
        expected = sum(rate[d.weekday()] for d in gap)
        of = f"of the {len(gap)} days to {end} about" if gap[-1] == end else "where about"
        found.append(f"{text} ({of} {expected:.0f} would usually have some)")
    return found


def _open_ends(
    span: Span, inside: list[date], rate: Mapping[int, float]
) -> list[tuple[list[date], str]]:
    """Days before the first and after the last with rows, where these are no chance."""
    first, last = inside[0], inside[-1]
    return [
        (gap, text)
        for gap, text in (
            (_days(span.start, first), f"has no rows before {first}"),
            (_days(last + timedelta(days=1), span.end), f"has no rows after {last}"),
        )
        if sum(rate[d.weekday()] for d in gap) >= LEAST_EXPECTED
        and prod(1 - rate[d.weekday()] for d in gap) < SURELY
    ]


def _usual(span: Span, days: Collection[date], inside: list[date]) -> dict[int, float]:
    """The share of each weekday's days that have rows: outside the period where enough is known,
    else within what the period has."""
    start, end = min(days), max(days)
    calendar = [d for d in _days(start, end + timedelta(days=1)) if not span.start <= d < span.end]
    if len(calendar) < LEAST_CALENDAR:
        calendar = _days(inside[0], inside[-1] + timedelta(days=1))
    all_days = Counter(d.weekday() for d in calendar)
    known = set(days)
    with_rows = Counter(d.weekday() for d in calendar if d in known)
    return {w: with_rows[w] / all_days[w] if all_days[w] else 0.0 for w in range(7)}


def _months_without(
    span: Span,
    days: Collection[date],
    every: list[tuple[str, Span, Collection[date]]],
    others: list[Span],
) -> list[str]:
    """Months of a period without rows where the other, of as many months, has some."""
    mine = _months(span, days)
    for name, other, its_days in every:
        if other not in others or not 2 <= len(_places(other)) == len(_places(span)):
            continue
        lacking = sorted(_months(other, its_days) - mine)
        if lacking and mine:
            which = ", ".join(_places(span)[place] for place in lacking)
            return [f"has no rows in {which}, where {name} has some in the same months"]
    return []


def _places(span: Span) -> list[str]:
    return list(dict.fromkeys(f"{d:%Y-%m}" for d in _days(span.start, span.end)))


def _months(span: Span, days: Collection[date]) -> set[int]:
    """Places of the months with rows, from the first of the period."""
    names = _places(span)
    return {names.index(f"{d:%Y-%m}") for d in days if span.start <= d < span.end}


def _days(start: date, end: date) -> list[date]:
    return [start + timedelta(days=i) for i in range((end - start).days)]
