"""The user's SQL expressions: parsed, checked for what they may contain, and turned into trees.

One expression over one table's columns. No sub-select, no file or system function, nothing that
is not listed here: a list of what is allowed cannot be outgrown by what an engine learns.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from decimal import Decimal
from functools import cache
from typing import Any

import sqlglot
import sqlglot.expressions as exp
from sqlglot.errors import SqlglotError

from sabueso.base.errors import UserError, nearest
from sabueso.population import functions, sql
from sabueso.population.domain import same_everywhere, within_domain
from sabueso.population.fact_names import Fact, fact_named, fact_tree, spread_facts, with_lists
from sabueso.population.linked import linked
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
AGGREGATE_FUNCTIONS = (
    exp.Sum, exp.Avg, exp.Min, exp.Max, exp.Count, exp.Median, exp.Stddev, exp.StddevSamp,
)  # fmt: skip
_AGGREGATES = (*AGGREGATE_FUNCTIONS, exp.Star, exp.Distinct, exp.Filter, exp.Where)
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


def condition(text: str, table: Table, what: str = "--where") -> Tree:
    """A boolean expression over the table's columns.

    Raises
    ------
    UserError
        If it is not one boolean expression of permitted parts over known columns.
    """
    tree = _parsed(text, what)
    top = tree.unnest()
    called = isinstance(top, exp.Anonymous) and top.name.lower() in functions.CONDITIONS
    if not isinstance(top, _PREDICATES) and not called:
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
    plain = name.isidentifier() and name.isascii() and _reads_as(name)
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
    if columns is not None:
        left = quoted_name(name) if name in columns else f"({name})"
    elif re.fullmatch(r"[^\W\d]\w*(\.[^\W\d]\w*)+", name):
        # Of a linked table, or a column whose own name has a dot: it is read as the one or the other.
        left = ".".join(map(quoted_name, name.split(".")))
    else:
        plain = re.fullmatch(r"[\w .$-]+", name) is not None
        left = quoted_name(name) if plain else f"({name})"
    return f"{left} is null" if value is None else f"{left} = {literal(value)}"


def label(text: str, table: Table) -> str:
    """How a group is called: the column's own name where the text names a column or role."""
    try:
        return table.column(bare_name(text)).name
    except UserError:
        return text.strip()


def _column_or_period(name: str, table: Table, what: str = "--where") -> Tree:
    """A column by name or role; else a period of the date role, or the hour of a row."""
    try:
        return sql.column(table.column(name).name)
    except UserError:
        if name.lower() not in (*sql.PERIODS, sql.HOUR):
            raise
    if name.lower() == sql.HOUR:
        timed = [c for c in (table.role("date"), table.role("entered")) if c is not None]
        timed = [c for c in timed if c.type in ("timestamp", "time")]
        if not timed:
            raise UserError(
                f"{what} {name} needs a column in the role date or entered that holds a time of day; "
                f"table {table.name!r} has none"
            )
        return sql.hour(sql.column(timed[0].name))
    date = table.role("date")
    if date is None:
        raise UserError(
            f"{what} {name} needs a column in the role date; table {table.name!r} has none"
        )
    return sql.period(sql.column(date.name), name.lower(), table.fiscal_year_starts)


def period_named(text: str, table: Table) -> str | None:
    """The period of the date role that a group's text names, where it names no column."""
    name = bare_name(text)
    try:
        table.column(name)
        return None
    except UserError:
        known = name.lower() in sql.PERIODS and table.role("date") is not None
        return name.lower() if known else None


def own_order(text: str, table: Table) -> list[str] | None:
    """The values of a group in their own order where they have one that is not that of their letters:
    weekdays, bands, ages.

    Returns
    -------
    list of str or None
        None where there is none; an empty list where it is the order of their letters, as of months.
    """
    name = bare_name(text)
    try:
        table.column(name)
        return None
    except UserError:
        pass
    if name.lower() in (*sql.PERIODS, sql.HOUR):
        return list(sql.WEEKDAYS) if name.lower() == "weekday" else []
    tree = _parsed(text.strip(), "--by")
    top = tree.unnest()
    if isinstance(top, exp.Anonymous):
        top.set("expressions", _arguments(top, table, "--by"))
    return functions.own_order(tree, table)


