"""Rows or entities with several measures: taken from the engine, put into peer groups, and flagged.

What the tests on two measures and more have in common.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn
from sabueso.population import expressions, sql
from sabueso.population.accounting import Counting
from sabueso.population.drill.measures import plan_of
from sabueso.population.population import Account, Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN
from sabueso.screens.finding import Flags, with_structs
from sabueso.screens.grouping import Grouping, without_key
from sabueso.screens.limits import table as lim
from sabueso.screens.many_rows import missing_measures


class Measured(Protocol):
    """Settings that name measures, subjects and peer groups."""

    @property
    def measures(self) -> list[str]: ...
    @property
    def per(self) -> list[str]: ...
    @property
    def by(self) -> list[str]: ...


def counts_of_subjects(population: Population, settings: Measured) -> list[Counting]:
    """What is counted of the rows of subjects: those that lack a key, or of rows a measure, are left out."""
    table = population.table
    if settings.per:
        return [Counting(table.role("amount"), [without_key(Grouping.of(settings.per, table))])]
    lacking = missing_measures([table.number(name) for name in settings.measures])
    return [Counting(table.role("amount"), lacking), Counting(table.role("amount"))]


def measured_subjects(population: Population, settings: Measured) -> tuple[pa.Table, Account]:
    """One row a subject: keys, measures m0, m1, … as floats, groups g0, …, amount at stake.

    Measures are the only columns that leave the engine, as 8-byte floats.
    """
    table = population.table
    groups = Grouping.of(settings.by, table)
    amount, reasons = counts_of_subjects(population, settings)[0]
    if not settings.per:
        columns = [table.number(name) for name in settings.measures]
        values: dict[str, Tree] = {
            f"m{j}": sql.cast(sql.column(c.name), "DOUBLE") for j, c in enumerate(columns)
        }
        select = population.base({**groups.values(), **values}, reasons, rows=True)
        # The order of rows decides which ones the random starts meet: it is fixed.
        found = population.query(select.order_by(*sql.place()))
        return found, population.account(amount, reasons)
    entity = Grouping.of(settings.per, table)
    plan = plan_of(settings.measures, table)
    for figure in plan.figures:
        if figure.share or figure.text:
            raise UserError(f"--measures {figure.label}: expected a figure of the rows, a number")
    named: list[Tree] = [
        exp.alias_(tree, f"k{i}", quoted=True) for i, tree in enumerate(entity.trees)
    ]
    fields = [
        exp.alias_(part.taken(_copied(part.argument)), f"p{j}", quoted=True)
        for j, part in enumerate(plan.parts)
    ]
    fields.append(exp.alias_(sql.count(), "rows"))
    if amount is not None:
        fields.append(exp.alias_(exp.Sum(this=sql.column(amount.name)), "amount"))
    select = population.used(exp.select(*named, *fields), reasons)
    select = select.group_by(*(t.copy() for t in entity.trees))
    keys = [sql.column(f"k{i}") for i in range(len(entity.trees))]
    taken = [
        exp.alias_(sql.cast(figure.value, "DOUBLE"), f"m{j}", quoted=True)
        for j, figure in enumerate(plan.figures)
    ]
    rest = [sql.column("rows"), *([sql.column("amount")] if amount is not None else [])]
    ordered = exp.select(*keys, *taken, *rest).from_(select.subquery("s"))
    ordered = ordered.order_by(*(sql.ordered(key.copy()) for key in keys))
    found = population.query(ordered)
    if groups.labels:
        # Both results have the same entities in the same order.
        for name, column in _most_frequent(population, named, keys, groups, reasons).items():
            found = found.append_column(name, column)
    return found, population.account(amount, reasons)


def _copied(tree: Tree | None) -> Tree | None:
    return None if tree is None else tree.copy()


def _most_frequent(
    population: Population,
    named: list[Tree],
    keys: list[exp.Column],
    groups: Grouping,
    reasons: Sequence[Reason],
) -> dict[str, pa.ChunkedArray]:
    """The peer group that most of an entity's rows name, the first of equals in their order."""
    peers = [exp.alias_(tree, name, quoted=True) for name, tree in groups.values().items()]
    rows = population.used(exp.select(*named, *peers), reasons)
    by = [*(key.copy() for key in keys), *groups.columns()]
    counted = exp.select(*by, exp.alias_(sql.count(), "n", quoted=True)).from_(rows.subquery("r"))
    counted = counted.group_by(*(each.copy() for each in by))
    place = exp.Window(
        this=exp.RowNumber(),
        partition_by=[key.copy() for key in keys],
        order=exp.Order(
            expressions=[
                sql.ordered(sql.column("n"), descending=True),
                *(sql.ordered(each) for each in groups.columns()),
            ]
        ),
    )
    ranked = exp.select("*", exp.alias_(place, "place", quoted=True)).from_(counted.subquery("c"))
    first = exp.EQ(this=sql.column("place"), expression=sql.integer(1))
    select = exp.select(*groups.columns()).from_(ranked.subquery("p")).where(first)
    found = population.query(select.order_by(*(sql.ordered(key.copy()) for key in keys)))
    return {name: found.column(name) for name in groups.names}


