"""Months and quarters as numbers that follow one another, so that those of which a series has no row are its gaps."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Literal

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.sql import Tree
from sabueso.population.table import Table

Each = Literal["month", "quarter"]
LEAST_PERIODS, INCOMPLETE_PERIODS = 6, 0.25
"""Months or quarters of a series below which it is none, and share of them that may be without a row before only gaps
that chance would hardly make are named, unless told otherwise: two of some thirty tell nothing of how often it may be."""
_IN_YEAR = {"month": 12, "quarter": 4}
DAYS, NEAR = 365.25, 1.5
"""Days of a year; and periods up to which two rows are hardly more than one apart."""


@dataclass(frozen=True)
class Periods:
    """The months or quarters of a day of each row; ``column`` names one in a condition, ``by_code`` as a number."""

    each: Each
    tree: Tree
    column: str
    by_code: bool

    @classmethod
    def of(cls, each: Each, given: str | None, table: Table) -> Periods:
        """Those of the role date, or of a column of days.

        Raises
        ------
        UserError
            If there are no days.
        """
        date = table.dated() if given is None else None
        if given is None and date is None:
            raise UserError(
                f"--each {each} needs a date in the role date; table {table.name!r} has none: say with --of"
            )
        text = quoted_name(date.name) if date is not None else str(given)
        tree = expressions.scalar(text, table, "--of")
        days = {c.name for c in table.columns if c.type in ("date", "timestamp")}
        if not (isinstance(tree, exp.Column) and tree.name in days):
            raise UserError(f"--of {text}: --each {each} takes a column of days")
        taken = any(c.name.casefold() == each for c in table.columns)
        if date is not None and not taken:
            return cls(each, tree, each, False)
        size = 100 if each == "month" else 10
        return cls(each, tree, f"year({text}) * {size} + {each}({text})", True)

    def number(self) -> Tree:
        """A number for each period: one more than for the one before it."""
        part = exp.Month if self.each == "month" else exp.Quarter
        day = exp.paren(sql.cast(self.tree.copy(), "DATE"))
        whole = exp.Mul(this=exp.Year(this=day), expression=sql.integer(_IN_YEAR[self.each]))
        return exp.Add(this=whole, expression=part(this=day.copy()))

    def are_near(self, last: date, after: date) -> bool:
        """Whether two days are hardly more than one period apart: of rows that come every thirty days February has none
        at times.

        Examples
        --------
        >>> months = Periods("month", sql.column("day"), "month", by_code=False)
        >>> months.are_near(date(2025, 1, 31), date(2025, 3, 2)), months.are_near(date(2025, 1, 15), date(2025, 3, 3))
        (True, False)
        """
        return bool((after - last).days < NEAR * DAYS / _IN_YEAR[self.each])

    def named(self, number: int) -> str:
        """2022-11, 2022-Q4."""
        return named(number, self.each)

    def told(self, number: int) -> str:
        """The value of the column of a condition."""
        if not self.by_code:
            return self.named(number)
        year, part = _apart(number, self.each)
        return str(year * (100 if self.each == "month" else 10) + part)


def named(number: int, each: str) -> str:
    """The period of a number.

    Examples
    --------
    >>> named(2022 * 12 + 11, "month"), named(2022 * 12 + 12, "month"), named(2023 * 4 + 1, "quarter")
    ('2022-11', '2022-12', '2023-Q1')
    """
    year, part = _apart(number, each)
    return f"{year}-{part:02d}" if each == "month" else f"{year}-Q{part}"


def numbered(text: str, each: str) -> int:
    """The number of a period.

    Examples
    --------
    >>> numbered("2022-12", "month") == 2022 * 12 + 12, numbered("2023-Q1", "quarter") == 2023 * 4 + 1
    (True, True)
    """
    year, part = text.split("-")
    return int(year) * _IN_YEAR[each] + int(part.lstrip("Q"))


def _apart(number: int, each: str) -> tuple[int, int]:
    year, part = divmod(number - 1, _IN_YEAR[each])
    return year, part + 1
