"""An engine whose statements are written down, so that others can run them without this program."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime
from decimal import Decimal
from typing import Any, ClassVar

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population.engines.interface import Engine
from sabueso.population.table import Table

MOST_WRITTEN = 5_000
"""Rows of an input that are written out as values."""


class ToldEngine:
    """Another engine, and the text of every statement that it runs, in their order.

    The text is the engine's own where it has a method ``statement``; an engine of another package need
    not have one.
    """

    renders: ClassVar[frozenset[str]] = frozenset()

    def __init__(self, engine: Engine, told: list[str]) -> None:
        self._engine, self._told = engine, told
        self.moves_groups = getattr(engine, "moves_groups", False)

    def attach(self, table: Table) -> None:
        self._engine.attach(table)
        view = getattr(self._engine, "view", None)
        named = f"-- table {table.name}: {', '.join(map(str, table.files))}"
        self._told.append(f"{view(table)};" if view is not None else named)

    def query(self, tree: exp.Expr, **inputs: pa.Table) -> pa.Table:
        self._tell(tree, inputs)
        return self._engine.query(tree, **inputs)

    def stream(self, tree: exp.Expr, **inputs: pa.Table) -> Iterator[pa.RecordBatch]:
        self._tell(tree, inputs)
        return self._engine.stream(tree, **inputs)

    def stage(self, name: str, tree: exp.Expr, **inputs: pa.Table) -> None:
        self._told += [_input(known, data) for known, data in inputs.items()]
        self._told.append(f"CREATE OR REPLACE TEMP TABLE {_name(name)} AS {self._text(tree)};")
        self._engine.stage(name, tree, **inputs)

    def unstage(self, name: str) -> None:
        self._told.append(f"DROP TABLE IF EXISTS {_name(name)};")
        self._engine.unstage(name)

    def lock(self) -> None:
        self._engine.lock()

    def close(self) -> None:
        self._engine.close()

    def _tell(self, tree: exp.Expr, inputs: dict[str, pa.Table]) -> None:
        self._told += [_input(name, data) for name, data in inputs.items()]
        self._told.append(f"{self._text(tree)};")

    def _text(self, tree: exp.Expr) -> str:
        own = getattr(self._engine, "statement", None)
        return str(own(tree) if own is not None else tree.sql(dialect="duckdb"))


def _input(name: str, data: pa.Table) -> str:
    """A statement that makes an input, or a comment where it is too large."""
    nested = any(pa.types.is_nested(field.type) for field in data.schema)
    if data.num_rows > MOST_WRITTEN or nested or not data.num_rows:
        return f"-- {_name(name)} has {data.num_rows:,} rows, which are not written out here"
    columns = ", ".join(_name(field.name) for field in data.schema)
    rows = ",\n  ".join(
        "(" + ", ".join(_value(row[field.name], field.type) for field in data.schema) + ")"
        for row in data.to_pylist()
    )
    return f"CREATE OR REPLACE TEMP TABLE {_name(name)} AS SELECT * FROM (VALUES\n  {rows}) AS v ({columns});"


def _value(value: Any, kind: pa.DataType) -> str:
    if value is None:
        return f"CAST(NULL AS {_type(kind)})"
    if isinstance(value, bool):
        return str(value).upper()
    if isinstance(value, (int, float)):
        return f"CAST({value!r} AS {_type(kind)})"
    if isinstance(value, Decimal):
        return f"CAST({value:f} AS {_type(kind)})"
    text = value.isoformat() if isinstance(value, (date, datetime)) else str(value)
    quoted = "'" + text.replace("'", "''") + "'"
    return quoted if pa.types.is_string(kind) else f"CAST({quoted} AS {_type(kind)})"


def _type(kind: pa.DataType) -> str:
    if pa.types.is_decimal(kind):
        return f"DECIMAL({kind.precision}, {kind.scale})"
    plain = {
        "string": "VARCHAR",
        "double": "DOUBLE",
        "bool": "BOOLEAN",
        "date32[day]": "DATE",
        "int32": "INTEGER",
    }
    if pa.types.is_timestamp(kind):
        return "TIMESTAMP"
    return plain.get(str(kind), "BIGINT")


def _name(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
