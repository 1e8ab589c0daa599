"""Building blocks as SQL syntax trees, composed and never pasted. Each gives equal values on every
engine; the traps they avoid stand beside them."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal
from fractions import Fraction
from functools import cache

import sqlglot.expressions as exp

from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column

Tree = exp.Expr


def column(name: str, table: str | None = None) -> exp.Column:
    """A quoted column reference."""
    return exp.column(name, table=table, quoted=True)


def text(value: str) -> exp.Literal:
    return exp.Literal.string(value)


def integer(value: int) -> Tree:
    """An integer literal; beyond 64 bits as DECIMAL(38,0), which every engine has."""
    literal: Tree = exp.Literal.number(abs(value))
    if value < 0:
        literal = exp.Neg(this=literal)
    if abs(value) >= 2**63:
        return cast(exp.Literal.string(str(value)), "DECIMAL(38,0)")
    return literal


def number(value: Decimal) -> Tree:
    """A decimal literal, in plain digits."""
    literal: Tree = exp.Literal.number(format(abs(value), "f"))
    return exp.paren(exp.Neg(this=literal)) if value < 0 else literal


def is_missing(tree: Tree) -> Tree:
    """Whether a value is missing."""
    return exp.Is(this=tree, expression=exp.null())


def cast(tree: Tree, kind: str) -> exp.Cast:
    return exp.Cast(this=tree, to=_data_type(kind).copy())


_data_type = cache(exp.DataType.build)
"""A type by its name, parsed once."""


def call(name: str, *arguments: Tree) -> exp.Anonymous:
    """A function that every engine has under this name and meaning."""
    return exp.Anonymous(this=name, expressions=list(arguments))


def both(conditions: Iterable[Tree]) -> Tree:
    """Conjunction; TRUE when there is nothing to join."""
    found = [exp.paren(c) if isinstance(c, exp.Or) else c for c in conditions]
    return exp.and_(*found) if found else exp.true()


def same(left: Tree, right: Tree) -> Tree:
    """Equal, two missing values being equal too."""
    return exp.NullSafeEQ(this=left, expression=right)


def minor_units(measure: Column, table: str | None = None) -> Tree:
    """The measure as integer minor units, BIGINT. It raises on overflow, never wraps."""
    return units(column(measure.name, table), measure.scale)


def units(value: Tree, scale: int) -> Tree:
    """A decimal of that scale as integer minor units, BIGINT."""
    if scale == 0:
        return cast(value, "BIGINT")
    # An engine may keep the product of an 18-digit decimal in 64 bits. With two decimals that
    # holds amounts to 9·10^14 and is several times faster; with more it would not hold enough.
    wide = value if scale <= 2 else cast(value, f"DECIMAL(38,{scale})")
    return cast(exp.Mul(this=exp.paren(wide), expression=integer(10**scale)), "BIGINT")


def exact_sum(units: Tree) -> Tree:
    """Σ of integers as DECIMAL(38,0): a plain sum of BIGINT overflows on some engines."""
    return _own("EXACT_SUM", units)


def exact_square_sum(units: Tree) -> Tree:
    """Σ of squares of integers as DECIMAL(38,0)."""
    return _own("EXACT_SQUARE_SUM", units)


def sample_deviation(total: Tree, square: Tree, n: Tree, scale: int) -> Tree:
    """The sample standard deviation, a DOUBLE, from exact sums of minor units and of their squares; none
    of fewer than two.

    Σ(x - mean)² = Σx² - mS - m(S - mn) - (S - mn)²/n for any whole m. With m the rounded mean every term
    but the last, which is below n, is a whole number no longer than Σx²: nothing is lost before the
    root, and every engine finds the same.
    """
    some = exp.Nullif(this=cast(n.copy(), "DOUBLE"), expression=integer(0))
    near = exp.Round(this=exp.Div(this=cast(total.copy(), "DOUBLE"), expression=some))
    m = cast(cast(near, "BIGINT"), "DECIMAL(38, 0)")
    whole_n = cast(n.copy(), "DECIMAL(38, 0)")

    def times(left: Tree, right: Tree) -> Tree:
        product = exp.Mul(this=exp.paren(left.copy()), expression=exp.paren(right.copy()))
        return cast(product, "DECIMAL(38, 0)")

    def minus(left: Tree, right: Tree) -> Tree:
        rest = exp.Sub(this=exp.paren(left.copy()), expression=exp.paren(right.copy()))
        return cast(rest, "DECIMAL(38, 0)")

    left = minus(total, times(m, whole_n))
    squares = minus(minus(square, times(m, total)), times(m, left))
    high = cast(exp.Div(this=cast(squares.copy(), "DOUBLE"), expression=integer(10**12)), "BIGINT")
    steps = cast(integer(10**12), "DECIMAL(38, 0)")
    low = minus(squares, times(cast(high, "DECIMAL(38, 0)"), steps))
    summed: Tree = exp.Add(
        this=exp.Mul(this=cast(high.copy(), "DOUBLE"), expression=exp.Literal.number("1e12")),
        expression=cast(low, "DOUBLE"),
    )
    rest = exp.Mul(this=cast(left, "DOUBLE"), expression=cast(left.copy(), "DOUBLE"))
    summed = exp.Sub(
        this=exp.paren(summed), expression=exp.paren(exp.Div(this=rest, expression=some.copy()))
    )
    free = exp.Sub(this=cast(n.copy(), "DOUBLE"), expression=integer(1))
    variance = exp.Div(this=exp.paren(summed), expression=exp.paren(free))
    # What is left below nothing is the rounding of values that do not vary.
    root = exp.Sqrt(this=exp.Greatest(this=variance, expressions=[exp.Literal.number("0.0")]))
    unit = exp.Literal.number(f"{10**scale}.0")
    several = exp.GTE(this=n.copy(), expression=integer(2))
    return exp.Case().when(several, exp.Div(this=root, expression=unit))


def exact_weighted_sum(units: Tree, counts: Tree) -> Tree:
    """Σ of integers times counts of rows as DECIMAL(38,0)."""
    return _own("EXACT_WEIGHTED_SUM", units, counts)


def exact_product_sum(units: Tree, others: Tree) -> Tree:
    """Σ of products of integers as DECIMAL(38,0)."""
    return _own("EXACT_PRODUCT_SUM", units, others)


def only(figure: Tree, condition: Tree) -> Tree:
    """An aggregate over the rows that meet a condition."""
    return exp.Filter(this=figure, expression=exp.Where(this=condition))


def whole_division(value: Tree, by: Tree) -> Tree:
    """Integer quotient, towards zero; a plain slash is a float on some engines."""
    return _own("WHOLE_DIVISION", value, by)


def count() -> Tree:
    return exp.Count(this=exp.Star())


def magnitude(units: Tree) -> Tree:
    return exp.Abs(this=units)


def digit_class(units: Tree, test: str) -> Tree:
    """The class of non-zero integer minor units in a digit test, as an integer.

    Whole divisions by the power of ten that the size calls for; below the digits wanted, padded on
    the right (5 minor units begin 50, 500, …). A logarithm of a float puts 1000 in different
    classes on different engines, and cutting the decimal text takes three times as long.
    """
    size = magnitude(units)
    if test == "last-two":
        return cast(exp.Mod(this=size, expression=integer(100)), "INTEGER")
    length = {"first": 1, "second": 2, "first-two": 2, "first-three": 3}[test]
    power = exp.Case()
    for digits in range(length, 19):
        factor = integer(10 ** (digits - length))
        below = exp.LT(this=size.copy(), expression=integer(10**digits))
        power = power.when(below, factor, copy=False)
    power = power.else_(integer(10 ** (19 - length)), copy=False)
    leading: Tree = whole_division(size.copy(), power)
    if length > 1:
        padded = exp.Case()
        for digits in range(1, length):
            below = exp.LT(this=size.copy(), expression=integer(10**digits))
            factor = integer(10 ** (length - digits))
            padded = padded.when(below, exp.Mul(this=size.copy(), expression=factor), copy=False)
        leading = padded.else_(leading, copy=False)
    if test == "second":
        leading = exp.Mod(this=exp.paren(leading), expression=integer(10))
    return cast(leading, "INTEGER")


def significand(size: Tree) -> Tree:
    """The significand in [1, 10) of positive integer minor units, a DOUBLE.

    Divided by the power of ten that the size calls for: the same quotient on every engine.
    """
    power = exp.Case()
    for digits in range(1, 19):
        below = exp.LT(this=size.copy(), expression=integer(10**digits))
        power = power.when(below, integer(10 ** (digits - 1)), copy=False)
    power = power.else_(integer(10**18), copy=False)
    return exp.Div(this=cast(size.copy(), "DOUBLE"), expression=cast(power, "DOUBLE"))


def log_units(value: Tree, decimals: int, unit: Tree | int = 1) -> Tree:
    """sign(x)·log10(1 + |x|/unit) in whole steps of 10^-decimals, BIGINT.

    Whole steps make the sums after it exact, and so the same in any order of rows.
    """
    size: Tree = cast(exp.Abs(this=value), "DOUBLE")
    if unit != 1:
        size = exp.Div(this=size, expression=integer(unit) if isinstance(unit, int) else unit)
    inner = exp.Add(this=exp.Literal.number("1.0"), expression=size)
    steps = exp.Mul(this=call("LOG10", inner), expression=integer(10**decimals))
    return exp.Mul(
        this=cast(call("SIGN", value), "BIGINT"), expression=cast(exp.Round(this=steps), "BIGINT")
    )


def quantiles(units: Tree, shares: Iterable[str]) -> Tree:
    """Interpolated order statistics at (n - 1)p of integers, as an array of DOUBLE.

    The percentile of the transpiler is approximate on some engines; each engine module renders
    this node by its exact one. Read the results with :func:`exact_quantile`.
    """
    wanted = exp.Array(expressions=[exp.Literal.number(share) for share in shares])
    return _own("EXACT_QUANTILES", cast(units, "DOUBLE"), wanted)


def quantile(units: Tree, share: str) -> Tree:
    """One of them, as a DOUBLE."""
    return _own("EXACT_QUANTILES", cast(units, "DOUBLE"), exp.Literal.number(share))


def exact_quantile(value: float, share: str) -> Fraction:
    """The order statistic that an engine interpolated in floats.

    Between integers at (n - 1)·a/b it is a multiple of 1/b: the nearest one is the value itself,
    on every engine, while the float's error stays below 1/2b (quartiles: to 2^51).
    """
    steps = _denominator(share)
    # A product below 2^53 is as good as exact; beyond, the fraction is.
    scaled = value * steps if abs(value) < 2**44 else Fraction(value) * steps
    return Fraction(round(scaled), steps)


@cache
def _denominator(share: str) -> int:
    return Fraction(share).denominator


def year(date: Tree, first_month: int = 1) -> Tree:
    """Year, as an integer; a fiscal year is named by the calendar year it starts in."""
    plain = exp.Year(this=date)
    if first_month == 1:
        return plain
    early = exp.LT(this=exp.Month(this=date.copy()), expression=integer(first_month))
    return exp.paren(
        exp.Sub(this=plain, expression=exp.Case().when(early, integer(1)).else_(integer(0)))
    )


def period(date: Tree, unit: str, first_month: int = 1) -> Tree:
    """The period of a date as text: 2024, 2024-Q1, 2024-03, Mon. All but weekdays sort as text."""
    if unit == "year":
        return cast(year(date, first_month), "VARCHAR")
    if unit == "quarter":
        return _joined(exp.Year(this=date), text("-Q"), exp.Quarter(this=date.copy()))
    if unit == "month":
        padded = call("LPAD", cast(exp.Month(this=date.copy()), "VARCHAR"), integer(2), text("0"))
        return _joined(exp.Year(this=date), text("-"), padded)
    if unit == "weekday":
        return _weekday(date)
    raise ValueError(f"unknown period {unit!r}")


def period_code(date: Tree, unit: str, first_month: int = 1) -> Tree:
    """A whole number for the period of a date: several times faster to group by than its text."""
    if unit == "year":
        return year(date, first_month)
    if unit == "weekday":
        return _weekday_number(date)
    size, part = (100, exp.Month) if unit == "month" else (10, exp.Quarter)
    whole = exp.Mul(this=exp.Year(this=date), expression=integer(size))
    return exp.paren(exp.Add(this=whole, expression=part(this=date.copy())))


def period_of_code(code: Tree, unit: str) -> Tree:
    """The text of a period from its number, as :func:`period` gives it."""
    if unit == "year":
        return cast(code, "VARCHAR")
    if unit == "weekday":
        choice = exp.Case(this=code)
        for position, name in enumerate(WEEKDAYS):
            choice = choice.when(integer(position), text(name), copy=False)
        return choice
    size = 100 if unit == "month" else 10
    whole = cast(whole_division(code, integer(size)), "INTEGER")
    rest = cast(exp.Mod(this=code.copy(), expression=integer(size)), "VARCHAR")
    if unit == "month":
        return _joined(whole, text("-"), call("LPAD", rest, integer(2), text("0")))
    return _joined(whole, text("-Q"), rest)


WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


def _weekday(date: Tree) -> Tree:
    return period_of_code(_weekday_number(date), "weekday")


def _weekday_number(date: Tree) -> Tree:
    """0 for Monday to 6 for Sunday."""
    return weekday_of_day(since_monday(date))


def weekday_of_day(days: Tree) -> Tree:
    """The same of days since a Monday; before it the rest of the division is negative."""
    rest = exp.Mod(this=exp.paren(days), expression=integer(7))
    positive = exp.paren(exp.Add(this=exp.paren(rest), expression=integer(7)))
    return exp.Mod(this=positive, expression=integer(7))


HOUR = "hour"


def hour(time: Tree) -> Tree:
    """The hour of a time as text that sorts: 00 to 23."""
    number = cast(exp.Extract(this=exp.var("HOUR"), expression=time), "VARCHAR")
    return call("LPAD", number, integer(2), text("0"))


def hour_number(time: Tree) -> Tree:
    """The hour of a time, 0 to 23: faster to group by than its text."""
    return cast(exp.Extract(this=exp.var("HOUR"), expression=time), "INTEGER")


def since_monday(date: Tree) -> Tree:
    """Days since a Monday, 1900-01-01; engines number the days of the week differently."""
    return exp.DateDiff(
        this=cast(date, "DATE"),
        expression=cast(text("1900-01-01"), "DATE"),
        unit=exp.var("DAY"),
    )


def week(date: Tree) -> Tree:
    """The number of a date's week, Monday to Sunday, since 1900."""
    return whole_division(exp.paren(since_monday(date)), integer(7))


