"""Days between two dates of a row, or of a row that it names, and which of two moments comes first."""

from __future__ import annotations

from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.linked import linked_column
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name
from sabueso.screens.range.columns import is_own


def days_from(earlier: str, later: str, table: Table) -> Tree:
    """Days from one date of a row, or of a row it is linked with, to another.

    Raises
    ------
    UserError
        If one is no date.
    """
    return _between("days", earlier, later, table)


class Order(NamedTuple):
    """Whether what comes later is ``before`` what it follows, and by how many of what ``size`` says, days or hours; whether
    it is ``after`` it."""

    before: Tree
    by: Tree
    size: str
    after: Tree


def order_of(earlier: str, later: str, table: Table) -> Order:
    """How two dates of a row, or of a row it is linked with, lie to one another: moments by the clock, all others by days.

    Raises
    ------
    UserError
        If one is no date.
    """
    zero = sql.integer(0)
    size = "hours" if all(_is_moment(each, table) for each in (earlier, later)) else "days"
    between = _between(size, earlier, later, table)
    return Order(
        exp.LT(this=between, expression=zero),
        sql.cast(exp.Neg(this=exp.paren(between.copy())), "DOUBLE"),
        size,
        exp.GT(this=between.copy(), expression=zero.copy()),
    )


OPTION = "--in-order"


def _between(unit: str, earlier: str, later: str, table: Table) -> Tree:
    named = ", ".join(_named(each, table) for each in (later, earlier))
    return expressions.scalar(f"{unit}({named})", table, OPTION)


def _named(text: str, table: Table) -> str:
    return quoted_name(table.column(bare_name(text)).name) if is_own(text, table) else text


def _is_moment(text: str, table: Table) -> bool:
    if is_own(text, table):
        return table.column(bare_name(text)).type == "timestamp"
    named = linked_column(text, table, OPTION)
    return named is not None and named.type == "timestamp"
