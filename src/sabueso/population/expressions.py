"""The user's SQL expressions: parsed, checked for what they may contain, and turned into trees.

One expression over one table's columns. No sub-select, no file or system function, nothing that
is not listed here: a list of what is allowed cannot be outgrown by what an engine learns.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from datetime import date, datetime
from decimal import Decimal
from functools import cache
from typing import Any

import sqlglot
import sqlglot.expressions as exp
from sqlglot.errors import SqlglotError

from sabueso.base.errors import UserError, nearest
from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name

_PREDICATES = (
    exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE, exp.Between, exp.In, exp.Like, exp.ILike,
    exp.Is, exp.Not, exp.And, exp.Or, exp.NullSafeEQ, exp.NullSafeNEQ, exp.RegexpLike,
    exp.StartsWith, exp.Contains, exp.Boolean, exp.Escape,
)  # fmt: skip
_VALUES = (
    exp.Column,
    exp.Identifier,
    exp.Literal,
    exp.Null,
    exp.Paren,
    exp.Neg,
    exp.Tuple,
    exp.Add,
    exp.Sub,
    exp.Mul,
    exp.Div,
    exp.Mod,
    exp.IntDiv,
    exp.DPipe,
    exp.Case,
    exp.If,
    exp.Coalesce,
    exp.Nullif,
    exp.Cast,
    exp.TryCast,
    exp.DataType,
    exp.DataTypeParam,
    exp.Abs,
    exp.Round,
    exp.Floor,
    exp.Ceil,
    exp.Sign,
    exp.Greatest,
    exp.Least,
    exp.Lower,
    exp.Upper,
    exp.Trim,
    exp.Length,
    exp.Substring,
    exp.Left,
    exp.Right,
    exp.Concat,
    exp.Replace,
    exp.Year,
    exp.Month,
    exp.Day,
    exp.Quarter,
    exp.DayOfWeek,
    exp.Extract,
    exp.Var,
    exp.Ln,
    exp.Log,
    exp.Sqrt,
    exp.Pow,
)
_COMPARISONS = (
    exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE, exp.Between, exp.In, exp.Like, exp.ILike,
    exp.NullSafeEQ, exp.NullSafeNEQ, exp.Is,
)  # fmt: skip
_PARTS_OF_TIME = {
    "YEAR",
    "QUARTER",
    "MONTH",
    "WEEK",
    "DAY",
    "DOY",
    "DOW",
    "HOUR",
    "MINUTE",
    "SECOND",
}
"""What ``extract`` takes of a date or time, the same on every engine."""  # fmt: skip
_AGGREGATES = (exp.Sum, exp.Avg, exp.Min, exp.Max, exp.Count, exp.Star, exp.Distinct)
_CAST_TYPES = {
    "DATE",
    "TIMESTAMP",
    "TIMESTAMPNTZ",
    "TIME",
    "VARCHAR",
    "TEXT",
    "DECIMAL",
    "INT",
    "BIGINT",
    "DOUBLE",
}

_DIGIT_HELPERS = {
    "first_digit": "first",
    "second_digit": "second",
    "first_two": "first-two",
    "first_three": "first-three",
    "last_two": "last-two",
}
"""Functions of this program: ``first_two(amount) = 49`` selects the rows of a digit class."""


def condition(text: str, table: Table, what: str = "--where") -> Tree:
    """A boolean expression over the table's columns.

    Raises
    ------
    UserError
        If it is not one boolean expression of permitted parts over known columns.
    """
    tree = _parsed(text, what)
    top = tree.unnest()
    if not isinstance(top, _PREDICATES):
        raise UserError(
            f"{what} {text!r} is not a condition; expected one that is true or false for each row, "
            'such as "amount > 1000"'
        )
    return _checked(tree, table, what, text, _VALUES + _PREDICATES)


def scalar(text: str, table: Table, what: str = "--by") -> Tree:
    """A value for each row: a column or role, a period of the date role, or an expression."""
    name = bare_name(text)
    try:
        return _column_or_period(name, table, what)
    except UserError:
        tree = _parsed(text.strip(), what)
        top = tree.unnest()
        if isinstance(top, exp.Column) and not top.args.get("table"):
            raise
        return _checked(tree, table, what, text, _VALUES + _PREDICATES)


def quoted_name(name: str) -> str:
    """A column's name as a user types it in an expression: in quotes where it needs them."""
    plain = name.isidentifier() and name.isascii() and name.lower() == name and _reads_as(name)
    return name if plain else '"' + name.replace('"', '""') + '"'


