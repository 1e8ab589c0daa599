"""The deviate of every row, from the limits that a finding says."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.population import Population, missing
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN
from sabueso.screens import grouping as grp
from sabueso.screens.finding import Finding
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits.scales import Scale
from sabueso.screens.limits.table import RowColumns


def every_deviate(
    population: Population,
    finding: Finding[Any],
    scale: Scale,
    places: Sequence[tuple[ByColumn, float, float]],
) -> Generator[pa.RecordBatch]:
    """Each row used with its deviate, the furthest first, then as they stand in the sources.

    Parameters
    ----------
    places : sequence of (group, centre, unit)
        Where the deviates of each group are counted from, and how long one is, in units of the scale.
    """
    groups = scale.groups
    population = scale.of_population(population)
    columns = RowColumns.of(population.table, scale.measure)
    named = columns.trees()
    base = scale.base(population, {**groups.values(), **named}, [missing(scale.measure)])
    keys = [key for key, _, _ in places]
    table = pa.table(
        {
            **grp.group_table(groups, keys),
            "centre": pa.array([c for _, c, _ in places], pa.float64()),
            "unit_": pa.array([u for _, _, u in places], pa.float64()),
        }
    )
    off = exp.Sub(
        this=sql.cast(sql.column(UNITS, "b"), "DOUBLE"), expression=sql.column("centre", "places")
    )
    score = exp.Div(this=exp.paren(off), expression=sql.column("unit_", "places"))
    shown = _named(population, columns, groups)
    wanted: list[Tree] = [
        exp.alias_(sql.column(column, "b"), label, quoted=True) for label, column in shown.items()
    ]
    select = exp.select(*wanted, exp.alias_(score, "score_", quoted=True)).from_(base.subquery("b"))
    select = select.join("places", on=groups.join("b", "places"), join_type="inner")
    far = exp.Abs(this=sql.column("score_", "e"))
    whole = exp.select("*").from_(select.subquery("e"))
    file, line = (next(k for k, v in shown.items() if v == at) for at in ("row_file", "row_line"))
    whole = whole.order_by(
        sql.ordered(far, descending=True),
        sql.ordered(sql.column(file, "e")),
        sql.ordered(sql.column(line, "e")),
    )
    for batch in population.stream(whole, places=table):
        yield batch.rename_columns([*shown, _free("score", shown)])


def _named(population: Population, columns: RowColumns, groups: Grouping) -> dict[str, str]:
    """What each column is called in the file, and in the base: clients' names first, then ours."""
    found: dict[str, str] = {}
    if columns.identity is not None:
        found[columns.identity.name] = "row_id"
    found |= {
        column.name: f"c{i}" for i, column in enumerate(columns.context) if column.name not in found
    }
    assert columns.measure is not None
    found[_free(columns.measure.name, found)] = "amount"
    for label, name in zip(groups.labels, groups.names, strict=True):
        found[_free(f"group {label}", found)] = name
    found[_free(FILE_COLUMN.strip("_"), found)] = "row_file"
    found[_free(LINE_COLUMN.strip("_"), found)] = "row_line"
    return found


def _free(name: str, taken: dict[str, str]) -> str:
    while name in taken:
        name = f"{name} (sabueso)"
    return name
