"""Building blocks as SQL syntax trees, composed and never pasted. Each gives equal values on every
engine; the traps they avoid stand beside them."""

from __future__ import annotations

from collections.abc import Iterable

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


def cast(tree: Tree, kind: str) -> exp.Cast:
    return exp.Cast(this=tree, to=exp.DataType.build(kind))


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
    return cast(exp.Sum(this=cast(units, "DECIMAL(38,0)")), "DECIMAL(38,0)")


def exact_square_sum(units: Tree) -> Tree:
    """Σ of squares of integers as DECIMAL(38,0)."""
    factor = cast(units, "DECIMAL(19,0)")
    return cast(exp.Sum(this=exp.Mul(this=factor, expression=factor.copy())), "DECIMAL(38,0)")


def count() -> Tree:
    return exp.Count(this=exp.Star())


def magnitude(units: Tree) -> Tree:
    return exp.Abs(this=units)


def significant(units: Tree, digits: int) -> Tree:
    """First significant digits of non-zero integer minor units, as text.

    Taken from the decimal text, padded on the right (5 minor units begin 50, 500, …): a logarithm
    of a float puts 1000 in different classes on different engines.
    """
    written = cast(magnitude(units), "VARCHAR")
    cut = call("SUBSTR", written, integer(1), integer(digits))
    return cut if digits == 1 else call("RPAD", cut, integer(digits), text("0"))


def digit_class(units: Tree, test: str) -> Tree:
    """The class of non-zero integer minor units in a digit test, as an integer."""
    if test == "last-two":
        return cast(exp.Mod(this=magnitude(units), expression=integer(100)), "INTEGER")
    length = {"first": 1, "second": 2, "first-two": 2, "first-three": 3}[test]
    digits = significant(units, length)
    if test == "second":
        digits = call("SUBSTR", digits, integer(2), integer(1))
    return cast(digits, "INTEGER")


def log_units(value: Tree, decimals: int, unit: int = 1) -> Tree:
    """sign(x)·log10(1 + |x|/unit) in whole steps of 10^-decimals, BIGINT.

    Whole steps make the sums after it exact, and so the same in any order of rows.
    """
    size = cast(exp.Abs(this=value), "DOUBLE")
    inner = exp.Add(
        this=exp.Literal.number("1.0"), expression=exp.Div(this=size, expression=integer(unit))
    )
    steps = exp.Mul(this=call("LOG10", inner), expression=integer(10**decimals))
    return exp.Mul(
        this=cast(call("SIGN", value), "BIGINT"), expression=cast(exp.Round(this=steps), "BIGINT")
    )


def quantiles(units: Tree, shares: Iterable[str]) -> Tree:
    """Interpolated order statistics at (n - 1)p of integers, as an array of DOUBLE.

    Exact for quartiles: (n - 1)/4 has an exact float, and so has a quarter of an integer. The
    percentile of the transpiler is approximate on some engines; each engine module renders this
    node by its exact one.
    """
    wanted = exp.Array(expressions=[exp.Literal.number(share) for share in shares])
    return exp.Anonymous(this="EXACT_QUANTILES", expressions=[cast(units, "DOUBLE"), wanted])


def matches(value: Tree, pattern: str) -> Tree:
    """The whole text matches a regular expression (the common RE2 subset)."""
    return exp.Anonymous(this="WHOLE_MATCH", expressions=[value, text(pattern)])


def try_timestamp(value: Tree, form: str) -> Tree:
    """A text read by a strptime form, or NULL."""
    return exp.Anonymous(this="TRY_TIMESTAMP", expressions=[value, text(form)])


def try_cast(value: Tree, kind: str) -> Tree:
    """A text as a value of that type, or NULL."""
    return exp.TryCast(this=value, to=exp.DataType.build(kind))


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
    """The period of a date as text that sorts: 2024, 2024-Q1, 2024-03, 1 Mon."""
    if unit == "year":
        return cast(year(date, first_month), "VARCHAR")
    if unit == "quarter":
        return _joined(exp.Year(this=date), text("-Q"), exp.Quarter(this=date.copy()))
    if unit == "month":
        padded = call("LPAD", cast(exp.Month(this=date.copy()), "VARCHAR"), integer(2), text("0"))
        return _joined(exp.Year(this=date), text("-"), padded)
    if unit == "weekday":
        days = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
        # 1900-01-01 was a Monday; engines number the days of the week differently.
        since = exp.DateDiff(
            this=cast(date, "DATE"),
            expression=cast(text("1900-01-01"), "DATE"),
            unit=exp.var("DAY"),
        )
        choice = exp.Case(this=exp.Mod(this=exp.paren(since), expression=integer(7)))
        for position, name in enumerate(days):
            choice = choice.when(integer(position), text(f"{position + 1} {name}"))
        return choice
    raise ValueError(f"unknown period {unit!r}")


PERIODS = ("year", "quarter", "month", "weekday")


def _joined(*parts: Tree) -> Tree:
    return call("CONCAT", *(cast(part, "VARCHAR") for part in parts))


def ordered(tree: Tree, *, descending: bool = False) -> exp.Ordered:
    """A sort key; missing values last, said aloud because engines differ."""
    return exp.Ordered(this=tree, desc=descending, nulls_first=False)


def place() -> list[exp.Ordered]:
    """Sort keys of the rows as they stood in the sources."""
    return [ordered(column(FILE_COLUMN)), ordered(column(LINE_COLUMN))]
