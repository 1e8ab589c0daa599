"""Conditions that are nothing but bounds of one column."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.base.exact import exactly
from sabueso.population import expressions
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column

_PLAIN = re.compile(r"\d{1,15}(\.\d{1,12})?")
"""Numbers that every engine compares exactly with a decimal column."""

_FURTHEST = 1 << 62


class Bounds(NamedTuple):
    """The least and the greatest value that is let through, in minor units; None where any is."""

    least: int | None = None
    greatest: int | None = None

    def __and__(self, other: Bounds) -> Bounds:
        least = [b for b in (self.least, other.least) if b is not None]
        greatest = [b for b in (self.greatest, other.greatest) if b is not None]
        return Bounds(max(least, default=None), min(greatest, default=None))


@exactly
def widened(population: Population, column: Column) -> tuple[Population, Bounds]:
    """A population without those of its conditions that are bounds of a column, and these bounds.

    Its rows are those of the wider one whose value of the column lies within the bounds.
    """
    bounds = Bounds()
    if population.where:
        found = _bounds(expressions.condition(population.where, population.table), column)
        if found is not None:
            population, bounds = replace(population, where=None), bounds & found
    if population.defined is not None:
        found = _bounds(expressions.condition(population.defined.where, population.table), column)
        if found is not None:
            population, bounds = replace(population, defined=None), bounds & found
    return population, bounds


def _bounds(tree: Tree, column: Column) -> Bounds | None:
    """What a condition lets through of a column; None where it says anything else."""
    tree = tree.unnest()
    if isinstance(tree, exp.And):
        first, second = _bounds(tree.this, column), _bounds(tree.expression, column)
        return first & second if first is not None and second is not None else None
    if isinstance(tree, exp.Between):
        low, high = _number(tree.args["low"]), _number(tree.args["high"])
        if not _is(tree.this, column) or low is None or high is None or tree.args.get("symmetric"):
            return None
        return _at_least(low, column) & _at_most(high, column)
    for left, right, sides in (
        (tree.this, tree.args.get("expression"), _ON_THE_RIGHT),
        (tree.args.get("expression"), tree.this, _ON_THE_LEFT),
    ):
        bound = _number(right)
        if type(tree) in sides and _is(left, column) and bound is not None:
            return sides[type(tree)](bound, column)
    return None


def _is(tree: object, column: Column) -> bool:
    tree = tree.unnest() if isinstance(tree, exp.Paren) else tree
    return isinstance(tree, exp.Column) and tree.name == column.name and not tree.table


def _number(tree: object) -> Decimal | None:
    if isinstance(tree, exp.Paren):
        return _number(tree.this)
    if isinstance(tree, exp.Neg):
        size = _number(tree.this)
        return None if size is None else -size
    if isinstance(tree, exp.Literal) and not tree.is_string and _PLAIN.fullmatch(tree.name):
        return Decimal(tree.name)
    return None


def _at_least(bound: Decimal, column: Column) -> Bounds:
    return Bounds(least=_units(bound, column, ROUND_CEILING))


def _at_most(bound: Decimal, column: Column) -> Bounds:
    return Bounds(greatest=_units(bound, column, ROUND_FLOOR))


def _above(bound: Decimal, column: Column) -> Bounds:
    return Bounds(least=_units(bound, column, ROUND_FLOOR) + 1)


def _below(bound: Decimal, column: Column) -> Bounds:
    return Bounds(greatest=_units(bound, column, ROUND_CEILING) - 1)


def _units(bound: Decimal, column: Column, rounding: str) -> int:
    """A bound in minor units; what lies beyond 62 bits bounds no amount."""
    units = int(bound.scaleb(column.scale).to_integral_value(rounding))
    return max(min(units, _FURTHEST), -_FURTHEST)


def _equal(bound: Decimal, column: Column) -> Bounds:
    return _at_least(bound, column) & _at_most(bound, column)


_Side = Mapping[type[exp.Expr], Callable[[Decimal, Column], Bounds]]
_ON_THE_RIGHT: _Side = {
    exp.GT: _above,
    exp.GTE: _at_least,
    exp.LT: _below,
    exp.LTE: _at_most,
    exp.EQ: _equal,
}
_ON_THE_LEFT: _Side = {
    exp.GT: _below,
    exp.GTE: _at_most,
    exp.LT: _above,
    exp.LTE: _at_least,
    exp.EQ: _equal,
}
