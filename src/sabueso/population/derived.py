"""Derived columns of a table: expressions of the plan that are then columns like all others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions
from sabueso.population.engines import EngineSettings, QueryError, open_engine
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Derived, Table


def with_derived(table: Table, declared: Mapping[str, str], where: str) -> Table:
    """A table with its derived columns, each typed by what its expression gives.

    Parameters
    ----------
    declared : mapping
        Name -> expression over the columns before it.
    where : str
        What the sentence of a fault begins with: the plan, and the key.

    Raises
    ------
    UserError
        If a name is a column's already, or an expression is none, or gives binary floats: what is
        not exact is no measure.
    """
    if not declared:
        return table
    engine = open_engine(EngineSettings())
    try:
        for name, text in declared.items():
            what = f"{where}.{name}"
            taken = {c.name.lower() for c in table.columns}
            if not name.strip() or name.lower() in taken | {FILE_COLUMN, LINE_COLUMN}:
                raise UserError(f"{what}: the table has a column of that name; choose another")
            try:
                tree = expressions.scalar(text, table, what)
            except UserError as error:
                told = str(error)
                raise UserError(told if what in told else f"{what}: {told}") from None
            empty = pa.table({c.name: pa.array([], _arrow(c)) for c in table.columns})
            source = exp.Table(this=exp.to_identifier(table.name, quoted=True))
            select = exp.select(exp.alias_(tree.copy(), "v", quoted=True)).from_(source)
            try:
                given = engine.query(select, **{table.name: empty}).schema.field("v").type
            except QueryError as error:
                raise UserError(f"{what} {text!r}: {error}") from None
            column = _column(name, given, what, text)
            if pa.types.is_boolean(given):
                tree = _as_text(tree)
            table = replace(
                table,
                columns=(*table.columns, column),
                derived=(*table.derived, Derived(column, tree)),
            )
    finally:
        engine.close()
    return table


def _as_text(tree: Tree) -> Tree:
    yes, no = exp.Literal.string("true"), exp.Literal.string("false")
    return exp.Case().when(tree, yes).when(exp.Not(this=exp.paren(tree.copy())), no)


def _column(name: str, given: pa.DataType, what: str, text: str) -> Column:
    if pa.types.is_decimal(given):
        return Column(name, "number", given.scale, 18 if given.precision <= 18 else 38)
    if pa.types.is_integer(given):
        return Column(name, "number", 0, 18 if given.bit_width < 64 else 38)
    if pa.types.is_floating(given):
        raise UserError(
            f"{what} {text!r} gives binary fractions, which are not exact; say how many decimals it has, "
            f"such as cast({text} as decimal(18, 2))"
        )
    if pa.types.is_date(given):
        return Column(name, "date")
    if pa.types.is_timestamp(given):
        return Column(name, "timestamp")
    if pa.types.is_time(given):
        return Column(name, "time")
    return Column(name, "text")


def _arrow(column: Column) -> pa.DataType:
    if column.type == "number":
        return pa.decimal128(column.precision, column.scale)
    kinds = {
        "date": pa.date32(), "timestamp": pa.timestamp("us"), "time": pa.time64("us")
    }  # fmt: skip
    return kinds.get(column.type, pa.string())