@cache
def _reads_as(name: str) -> bool:
    """Whether a bare word is read as a column of that name, and not as a word of the language."""
    try:
        tree = sqlglot.parse_one(f"{name} = 1 and x > {name}", dialect="duckdb")
    except SqlglotError:
        return False
    return sum(column.name == name for column in tree.find_all(exp.Column)) == 2


def literal(value: Any) -> str:
    """A value as it is written in an expression."""
    if isinstance(value, (int, float, Decimal)) and not isinstance(value, bool):
        return str(value)
    return "'" + str(value).replace("'", "''") + "'"


def equals(name: str, value: Any, columns: Collection[str] | None = None) -> str:
    """A condition, as a user types it, that a column or an expression has a value.

    Parameters
    ----------
    columns : collection of str, optional
        The table's columns, where they are known: anything else is an expression.
    """
    plain = name in columns if columns is not None else re.fullmatch(r"[\w .$-]+", name) is not None
    left = quoted_name(name) if plain else f"({name})"
    return f"{left} is null" if value is None else f"{left} = {literal(value)}"


def label(text: str, table: Table) -> str:
    """How a group is called: the column's own name where the text names a column or role."""
    try:
        return table.column(bare_name(text)).name
    except UserError:
        return text.strip()


def _column_or_period(name: str, table: Table, what: str = "--where") -> Tree:
    """A column by name or role; year, quarter, month, weekday of the date role otherwise."""
    try:
        return sql.column(table.column(name).name)
    except UserError:
        if name.lower() not in sql.PERIODS:
            raise
    date = table.role("date")
    if date is None:
        raise UserError(
            f"{what} {name} needs a column in the role date; table {table.name!r} has none"
        )
    return sql.period(sql.column(date.name), name.lower(), table.fiscal_year_starts)


def aggregate(text: str, table: Table, what: str = "--measures") -> Tree:
    """A figure for each group of rows, such as ``sum(amount)``; a bare column means its sum."""
    tree = _parsed(text, what)
    if isinstance(tree.unnest(), exp.Column):
        return exp.Sum(this=sql.column(table.number(bare_name(text)).name))
    if tree.find(*_AGGREGATES) is None:
        raise UserError(
            f"{what} {text!r} gives a value per row; expected one per group: a number column, "
            "or sum(…), avg(…), min(…), max(…), count(*)"
        )
    checked = _checked(tree, table, what, text, _VALUES + _PREDICATES + _AGGREGATES)
    return checked.transform(_exact_mean)


def _exact_mean(node: Tree) -> Tree:
    """A mean as the exact sum over the count: engines round their own mean of decimals."""
    if not isinstance(node, exp.Avg):
        return node
    total = sql.cast(exp.Sum(this=node.this), "DOUBLE")
    return exp.paren(exp.Div(this=total, expression=exp.Count(this=node.this.copy())))


def split_list(text: str) -> list[str]:
    """Split at the commas that stand outside brackets and quotes."""
    parts, depth, quote, start = [], 0, "", 0
    for position, mark in enumerate(text):
        if quote:
            quote = "" if mark == quote else quote
        elif mark in "'\"":
            quote = mark
        elif mark in "([":
            depth += 1
        elif mark in ")]":
            depth -= 1
        elif mark == "," and depth == 0:
            parts.append(text[start:position])
            start = position + 1
    parts.append(text[start:])
    return [part.strip() for part in parts if part.strip()]


def _parsed(text: str, what: str) -> Tree:
    try:
        # What a comment hides would be dropped in silence.
        if any(token.comments for token in sqlglot.tokenize(text, dialect="duckdb")):
            raise UserError(
                f"{what} {text!r} holds a comment (after -- or within /* */); expected one SQL "
                "expression and nothing else"
            )
        trees = [tree for tree in sqlglot.parse(text, dialect="duckdb") if tree is not None]
    except SqlglotError as error:
        details = getattr(error, "errors", None) or [{}]
        near = str(details[0].get("highlight") or "").strip()
        where = f" near {near!r}" if near else ""
        raise UserError(
            f"{what} {text!r} cannot be read{where}; expected one SQL expression"
        ) from None
    except RecursionError:
        raise _too_deep(what) from None
    if len(trees) != 1:
        raise UserError(f"{what} {text!r} holds {len(trees)} expressions; expected one")
    tree = trees[0]
    if not isinstance(tree, exp.Condition) and not isinstance(tree, (exp.Paren, exp.Tuple)):
        raise UserError(f"{what} {text!r} is a statement; expected one SQL expression")
    return tree


