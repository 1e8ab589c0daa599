"""The user's SQL expressions: parsed, checked for what they may contain, and turned into trees.

One expression over one table's columns. No sub-select, no file or system function, nothing that
is not listed here: a list of what is allowed cannot be outgrown by what an engine learns.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from decimal import Decimal
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import functions, sql
from sabueso.population.allowed import (
    AGGREGATE_FUNCTIONS,
    AGGREGATES,
    PREDICATES,
    VALUES,
    Check,
    arguments,
    column_or_period,
)
from sabueso.population.parsing import needs_quotes, parsed, quoted, too_deep
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name


def condition(text: str, table: Table, what: str = "--where") -> Tree:
    """A boolean expression over the table's columns.

    Raises
    ------
    UserError
        If it is not one boolean expression of permitted parts over known columns.
    """
    tree = parsed(text, what, table)
    top = tree.unnest()
    called = isinstance(top, exp.Anonymous) and top.name.lower() in functions.CONDITIONS
    if not isinstance(top, PREDICATES) and not called:
        raise UserError(
            f"{what} {text!r} is not a condition; expected one that is true or false for each row, "
            'such as "amount > 1000"'
        )
    return _checked(tree, table, what, text, VALUES + PREDICATES)


def scalar(text: str, table: Table, what: str = "--by") -> Tree:
    """A value for each row: a column or role, a period of the date role, or an expression."""
    name = bare_name(text)
    try:
        return column_or_period(name, table, what)
    except UserError:
        tree = parsed(text.strip(), what, table)
        top = tree.unnest()
        if isinstance(top, exp.Column) and not top.args.get("table"):
            raise
        return _checked(tree, table, what, text, VALUES + PREDICATES)


def quoted_name(name: str) -> str:
    """A column's name as a user types it in an expression: in quotes where it needs them."""
    return quoted(name) if needs_quotes(name) else name


def literal(value: Any) -> str:
    """A value as it is written in an expression."""
    if isinstance(value, (int, float, Decimal)) and not isinstance(value, bool):
        return str(value)
    return "'" + str(value).replace("'", "''") + "'"


def all_of(*conditions: str | None) -> str | None:
    """Conditions as a user types them, as one; None where there are none.

    Examples
    --------
    >>> all_of("a > 1", None), all_of("a > 1", "b = 2 or c = 3"), all_of(None)
    ('a > 1', '(a > 1) and (b = 2 or c = 3)', None)
    """
    given = [each for each in conditions if each]
    return " and ".join(f"({each})" for each in given) if given[1:] else next(iter(given), None)


def equals(name: str, value: Any, columns: Collection[str] | None) -> str:
    """A condition, as a user types it, that a column or an expression has a value.

    Parameters
    ----------
    columns : collection of str or None
        The table's columns: anything else is an expression. Where they are not known, what looks like a name is one.
    """
    left = operand(name, columns)
    return f"{left} is null" if value is None else f"{left} = {literal(value)}"


def operand(name: str, columns: Collection[str] | None) -> str:
    """A column, or an expression, as it stands within a condition that a user types; see `equals`."""
    if columns is not None:
        return quoted_name(name) if name in columns else f"({name})"
    if re.fullmatch(r"[^\W\d]\w*(\.[^\W\d]\w*)+", name):
        # Of a linked table, or a column whose own name has a dot: it is read as the one or the other.
        return ".".join(map(quoted_name, name.split(".")))
    plain = re.fullmatch(r"[\w .$#-]+", name) is not None
    return quoted_name(name) if plain else f"({name})"


def label(text: str, table: Table) -> str:
    """How a group is called: the column's own name where the text names a column or role."""
    try:
        return table.column(bare_name(text)).name
    except UserError:
        return text.strip()


def period_named(text: str, table: Table) -> str | None:
    """The period of the date role that a group's text names, where it names no column."""
    name = bare_name(text)
    try:
        table.column(name)
        return None
    except UserError:
        known = name.lower() in sql.PERIODS and table.role("date") is not None
        return name.lower() if known else None


def period_text(unit: str, table: Table) -> str:
    """The month, quarter or year of a row's date as an expression, whatever the columns are called."""
    date = table.role("date")
    taken = unit in {column.name.casefold() for column in table.columns}
    return f"{unit}_of({quoted_name(date.name)})" if taken and date is not None else unit


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
    tree = parsed(text.strip(), "--by", table)
    top = tree.unnest()
    if isinstance(top, exp.Anonymous):
        top.set("expressions", arguments(top, table, "--by"))
    return functions.own_order(tree, table)


def aggregate(text: str, table: Table, what: str = "--measures") -> Tree:
    """A figure for each group of rows, such as ``sum(amount)``; a bare column means its sum."""
    tree = parsed(text, what, table)
    if isinstance(tree.unnest(), exp.Column):
        return exp.Sum(this=sql.column(table.number(bare_name(text)).name))
    if tree.find(*AGGREGATE_FUNCTIONS) is None:
        raise UserError(
            f"{what} {text!r} gives a value per row; expected one per group: a number column, "
            "or sum(…), avg(…), min(…), max(…), median(…), stddev(…), count(*), count(distinct …)"
        )
    _refuse_text_sums(tree, table, what)
    return _checked(tree, table, what, text, VALUES + PREDICATES + AGGREGATES)


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
    tree = parsed(text, what, table)
    if not isinstance(tree.unnest(), PREDICATES) or tree.find(*AGGREGATE_FUNCTIONS) is None:
        raise UserError(
            f"{what} {text!r} is not a condition on groups; expected one of their figures, such as "
            '"count(*) > 10"'
        )
    return _checked(tree, table, what, text, VALUES + PREDICATES + AGGREGATES)


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


def _checked(
    tree: Tree, table: Table, what: str, text: str, allowed: tuple[type[exp.Expr], ...]
) -> Tree:
    """The tree with columns resolved and helpers expanded, or the sentence that says why not."""
    try:
        return Check(table, what, text, allowed).walk(tree.copy())
    except RecursionError:
        raise too_deep(what) from None