def _arguments(node: exp.Anonymous, table: Table, what: str) -> list[Tree]:
    """The arguments of a call, facts of the plan by their values and lists spread."""
    listed = with_lists(node.expressions, table, what)
    return [each.this if isinstance(each, Fact) else each for each in listed]


def aggregate(text: str, table: Table, what: str = "--measures") -> Tree:
    """A figure for each group of rows, such as ``sum(amount)``; a bare column means its sum."""
    tree = _parsed(text, what)
    if isinstance(tree.unnest(), exp.Column):
        return exp.Sum(this=sql.column(table.number(bare_name(text)).name))
    if tree.find(*AGGREGATE_FUNCTIONS) is None:
        raise UserError(
            f"{what} {text!r} gives a value per row; expected one per group: a number column, "
            "or sum(…), avg(…), min(…), max(…), median(…), stddev(…), count(*), count(distinct …)"
        )
    _refuse_text_sums(tree, table, what)
    return _checked(tree, table, what, text, _VALUES + _PREDICATES + _AGGREGATES)


def _refuse_text_sums(tree: Tree, table: Table, what: str) -> None:
    """A sum or mean of a column that holds no numbers, told before an engine tells it."""
    for node in tree.find_all(exp.Sum, exp.Avg, exp.Median, exp.Stddev, exp.StddevSamp):
        if isinstance(node.this, exp.Column) and not node.this.args.get("table"):
            try:
                table.column(node.this.name)
            except UserError:
                continue  # a period, or unknown: told where names are resolved
            table.number(node.this.name, what=f"argument of {node.sql_name().lower()}()")


def group_condition(text: str, table: Table, what: str = "--having") -> Tree:
    """A condition on groups of rows, such as ``sum(amount) > 1000 and count(*) < 3``.

    Raises
    ------
    UserError
        If it is not one, or holds no figure of a group.
    """
    tree = _parsed(text, what)
    if not isinstance(tree.unnest(), _PREDICATES) or tree.find(*AGGREGATE_FUNCTIONS) is None:
        raise UserError(
            f"{what} {text!r} is not a condition on groups; expected one of their figures, such as "
            '"count(*) > 10"'
        )
    return _checked(tree, table, what, text, _VALUES + _PREDICATES + _AGGREGATES)


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
    if not isinstance(tree, (exp.Condition, exp.Paren, exp.Tuple, exp.Filter)):
        raise UserError(f"{what} {text!r} is a statement; expected one SQL expression")
    return tree


def _checked(
    tree: Tree, table: Table, what: str, text: str, allowed: tuple[type[exp.Expr], ...]
) -> Tree:
    """The tree with columns resolved and helpers expanded, or the sentence that says why not."""
    try:
        return _Check(table, what, text, allowed).walk(tree.copy())
    except RecursionError:
        raise _too_deep(what) from None