def peer_groups(subjects: pa.Table, groups: Grouping) -> list[tuple[ByColumn, np.ndarray]]:
    """Positions of the subjects of each peer group; one group of all where none is named."""
    measures = [
        name for name in subjects.column_names if name.startswith("m") and name[1:].isdigit()
    ]
    whole = np.ones(subjects.num_rows, dtype=bool)
    for name in measures:
        whole &= np.isfinite(subjects.column(name).to_numpy())
    if not groups.labels:
        return [({}, np.flatnonzero(whole))]
    members: dict[tuple[Any, ...], list[int]] = {}
    columns = [subjects.column(name).to_pylist() for name in groups.names]
    for position, key in enumerate(zip(*columns, strict=True)):
        if whole[position]:
            members.setdefault(key, []).append(position)
    return [
        (dict(zip(groups.labels, key, strict=True)), np.array(rows))
        for key, rows in sorted(members.items(), key=lambda item: str(item[0]))
    ]


def struct_of(names: Sequence[str], columns: Sequence[np.ndarray] | np.ndarray) -> pa.StructArray:
    return pa.StructArray.from_arrays([pa.array(c) for c in columns], names=list(names))


def subject_columns(chosen: pa.Table, settings: Measured, labels: Sequence[str]) -> dict[str, Any]:
    if settings.per:
        named = {f"k{i}": chosen.column(f"k{i}") for i in range(len(labels))}
        return named | {"rows": chosen.column("rows")}
    return {"row_file": chosen.column(FILE_COLUMN), "row_line": chosen.column(LINE_COLUMN)}


def _with_row_context(population: Population, flags: pa.Table, groups: dict[str, str]) -> pa.Table:
    """Fetch what identifies and describes flagged rows, which the distance did not need."""
    table = population.table
    columns = lim.RowColumns.of(table, table.role("amount"))
    trees = columns.trees()
    places = pa.table(
        {
            "row_file": flags.column("row_file"),
            "row_line": flags.column("row_line"),
            "position": pa.array(range(flags.num_rows), pa.int64()),
        }
    )
    at_place = sql.both(
        exp.EQ(this=sql.column(name, "t"), expression=sql.column(name, "places"))
        for name in ("row_file", "row_line")
    )
    rows = exp.select(*(exp.alias_(tree, name) for name, tree in trees.items()))
    rows = rows.from_(population.source())
    more = [name for name in trees if name not in ("row_file", "row_line")]
    wanted = [sql.column("position", "places"), *(sql.column(name, "t") for name in more)]
    select = exp.select(*wanted).from_(rows.subquery("t"))
    select = select.join("places", on=at_place).order_by(
        sql.ordered(sql.column("position", "places"))
    )
    found = population.query(select, places=places)
    for name in more:
        flags = flags.append_column(name, found.column(name))
    flags = columns.gathered(flags, groups)
    return flags


def flags_of(
    population: Population,
    settings: Measured,
    flags: pa.Table,
    groups: Sequence[str],
) -> Flags:
    """Flagged subjects as flags, rows with what identifies and describes them.

    Parameters
    ----------
    flags : Table
        :func:`subject_columns`, g0, g1, … and the test's own columns, strongest first.
    groups : sequence of str
        What g0, g1, … are called.
    """
    named = {label: f"g{i}" for i, label in enumerate(groups)}
    if not settings.per:
        return Flags("row", _with_row_context(population, flags, named))
    labels = [expressions.label(text, population.table) for text in settings.per]
    subject = {label: f"k{i}" for i, label in enumerate(labels)}
    made = {"subject": subject, "context": {"rows": "rows"}, "group": named}
    return Flags("entity", with_structs(flags, made))
