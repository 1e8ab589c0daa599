"""The rows that break a rule, as conditions in SQL."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from decimal import Decimal
from functools import singledispatch
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table
from sabueso.screens.rules.declared import (
    Allowed,
    AnyRule,
    Balances,
    Exists,
    NotAfter,
    Pattern,
    Product,
    Range,
    Required,
    Sequence,
    Unique,
)  # fmt: skip

NEW = "_new"
"""Beside a table's columns, what rules are judged over has this: whether the row was just read. Of
rows that exclude each other the one that was there before keeps the rule."""


@singledispatch
def breach(rule: AnyRule, table: Table, others: Mapping[str, Table]) -> Tree:
    """The condition on a row of ``table`` that breaks the rule.

    Raises
    ------
    UserError
        As ``rule.columns``, or if another table that the rule names has no rows.
    """
    raise NotImplementedError


@breach.register
def _(rule: Required, table: Table, others: Mapping[str, Table]) -> Tree:
    return exp.or_(*(_missing(c) for c in rule.columns(table)))


@breach.register
def _(rule: Unique, table: Table, others: Mapping[str, Table]) -> Tree:
    return _not_first(rule.columns(table), table)


@breach.register
def _(rule: Range, table: Table, others: Mapping[str, Table]) -> Tree:
    value = sql.column(rule.columns(table)[0].name)
    below = [] if rule.least is None else [exp.LT(this=value, expression=_literal(rule.least))]
    above = (
        []
        if rule.greatest is None
        else [exp.GT(this=value.copy(), expression=_literal(rule.greatest))]
    )
    return exp.or_(*below, *above)


@breach.register
def _(rule: Allowed, table: Table, others: Mapping[str, Table]) -> Tree:
    value = sql.column(rule.columns(table)[0].name)
    return exp.Not(this=exp.In(this=value, expressions=[sql.text(v) for v in rule.values]))


@breach.register
def _(rule: Pattern, table: Table, others: Mapping[str, Table]) -> Tree:
    value = sql.column(rule.columns(table)[0].name)
    whole = sql.text(rf"\A(?:{rule.pattern})\z")
    return exp.Not(this=exp.RegexpLike(this=value, expression=whole))


@breach.register
def _(rule: NotAfter, table: Table, others: Mapping[str, Table]) -> Tree:
    days: list[Tree] = [sql.cast(sql.column(c.name), "DATE") for c in rule.columns(table)]
    if isinstance(rule.than, date):
        days.append(_literal(rule.than))
    return exp.GT(this=days[0], expression=days[1])


@breach.register
def _(rule: Balances, table: Table, others: Mapping[str, Table]) -> Tree:
    amount, *per = rule.columns(table)
    keys = [sql.column(c.name) for c in per]
    total = sql.exact_sum(sql.minor_units(amount))
    uneven = (
        exp.select(*(k.copy() for k in keys))
        .from_(sql.column(table.name))
        .where(sql.both(_present(c) for c in per))
        .group_by(*(k.copy() for k in keys))
        .having(exp.NEQ(this=total, expression=sql.integer(0)))
    )
    return _among(keys, uneven)


@breach.register
def _(rule: Product, table: Table, others: Mapping[str, Table]) -> Tree:
    amount, quantity, price = rule.columns(table)
    product = exp.Mul(this=sql.column(quantity.name), expression=sql.column(price.name))
    gap = exp.Sub(this=exp.paren(product), expression=sql.column(amount.name))
    allowed = rule.tolerance
    if allowed is None:
        allowed = Decimal(5).scaleb(-amount.scale - 1)
    return exp.GT(this=exp.Abs(this=gap), expression=_literal(allowed))


@breach.register
def _(rule: Exists, table: Table, others: Mapping[str, Table]) -> Tree:
    other = table if rule.other == table.name else others.get(rule.other)
    if other is None:
        raise UserError(f"there is no table {rule.other!r} with rows: take it in before")
    key = other.column(rule.among.partition(".")[2])
    (column,) = rule.columns(table)
    if key.type != column.type:
        raise UserError(f"{rule.on} holds {column.type}, and {rule.among} {key.type}")
    known = exp.select(sql.column(key.name)).from_(sql.column(rule.other)).where(_present(key))
    value = sql.column(column.name)
    return sql.both([_present(column), exp.Not(this=_among([value], known))])


@breach.register
def _(rule: Sequence, table: Table, others: Mapping[str, Table]) -> Tree:
    return _not_first(rule.columns(table), table)


def gaps(rule: Sequence, table: Table) -> exp.Select:
    """One row per gap: ``stem``; ``after`` and ``before``, the numbers on either side; ``width``, digits."""
    column, *per = rule.columns(table)
    value = sql.column(column.name)
    stem: Tree = sql.text("")
    number: Tree = value
    if column.type == "text":
        shape = sql.text(r"\A(.*?)([0-9]{1,18})[^0-9]*\z")
        stem, number = (
            exp.RegexpExtract(this=value.copy(), expression=shape.copy(), group=sql.integer(g))
            for g in (1, 2)
        )
    width = exp.Max(this=exp.Length(this=sql.cast(number, "VARCHAR")))
    number = exp.TryCast(this=number.copy(), to=exp.DataType.build("BIGINT"))
    keys = [exp.alias_(stem, "stem"), *(sql.column(c.name) for c in per)]
    numbers = (
        exp.select(*keys, exp.alias_(number, "number"), exp.alias_(width, "width"))
        .from_(sql.column(table.name))
        .where(_present(column))
        .group_by(
            *(k.this.copy() if isinstance(k, exp.Alias) else k.copy() for k in keys), number.copy()
        )
    )
    apart = [sql.column("stem"), *(sql.column(c.name) for c in per)]
    following = exp.Window(
        this=exp.Anonymous(this="LEAD", expressions=[sql.column("number")]),
        partition_by=[k.copy() for k in apart],
        order=exp.Order(expressions=[sql.ordered(sql.column("number"))]),
    )
    steps = exp.select(
        *(k.copy() for k in apart),
        exp.alias_(sql.column("number"), "after"),
        exp.alias_(following, "before"),
        sql.column("width"),
    ).from_(numbers.subquery("numbers"))
    size = exp.Sub(this=sql.column("before"), expression=sql.column("after"))
    return (
        exp.select(*map(sql.column, ("stem", "after", "before", "width")))
        .from_(steps.subquery("steps"))
        .where(exp.GT(this=size, expression=sql.integer(1)))
        .order_by(sql.ordered(sql.column("stem")), sql.ordered(sql.column("after")))
    )


def _missing(column: Column) -> Tree:
    return sql.is_missing(sql.column(column.name))


def _present(column: Column) -> Tree:
    return exp.Not(this=_missing(column))


def _literal(value: Any) -> Tree:
    if isinstance(value, date):
        return sql.cast(sql.text(value.isoformat()), "DATE")
    return sql.number(value)


def _among(keys: list[exp.Column], query: exp.Select) -> Tree:
    this: Tree = keys[0] if len(keys) == 1 else exp.Tuple(expressions=keys)
    return exp.In(this=this, query=query.subquery())


def _not_first(columns: list[Column], table: Table) -> Tree:
    """A row whose values stand in an earlier row too."""
    keys = [sql.column(c.name) for c in columns]
    repeated = (
        exp.select(*(k.copy() for k in keys))
        .from_(sql.column(table.name))
        .where(sql.both(_present(c) for c in columns))
        .group_by(*(k.copy() for k in keys))
        .having(exp.GT(this=sql.count(), expression=sql.integer(1)))
    )
    order = [sql.ordered(sql.column(NEW)), *sql.place()]
    place = exp.Window(
        this=exp.RowNumber(),
        partition_by=[k.copy() for k in keys],
        order=exp.Order(expressions=order),
    )
    row = [sql.column(FILE_COLUMN), sql.column(LINE_COLUMN)]
    placed = (
        exp.select(*(r.copy() for r in row), exp.alias_(place, "_place"))
        .from_(sql.column(table.name))
        .where(_among([k.copy() for k in keys], repeated))
    )
    later = (
        exp.select(*(r.copy() for r in row))
        .from_(placed.subquery("_placed"))
        .where(exp.GT(this=sql.column("_place"), expression=sql.integer(1)))
    )
    return _among(row, later)