def day_of_week(date: Tree) -> Tree:
    """0 for Sunday to 6 for Saturday, of dates before 1900 too."""
    rest = exp.Mod(this=exp.paren(since_monday(date)), expression=integer(7))
    return exp.paren(
        exp.Mod(this=exp.paren(exp.Add(this=rest, expression=integer(8))), expression=integer(7))
    )


PERIODS = ("year", "quarter", "month", "weekday")


OWN_NODES = frozenset({
    "EXACT_SUM", "EXACT_WEIGHTED_SUM", "EXACT_PRODUCT_SUM", "EXACT_SQUARE_SUM", "EXACT_QUANTILES", "WHOLE_DIVISION",
})  # fmt: skip
"""Nodes without a name common to all engines: each engine module renders every one of them."""


def _own(name: str, *parts: Tree) -> exp.Anonymous:
    assert name in OWN_NODES, name
    return exp.Anonymous(this=name, expressions=list(parts))


def _joined(first: Tree, *rest: Tree) -> Tree:
    """Texts put together; missing where one is (a function of that name drops it on some engines)."""
    whole: Tree = cast(first, "VARCHAR")
    for part in rest:
        whole = exp.DPipe(this=whole, expression=cast(part, "VARCHAR"))
    return exp.paren(whole)


def ordered(tree: Tree, *, descending: bool = False) -> exp.Ordered:
    """A sort key; missing values last, said aloud because engines differ."""
    return exp.Ordered(this=tree, desc=descending, nulls_first=False)


def place() -> list[exp.Ordered]:
    """Sort keys of the rows as they stood in the sources."""
    return [ordered(column(FILE_COLUMN)), ordered(column(LINE_COLUMN))]