def _checked(
    tree: Tree, table: Table, what: str, text: str, allowed: tuple[type[exp.Expr], ...]
) -> Tree:
    """The tree with columns resolved and helpers expanded, or the sentence that says why not."""

    def visit(node: Tree) -> Tree:
        if isinstance(node, _Fact):
            return node.this
        if isinstance(node, exp.Anonymous):
            name = node.name.lower()
            if name not in _DIGIT_HELPERS:
                raise UserError(
                    f"{what} {text!r} uses the function {node.name}(), which is not allowed in an "
                    f"expression{nearest(name, [*_DIGIT_HELPERS, *_FUNCTION_NAMES])}"
                )
            return _digit_helper(node, table, what, _DIGIT_HELPERS[name])
        if isinstance(node, exp.In):
            _spread_facts(node, table, what)
        if isinstance(node, exp.Column):
            if node.args.get("table"):
                if (fact := _fact_named(node, table, what)) is not None:
                    if isinstance(fact, list):
                        raise UserError(
                            f"{what} {text!r}: {node.sql()} is a list; it goes after in"
                        )
                    return _fact_tree(fact)
                if node.table == table.name and not node.args.get("db"):
                    return _column_or_period(node.name, table)
                return _linked(node, table, what)
            return _column_or_period(node.name, table)
        if isinstance(node, exp.DataType) and node.this.value.upper() not in _CAST_TYPES:
            raise UserError(f"{what} {text!r} casts to {node.sql()}, which is not allowed")
        if isinstance(node, _COMPARISONS) and isinstance(node.this, _COMPARISONS):
            raise UserError(
                f"{what} {text!r} compares what is a comparison itself; put it in brackets, or join "
                "two comparisons with and"
            )
        if isinstance(node, exp.Extract) and node.name.upper() not in _PARTS_OF_TIME:
            known = nearest(node.name.lower(), sorted(map(str.lower, _PARTS_OF_TIME)))
            raise UserError(f"{what} {text!r}: extract() does not take {node.name.lower()}{known}")
        if not isinstance(node, allowed):
            named = node.sql_name() if isinstance(node, exp.Func) else type(node).__name__
            raise UserError(
                f"{what} {text!r} contains {named.lower()}, which is not allowed in an expression; "
                "expected columns, literals, comparisons and plain functions"
            )
        return node

    # Children of a resolved node are this program's own and are not visited again.
    def walk(node: Tree) -> Tree:
        seen = visit(node)
        if seen is not node:
            return seen
        terms = _chained(node)
        for child in terms or list(node.iter_expressions()):
            changed = walk(child)
            if changed is not child:
                child.replace(changed)
        return node if terms else _within_domain(_same_everywhere(node))

    try:
        return walk(tree.copy())
    except RecursionError:
        raise _too_deep(what) from None


FACTS = "facts"


def _fact_named(node: exp.Column, table: Table, what: str) -> Any:
    """The fact of the plan that a name such as ``facts.approval`` stands for; None where it is none.

    Raises
    ------
    UserError
        If the plan has no such fact.
    """
    parts = [part.name for part in node.parts]
    if parts[0].lower() != FACTS or FACTS in {link.table.name for link in table.links.values()}:
        return None
    name = ".".join(parts[1:])
    if name not in table.facts:
        known = nearest(name, table.facts) or "; facts stand in case.toml under [facts]"
        raise UserError(f"{what}: there is no fact {name!r}{known}")
    return table.facts[name]


def _fact_tree(value: Any) -> Tree:
    if isinstance(value, datetime):
        return sql.cast(sql.text(value.isoformat(" ")), "TIMESTAMP")
    if isinstance(value, date):
        return sql.cast(sql.text(value.isoformat()), "DATE")
    return sql.text(value) if isinstance(value, str) else sql.number(Decimal(value))


def _spread_facts(node: exp.In, table: Table, what: str) -> None:
    """Put the values of a list in the place of its name: ``day in facts.holidays``."""
    listed = [*node.expressions, *([node.args["field"]] if node.args.get("field") else [])]
    spread: list[Tree] = []
    for each in listed:
        bare = each.unnest()
        named = isinstance(bare, exp.Column) and bool(bare.args.get("table"))
        fact = _fact_named(bare, table, what) if named else None
        if fact is None:
            spread.append(each)
        else:
            spread += [
                _Fact(this=_fact_tree(v)) for v in (fact if isinstance(fact, list) else [fact])
            ]
    if any(isinstance(each, _Fact) for each in spread):
        node.set("field", None)
        node.set("expressions", spread)


class _Fact(exp.Paren):
    """A fact's value, checked already."""


def _too_deep(what: str) -> UserError:
    return UserError(f"{what} is nested too deeply to be read")


