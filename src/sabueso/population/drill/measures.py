"""Measures of a drill-down: what is taken of a group's rows, split into parts that add up.

A measure such as ``sum(amount)/count(distinct party)`` is a value over *parts*, each one plain aggregate.
Sums, counts, least and greatest values of narrow groups can be merged into those of wider ones, and so can
the standard deviations of columns, which are made of sums; medians and counts of distinct values cannot,
and are taken of the rows at each level.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table, bare_name

Measure = Literal["sum", "count", "mean", "min", "max"]
MEASURES: tuple[Measure, ...] = ("sum", "count", "mean", "min", "max")
SHARE = "share"
_AVERAGE_NAME = re.compile(
    r"(^|[^a-z])(avg|average|mean|media|promedio|durchschnitt|moyenne)([^a-z]|$)"
)
_RATE_NAME = re.compile(
    r"(^|[^a-z])(price|rate|percent|percentage|pct|margin|precio|tarifa|tasa|porcentaje|preis|satz|prix"
    r"|taux|prezzo|tasso|preco|taxa|unit (cost|value)|(coste|costo|valor) unitario)([^a-z]|$)|%"
)


@dataclass(frozen=True)
class Part:
    """One plain aggregate of an argument; of none it counts rows."""

    kind: Literal["sum", "count", "square", "min", "max", "distinct", "median", "stddev"]
    argument: Tree | None
    scale: int | None
    """Decimals, where the argument is a number column."""

    @property
    def merges(self) -> bool:
        return self.kind in ("sum", "count", "square", "min", "max")

    def taken(self, argument: Tree | None) -> Tree:
        """The aggregate over rows that have the argument as a column."""
        if argument is None:
            return sql.count()
        if self.kind == "sum":
            return self._summed(argument)
        if self.kind == "count":
            return exp.Count(this=argument)
        if self.kind == "square":
            return sql.exact_square_sum(sql.units(argument, self.scale or 0))
        if self.kind == "distinct":
            return exp.Count(this=exp.Distinct(expressions=[argument]))
        if self.kind == "median":
            if self.scale is None:
                return sql.quantile(sql.cast(argument, "DOUBLE"), "0.5")
            middle = sql.quantile(sql.units(argument, self.scale), "0.5")
            return exp.Div(this=middle, expression=exp.Literal.number(f"{10**self.scale}.0"))
        if self.kind == "stddev":
            return exp.StddevSamp(this=sql.cast(argument, "DOUBLE"))
        return (exp.Min if self.kind == "min" else exp.Max)(this=argument)

    def merged(self, part: Tree) -> Tree:
        """The aggregate over groups that have it as a column."""
        if self.kind in ("count", "square"):
            return sql.cast(exp.Sum(this=part), "DECIMAL(38, 0)")
        return self._summed(part) if self.kind == "sum" else self.taken(part)

    def _summed(self, argument: Tree) -> Tree:
        # Sums of the decimals themselves: those of more than 18 digits have no 64-bit minor units.
        total: Tree = exp.Sum(this=argument)
        return total if self.scale is None else sql.cast(total, f"DECIMAL(38, {self.scale})")


@dataclass(frozen=True)
class Figure:
    """A measure: its label, and its value over the parts of a plan of measures.

    ``additive`` ones of the groups of a level add up to that of the level above, and have a share of
    it. ``scale`` are decimals that it is shown with.
    """

    label: str
    value: Tree
    additive: bool
    scale: int
    column: str | None = None
    share: bool = False
    text: bool = False
    """Whether it is a date or a text: the first or last of them."""
    sum_of: bool = False
    """Whether it is the plain sum of its column."""
    signed: bool = True
    """Whether it is a number whatever the columns: groups stand by its size, and else by its order."""


@dataclass(frozen=True)
class Plan:
    """The measures of a drill-down with their parts; ``having`` is a condition over the parts."""

    figures: tuple[Figure, ...]
    parts: tuple[Part, ...]
    having: Tree | None
    cautions: tuple[tuple[str, str], ...]

    @property
    def merges(self) -> bool:
        return all(part.merges for part in self.parts)


def plan_of(
    texts: Sequence[str], table: Table, *, having: str | None = None, what: str = "--measures"
) -> Plan:
    """Measures as a user types them, and a condition on groups.

    Raises
    ------
    UserError
        If one is none, or names a column that is unknown or no number.
    """
    made = _Made(table)
    figures = [made.figure(text, what) for text in texts]
    if all(figure.share for figure in figures):
        raise UserError(f"{what} {SHARE}: expected a sum or count beside it, whose share it is")
    if any(figure.share for figure in figures) and not any(
        figure.additive and not figure.share for figure in figures
    ):
        raise UserError(
            f"{what}: the share is that of a sum or a count; none of the measures is one"
        )
    condition = None if having is None else made.condition(having)
    return Plan(tuple(figures), tuple(made.parts), condition, tuple(made.cautions))


class _Made:
    """Measures being split: equal parts are taken once."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self.parts: list[Part] = []
        self.cautions: list[tuple[str, str]] = []

    def figure(self, text: str, what: str) -> Figure:
        if bare_name(text).lower() == SHARE:
            try:
                self.table.column(bare_name(text))
            except UserError:
                return Figure(SHARE, exp.null(), additive=True, scale=0, share=True)
        tree = expressions.aggregate(text, self.table, what)
        top = tree.unnest()
        value = self.split(tree, what, text)
        column = _column_of(top, self.table)
        counts = isinstance(top, exp.Count)
        additive = isinstance(top, exp.Sum) or (counts and not isinstance(top.this, exp.Distinct))
        scale = 0 if counts else 2 if column is None else column.scale
        if column is not None:
            self._caution(top, column)
        label = text.strip()
        name = column.name if column is not None and column.type == "number" else None
        text_like = column is not None and name is None and isinstance(top, (exp.Min, exp.Max))
        number = name is not None or not isinstance(top, (exp.Min, exp.Max))
        plain = isinstance(top, expressions.AGGREGATE_FUNCTIONS)
        sum_of = isinstance(top, exp.Sum) and name is not None
        return Figure(
            label,
            value,
            additive,
            scale,
            name,
            text=text_like,
            sum_of=sum_of,
            signed=number and plain,
        )

    def condition(self, text: str) -> Tree:
        """A condition on groups, such as ``sum(amount) > 1000 and count(*) < 3``."""
        return self.split(expressions.group_condition(text, self.table), "--having", text)

    def split(self, tree: Tree, what: str, text: str) -> Tree:
        """A tree over parts in the place of its aggregates."""

        for node in tree.find_all(*expressions.AGGREGATE_FUNCTIONS):
            if any(node.this.find_all(*expressions.AGGREGATE_FUNCTIONS)):
                raise UserError(f"{what} {text!r}: a figure of a figure; expected one of rows")

        def visit(node: Tree) -> Tree:
            if isinstance(node, (exp.Filter, *expressions.AGGREGATE_FUNCTIONS)):
                return self._part(node)
            if isinstance(node, exp.Column):
                raise UserError(
                    f"{what} {text!r}: {node.name} has one value for each row; expected a figure of it, "
                    f"such as sum({node.name}) or max({node.name})"
                )
            for child in list(node.iter_expressions()):
                changed = visit(child)
                if changed is not child:
                    child.replace(changed)
            return node

        return visit(tree.copy())

    def _part(self, node: Tree) -> Tree:
        """The value of one aggregate over parts."""
        chosen = None
        if isinstance(node, exp.Filter):
            chosen, node = node.expression.this, node.this
        argument: Tree | None = node.this
        if isinstance(argument, exp.Star):
            argument = None
        distinct = isinstance(argument, exp.Distinct)
        if distinct and argument is not None:
            argument = argument.expressions[0]
        column = _plain_column(argument, self.table)
        scale = column.scale if column is not None and column.type == "number" else None
        if chosen is not None:
            kept = sql.integer(1) if argument is None else argument
            argument = exp.Case().when(exp.paren(chosen), kept)
        if isinstance(node, exp.Avg):
            # A mean is the exact sum over the count: engines round their own mean of decimals.
            total = self._known(Part("sum", argument, scale))
            count = self._known(Part("count", argument, None))
            some = exp.Nullif(this=count, expression=sql.integer(0))
            return exp.paren(
                exp.Div(this=sql.cast(total, "DOUBLE"), expression=sql.cast(some, "DOUBLE"))
            )
        if isinstance(node, (exp.Stddev, exp.StddevSamp)) and scale is not None:
            summed = self._known(Part("sum", argument, scale))
            unit = exp.Mul(this=summed, expression=sql.integer(10**scale))
            return exp.paren(
                sql.sample_deviation(
                    sql.cast(exp.paren(unit), "DECIMAL(38, 0)"),
                    self._known(Part("square", argument, scale)),
                    self._known(Part("count", argument, None)),
                    scale,
                )
            )
        kinds: dict[type[exp.Expr], Any] = {
            exp.Sum: "sum", exp.Count: "count", exp.Min: "min", exp.Max: "max",
            exp.Median: "median", exp.Stddev: "stddev", exp.StddevSamp: "stddev",
        }  # fmt: skip
        return self._known(Part("distinct" if distinct else kinds[type(node)], argument, scale))

    def _known(self, part: Part) -> Tree:
        if part not in self.parts:
            self.parts.append(part)
        return sql.column(f"p{self.parts.index(part)}")

    def _caution(self, top: Tree, column: Column) -> None:
        name = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", column.name).replace("_", " ").lower()
        rate = self.table.role("price") == column or bool(_RATE_NAME.search(name))
        if isinstance(top, exp.Sum) and rate:
            self.cautions.append(
                (
                    "summed_rate",
                    f"{column.name} seems to be a price, a rate or a percentage: its sum is no amount; "
                    f"avg({column.name}), or the sum of quantity times price, may be meant",
                )
            )
        if isinstance(top, exp.Avg) and (_AVERAGE_NAME.search(name) or rate):
            what = "an average" if _AVERAGE_NAME.search(name) else "a price, a rate or a percentage"
            self.cautions.append(
                (
                    "mean_of_means",
                    f"{column.name} seems to be {what} itself: its mean gives every row the same weight, "
                    "whatever it stands for; divide a sum by a sum instead",
                )
            )


def _plain_column(tree: Tree | None, table: Table) -> Column | None:
    if isinstance(tree, exp.Column) and not tree.table:
        return next((c for c in table.columns if c.name == tree.name), None)
    return None


def _column_of(top: Tree, table: Table) -> Column | None:
    """The column that a plain aggregate is of."""
    return _plain_column(getattr(top, "this", None), table)
