"""The rows of payees who were paid once: it is that one payment which is looked at."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.table import Column, Table
from sabueso.screens.grouping import Grouping, group_table
from sabueso.screens.limits.table import RowColumns
from sabueso.screens.subject import Entity, Row, Subject, of_flag

ONCE = "once_and_large"
FLAGS = "flags"


def with_their_rows(
    population: Population,
    grouping: Grouping,
    measure: Column,
    reasons: Sequence[Reason],
    flags: list[Cells],
) -> list[Cells]:
    """Flags with ``row`` and ``context``: of a payee who is flagged for nothing but one large payment, what
    names that row and helps to recognise it; of others None."""
    once = [flag["subject"] for flag in flags if flag["reasons"] == [ONCE]]
    found: dict[tuple[Any, ...], Cells] = {}
    if once:
        columns = RowColumns.of(population.table, measure)
        base = population.base({**grouping.values(), **columns.trees()}, reasons)
        asked = pa.table(group_table(grouping, once))
        select = exp.select(*(sql.column(name, "b") for name in base.named_selects))
        select = select.from_(base.subquery("b"))
        select = select.join(FLAGS, on=grouping.join("b", FLAGS), join_type="inner")
        groups = dict(zip(grouping.labels, grouping.names, strict=True))
        rows = columns.gathered(population.query(select, **{FLAGS: asked}), groups)
        found = {tuple(row["group"].values()): row for row in rows.to_pylist()}
    return [
        flag | {"row": own.get("subject"), "context": own.get("context")}
        for flag in flags
        for own in [found.get(tuple(flag["subject"].values()), {})]
    ]


def subject(flag: Mapping[str, Any], where: str | None, table: Table) -> Subject:
    """Who was paid; of one large payment alone, the payment."""
    if not flag.get("row"):
        return of_flag(Entity.kind, flag, where, table)
    return of_flag(Row.kind, {**flag, "subject": flag["row"]}, where, table)