def _chained(node: Tree) -> list[Tree]:
    """The terms of a chain of ``or`` or ``and``, which lie as deep as they are many; none elsewhere."""
    if not isinstance(node, (exp.And, exp.Or)):
        return []
    kind, terms, at = type(node), [], node
    while isinstance(at, kind):
        terms.append(at.expression)
        at = at.this
    return [*terms, at]


def _same_everywhere(node: Tree) -> Tree:
    """A function that engines know under one name with two meanings, in the meaning it has here."""
    if isinstance(node, exp.Log) and node.expression is None:
        # To the base 10; elsewhere it is the natural one.
        return exp.Log(this=sql.integer(10), expression=node.this)
    if isinstance(node, exp.IntDiv):
        # Of decimals it is a plain division on one engine. Less the remainder it comes out even.
        value, by = exp.paren(node.this), _no_zero(exp.paren(node.expression))
        rest = exp.Mod(this=value.copy(), expression=by)
        even = exp.paren(exp.Sub(this=value, expression=exp.paren(rest)))
        return exp.Round(this=exp.Div(this=even, expression=by.copy()))
    day = isinstance(node, exp.DayOfWeek)
    if day or (isinstance(node, exp.Extract) and node.name.upper() == "DOW"):
        return sql.day_of_week(node.this if day else node.expression)
    return node


_LARGEST = "1.7976931348623157E308"


def _within_domain(node: Tree) -> Tree:
    """A function or quotient that is missing outside of its domain.

    Engines give an error there, an infinity, or what is no number and compares as greater than
    every other: a condition would take rows that have no such value.
    """
    if isinstance(node, (exp.Div, exp.Mod)):
        node.set("expression", _no_zero(node.expression))
    elif isinstance(node, exp.Ln):
        node.set("this", _positive(node.this))
    elif isinstance(node, exp.Log):
        node.set("this", _positive(node.this))
        if node.expression is not None:
            node.set("expression", _positive(node.expression))
            return _finite(node)  # a logarithm to the base 1
    elif isinstance(node, exp.Sqrt):
        least = exp.GTE(this=node.this.copy(), expression=sql.integer(0))
        node.set("this", exp.Case().when(least, node.this))
    elif isinstance(node, exp.Pow) or (
        isinstance(node, (exp.Cast, exp.TryCast)) and node.to.is_type("double")
    ):
        return _finite(node)
    return node


def _no_zero(divisor: Tree) -> Tree:
    return exp.Nullif(this=divisor, expression=sql.integer(0))


def _positive(value: Tree) -> Tree:
    above = exp.GT(this=value.copy(), expression=sql.integer(0))
    return exp.Case().when(above, value)


def _finite(value: Tree) -> Tree:
    """A float that is a number; missing where it is none, or infinite."""
    most = exp.Literal.number(_LARGEST)
    inside = exp.Between(this=value.copy(), low=exp.Neg(this=most), high=most.copy())
    return exp.Case().when(inside, value)


_LINK = "_link"
"""A name that no table of a case can have."""


def _linked(node: exp.Column, table: Table, what: str) -> Tree:
    """``supplier.name``: the linked table's value for the row; its least where a key repeats."""
    if node.args.get("db") or node.args.get("catalog"):
        raise UserError(f"{what} {node.sql()!r}: expected link.column")
    try:
        column, linked = table.link(node.table)
    except UserError as error:
        raise UserError(f"{what} {node.sql()!r}: {error}") from None
    wanted = linked.table.column(node.name)
    least = exp.select(exp.Min(this=sql.column(wanted.name, _LINK)))
    least = least.from_(
        exp.alias_(exp.Table(this=exp.to_identifier(linked.table.name, quoted=True)), _LINK)
    )
    same = exp.EQ(
        this=sql.column(linked.key, _LINK), expression=sql.column(column.name, table.name)
    )
    return exp.Subquery(this=least.where(same))


_FUNCTION_NAMES = (
    "abs", "round", "floor", "ceil", "lower", "upper", "trim", "length", "substr", "left", "right",
    "concat", "replace", "year", "month", "day", "quarter", "coalesce", "nullif", "greatest",
    "least", "starts_with", "contains",
)  # fmt: skip


def _digit_helper(node: exp.Anonymous, table: Table, what: str, test: str) -> Tree:
    arguments = node.expressions
    if len(arguments) != 1 or not isinstance(arguments[0], exp.Column):
        raise UserError(f"{what}: {node.name}() takes one number column")
    measure = table.number(arguments[0].name, what=f"argument of {node.name}()")
    units = sql.minor_units(measure)
    given = sql.digit_class(units, test)
    if test == "last-two":
        return given
    # Zero has no leading digit: its class is missing, not an error.
    return exp.Case().when(exp.NEQ(this=units.copy(), expression=sql.integer(0)), given)