@dataclass(frozen=True)
class _Check:
    """What one expression may contain, and what its names stand for."""

    table: Table
    what: str
    text: str
    allowed: tuple[type[exp.Expr], ...]

    def walk(self, node: Tree) -> Tree:
        """A checked node. Children of a resolved one are this program's own, and not visited again."""
        seen = self._visit(node)
        if seen is not node:
            return seen
        terms = _chained(node)
        for child in terms or list(node.iter_expressions()):
            changed = self.walk(child)
            if changed is not child:
                child.replace(changed)
        return node if terms else within_domain(same_everywhere(node))

    def _visit(self, node: Tree) -> Tree:
        if isinstance(node, Fact):
            return node.this
        if isinstance(node, exp.Anonymous):
            return self._called(node)
        if isinstance(node, exp.In):
            spread_facts(node, self.table, self.what)
        if isinstance(node, exp.Column):
            return self._named(node)
        self._refuse(node)
        return node

    def _called(self, node: exp.Anonymous) -> Tree:
        name = node.name.lower()
        if name not in functions.NAMES:
            raise UserError(
                f"{self.what} {self.text!r} uses the function {node.name}(), which is not allowed in "
                f"an expression{nearest(name, [*functions.NAMES, *_FUNCTION_NAMES])}"
            )
        node.set("expressions", _arguments(node, self.table, self.what))
        return functions.expand(functions.Call(node, self.table, self.what, self.walk))

    def _named(self, node: exp.Column) -> Tree:
        if not node.args.get("table"):
            return _column_or_period(node.name, self.table)
        dotted = ".".join(part.name for part in node.parts)
        if any(column.name == dotted for column in self.table.columns):
            return sql.column(dotted)
        fact = fact_named(node, self.table, self.what)
        if isinstance(fact, list):
            raise UserError(f"{self.what} {self.text!r}: {node.sql()} is a list; it goes after in")
        if fact is not None:
            return fact_tree(fact)
        if node.table == self.table.name and not node.args.get("db"):
            return _column_or_period(node.name, self.table)
        return linked([part.name for part in node.parts], self.table, self.what)

    def _refuse(self, node: Tree) -> None:
        """Raise for what an expression may not contain."""
        place = f"{self.what} {self.text!r}"
        if isinstance(node, exp.DataType) and node.this.value.upper() not in _CAST_TYPES:
            raise UserError(f"{place} casts to {node.sql()}, which is not allowed")
        if isinstance(node, _COMPARISONS):
            if isinstance(node.this, _COMPARISONS):
                raise UserError(
                    f"{place} compares what is a comparison itself; put it in brackets, or join "
                    "two comparisons with and"
                )
            self._refuse_unknown_days(node)
        if isinstance(node, exp.Extract) and node.name.upper() not in _PARTS_OF_TIME:
            known = nearest(node.name.lower(), sorted(map(str.lower, _PARTS_OF_TIME)))
            raise UserError(f"{place}: extract() does not take {node.name.lower()}{known}")
        if not isinstance(node, self.allowed):
            named = node.sql_name() if isinstance(node, exp.Func) else type(node).__name__
            raise UserError(
                f"{place} contains {named.lower()}, which is not allowed in an expression; "
                "expected columns, literals, comparisons and plain functions"
            )

    def _refuse_unknown_days(self, node: Tree) -> None:
        """A weekday compared with what is none would select nothing, without a word."""
        sides = [node.this, *node.args.get("expressions", ()), node.args.get("expression")]
        bare = [side.unnest() for side in sides if isinstance(side, exp.Expr)]
        if not any(map(self._is_weekday, bare)):
            return
        for side in bare:
            if isinstance(node, (exp.EQ, exp.NEQ, exp.In)) and isinstance(side, exp.Literal):
                if side.is_string and side.this in sql.WEEKDAYS:
                    continue
                raise UserError(
                    f"{self.what} {self.text!r}: {side.sql()} is no weekday; expected one of "
                    f"{', '.join(sql.WEEKDAYS)}"
                )

    def _is_weekday(self, side: Tree) -> bool:
        """Whether it is that of a date: by its name, where no column of the table has it, or its function."""
        if isinstance(side, exp.Anonymous):
            return side.name.lower() == "weekday_of"
        if not isinstance(side, exp.Column) or side.table or side.name.lower() != "weekday":
            return False
        try:
            self.table.column(side.name)
        except UserError:
            return True
        return False


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


_FUNCTION_NAMES = (
    "abs", "round", "floor", "ceil", "lower", "upper", "trim", "length", "substr", "left", "right",
    "concat", "replace", "year", "month", "day", "quarter", "coalesce", "nullif", "greatest",
    "least", "starts_with", "contains",
)  # fmt: skip
