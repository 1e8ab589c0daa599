"""What engines do differently, or not at all, outside of a function's domain: one meaning for all."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.sql import Tree


def same_everywhere(node: Tree) -> Tree:
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
    if isinstance(node, (exp.Greatest, exp.Least)):
        return _of_all(node)
    day = isinstance(node, exp.DayOfWeek)
    if day or (isinstance(node, exp.Extract) and node.name.upper() == "DOW"):
        return sql.day_of_week(node.this if day else node.expression)
    return node


def _of_all(node: exp.Greatest | exp.Least) -> Tree:
    """The greatest or the least of several values, missing where one of them is (SQL:2023, feature T054).

    Engines leave out those that are missing: ``greatest(0.1 * km, 7)`` would charge a row without its km
    the minimum.
    """
    given = [node.this, *node.expressions]
    there = [
        exp.Not(this=exp.paren(sql.is_missing(exp.paren(each.copy()))))
        for each in given
        if not isinstance(each.unnest(), exp.Literal)
    ]
    return exp.Case().when(exp.and_(*there, copy=False), node) if there else node


_LARGEST = "1.7976931348623157E308"


def within_domain(node: Tree) -> Tree:
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
