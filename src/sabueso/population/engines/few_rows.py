"""Results of a row or a few: read row by row, at two thirds of what the same statement takes as Arrow.

What is asked for as Arrow is bound twice, once to know its columns and once to be run; of a small statement that is most
of what it takes.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from datetime import date, datetime
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

FEW = 100
"""Rows that are sooner read one by one."""

_SIMPLE: dict[str, pa.DataType] = {
    "BOOLEAN": pa.bool_(),
    "TINYINT": pa.int8(),
    "SMALLINT": pa.int16(),
    "INTEGER": pa.int32(),
    "BIGINT": pa.int64(),
    "HUGEINT": pa.decimal128(38, 0),
    "DOUBLE": pa.float64(),
    "VARCHAR": pa.string(),
    "DATE": pa.date32(),
    "TIMESTAMP": pa.timestamp("us"),
    "TIME": pa.time64("us"),
}
# As which days without end come too.
_EDGES = frozenset({date.min, date.max, datetime.min, datetime.max})
_DECIMAL = re.compile(r"DECIMAL\((\d+),(\d+)\)")


def gives_few(tree: exp.Expr, own: Collection[str]) -> bool:
    """Whether a statement's form alone says that its rows are few: it adds up and groups by nothing, or has a limit.

    Parameters
    ----------
    own : collection of str
        Names of the own nodes that add up.
    """
    if not isinstance(tree, exp.Select):
        return False
    limit = tree.args.get("limit")
    if limit is not None:
        most = limit.expression
        return isinstance(most, exp.Literal) and most.is_int and int(most.name) <= FEW
    if tree.args.get("group") is not None:
        return False
    return any(_adds_up(each, own) for each in tree.selects)


def _adds_up(value: exp.Expr, own: Collection[str]) -> bool:
    """Whether a value is of all rows together."""
    walked = value.walk(prune=lambda node: isinstance(node, exp.Window | exp.Query | exp.Subquery))
    return any(
        isinstance(node, exp.AggFunc) or (isinstance(node, exp.Anonymous) and node.name in own)
        for node in walked
    )


def as_table(columns: Sequence[Sequence[Any]], rows: Sequence[tuple[Any, ...]]) -> pa.Table | None:
    """Rows as a table of the types that the engine would give them as Arrow; None where a type is none of those known, or
    a value cannot be told from another.

    Parameters
    ----------
    columns : sequence
        Of each column its name, its type and what else the database interface tells of it.
    """
    types = [_arrow(str(column[1])) for column in columns]
    values: list[tuple[Any, ...]] = list(zip(*rows, strict=True)) or [()] * len(columns)
    if None in types or any(value in _EDGES for each in values for value in each if _is_day(value)):
        return None
    try:
        arrays = [pa.array(each, kind) for each, kind in zip(values, types, strict=True)]
    except pa.ArrowException:  # a day of the year 10000, which comes as text; a number of 39 digits
        return None
    return pa.Table.from_arrays(arrays, names=[column[0] for column in columns])


def _is_day(value: Any) -> bool:
    return isinstance(value, date)


def _arrow(kind: str) -> pa.DataType | None:
    if kind.endswith("[]"):
        inner = _arrow(kind[:-2])
        return None if inner is None else pa.list_(pa.field("l", inner))
    if (decimal := _DECIMAL.fullmatch(kind)) is not None:
        return pa.decimal128(int(decimal[1]), int(decimal[2]))
    return _SIMPLE.get(kind)
