"""What an expression may contain, and what its names stand for: every node is checked against a list."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import islice

import sqlglot.expressions as exp

from sabueso.base.errors import UserError, nearest
from sabueso.population import functions, sql
from sabueso.population.domain import same_everywhere, within_domain
from sabueso.population.fact_names import fact_named, fact_tree, is_fact, spread_facts, with_lists
from sabueso.population.linked import linked
from sabueso.population.sql import Tree
from sabueso.population.table import Table

PREDICATES = (
    exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE, exp.Between, exp.In, exp.Like, exp.ILike,
    exp.Is, exp.Not, exp.And, exp.Or, exp.NullSafeEQ, exp.NullSafeNEQ, exp.RegexpLike,
    exp.StartsWith, exp.Contains, exp.Boolean, exp.Escape,
)  # fmt: skip

VALUES = (
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

AGGREGATES = (*AGGREGATE_FUNCTIONS, exp.Star, exp.Distinct, exp.Filter, exp.Where)
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


def column_or_period(name: str, table: Table, what: str = "--where") -> Tree:
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


def arguments(node: exp.Anonymous, table: Table, what: str) -> list[Tree]:
    """The arguments of a call, facts of the plan by their values and lists spread."""
    listed = with_lists(node.expressions, table, what)
    return [each.this if is_fact(each) else each for each in listed]


MOST_PARTS = 10_000


@dataclass(frozen=True)
class Check:
    """What one expression may contain, and what its names stand for."""

    table: Table
    what: str
    text: str
    allowed: tuple[type[exp.Expr], ...]

    def walk(self, node: Tree) -> Tree:
        """A checked node. Children of a resolved one are this program's own, and not visited again."""
        seen = self._visit(node)
        if seen is not node:
            return self._bounded(seen)
        terms = _chained(node)
        for child in terms or list(node.iter_expressions()):
            changed = self.walk(child)
            if changed is not child:
                child.replace(changed)
        if terms:
            return node
        grown = within_domain(same_everywhere(node))
        return self._bounded(grown) if grown is not node or isinstance(node, exp.Func) else node

    def _bounded(self, tree: Tree) -> Tree:
        """A part written out, which asks of what it is given several times: within one another that doubles each time."""
        if next(islice(tree.walk(), MOST_PARTS, None), None) is not None:
            raise UserError(
                f"{self.what}: a function within others is written out so often that the expression has "
                f"more than {MOST_PARTS:,} parts; expected a shorter one"
            )
        return tree

    def _visit(self, node: Tree) -> Tree:
        if is_fact(node):
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
        node.set("expressions", arguments(node, self.table, self.what))
        return functions.expand(functions.Call(node, self.table, self.what, self.walk))

    def _named(self, node: exp.Column) -> Tree:
        if not node.args.get("table"):
            return column_or_period(node.name, self.table)
        dotted = ".".join(part.name for part in node.parts)
        if any(column.name == dotted for column in self.table.columns):
            return sql.column(dotted)
        fact = fact_named(node, self.table, self.what)
        if isinstance(fact, list):
            raise UserError(f"{self.what} {self.text!r}: {node.sql()} is a list; it goes after in")
        if fact is not None:
            return fact_tree(fact)
        if node.table == self.table.name and not node.args.get("db"):
            return column_or_period(node.name, self.table)
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
