"""Periods by name: 2024, 2024-Q3, 2024-07, 2024-07-15."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import MAXYEAR, MINYEAR, date, timedelta

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.sql import Tree

_FORM = re.compile(r"(\d{4})(?:-Q([1-4])|-(\d{2})(?:-(\d{2}))?)?")


@dataclass(frozen=True)
class Span:
    """Days from ``start`` up to but not including ``end``."""

    name: str
    start: date
    end: date

    @classmethod
    def of(cls, name: str, first_month: int = 1, what: str = "period") -> Span:
        """The span a name stands for; a bare year is the fiscal year that starts in it.

        Raises
        ------
        UserError
            If the name is no period.
        """
        match = _FORM.fullmatch(name.strip())
        if match is None:
            raise UserError(
                f"{what} {name!r} is no period; expected a year (2024), a quarter (2024-Q3), "
                "a month (2024-07) or a day (2024-07-15)"
            )
        year, quarter, month, day = (int(part) if part else 0 for part in match.groups())
        try:
            if day:
                start = date(year, month, day)
                return cls(name, start, start + timedelta(days=1))
            if month:
                return cls(name, date(year, month, 1), _months_on(date(year, month, 1), 1))
            if quarter:
                start = date(year, 3 * quarter - 2, 1)
                return cls(name, start, _months_on(start, 3))
            start = date(year, first_month, 1)
            return cls(name, start, _months_on(start, 12))
        except OverflowError:
            raise UserError(f"{what} {name!r} is where the calendar ends") from None
        except ValueError:
            raise UserError(f"{what} {name!r} is no date of the calendar") from None

    @classmethod
    def latest(cls, unit: str, last: date, first_month: int = 1) -> Span:
        """The year, quarter, month or day that a date lies in."""
        if unit == "day":
            return cls.of(last.isoformat(), first_month)
        if unit == "month":
            return cls.of(f"{last:%Y-%m}", first_month)
        if unit == "quarter":
            return cls.of(f"{last.year}-Q{(last.month + 2) // 3}", first_month)
        return cls.of(str(last.year - (last.month < first_month)), first_month)

    def before(self, periods: int = 1, first_month: int = 1) -> Span:
        """The period of the same kind that lies so many of them before."""
        year, quarter, month, day = (part or "" for part in self._parts())
        try:
            if day:
                return Span.of((self.start - timedelta(days=periods)).isoformat(), first_month)
            if month or quarter:
                start = _months_on(self.start, -periods * (1 if month else 3))
                return Span.latest("month" if month else "quarter", start, first_month)
        except OverflowError:
            raise UserError(
                f"the calendar begins less than {periods} such periods before {self.name}"
            ) from None
        return Span.of(f"{int(year) - periods:04d}", first_month)

    def year_before(self, first_month: int = 1) -> Span:
        """The same period a year before."""
        year = int(self.name[:4]) - 1
        return Span.of(f"{year:04d}{self.name.strip()[4:]}", first_month)

    def _parts(self) -> tuple[str | None, ...]:
        match = _FORM.fullmatch(self.name.strip())
        return match.groups() if match else (None,) * 4

    def holds(self, day: Tree) -> Tree:
        """Condition that a date lies within the span."""
        value = sql.cast(day, "DATE")
        return exp.and_(
            exp.GTE(this=value, expression=_day(self.start)),
            exp.LT(this=value.copy(), expression=_day(self.end)),
        )

    def condition(self, column: str) -> str:
        """The same as an expression that a user can type."""
        return f"{column} >= '{self.start}' and {column} < '{self.end}'"

    def overlaps(self, other: Span) -> bool:
        return self.start < other.end and other.start < self.end


def _months_on(start: date, months: int) -> date:
    index = start.month - 1 + months
    year = start.year + index // 12
    if not MINYEAR <= year <= MAXYEAR:
        raise OverflowError(f"there is no year {year}")
    return date(year, index % 12 + 1, 1)


def _day(value: date) -> Tree:
    return sql.cast(sql.text(value.isoformat()), "DATE")
