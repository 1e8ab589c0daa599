"""What each payee was paid by day, as the engine adds it up."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.payees.reasons import PayeeDays

WHOLE_FITS = 2.0**62
"""Minor units below which whole numbers of 64 bits hold a sum, whatever is added up first."""
POSITION, PAYEES, SIZE = "position", "payees", "size"


def payee_days(
    population: Population,
    grouping: Grouping,
    dates: dict[str, str | None],
    measure: Column,
    when: Column,
    reasons: Sequence[Reason],
) -> PayeeDays:
    """Rows and sums of each payee by day, sorted by payee and day.

    Who there is is asked first: days are then grouped and put in order by a number, and not by a name
    that stands on each of them.

    Parameters
    ----------
    dates : mapping
        Expressions of when a payee became known and was closed, ``created`` and ``closed``.
    """
    payees = _who(population, grouping, dates, measure, reasons)
    # Whole numbers of 64 bits where all of them together have room there, else of any size.
    fits = float(pc.sum(payees.column(SIZE)).as_py() or 0) < WHOLE_FITS
    total = sql.exact_sum(sql.column(UNITS, "b"))
    numbers = pa.array(np.arange(payees.num_rows), pa.int64())
    listed = payees.select(grouping.names).append_column(POSITION, numbers)
    values: dict[str, Tree] = {
        **grouping.values(),
        "day": sql.cast(sql.column(when.name), "DATE"),
        UNITS: sql.minor_units(measure),
    }
    keys = [sql.column(POSITION, PAYEES), sql.column("day", "b")]
    select = exp.select(
        *keys,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.cast(total, "BIGINT") if fits else total, "units"),
    ).from_(population.base(values, reasons).subquery("b"))
    select = select.join(PAYEES, on=grouping.join("b", PAYEES), join_type="inner")
    select = select.group_by(*(key.copy() for key in keys))
    select = select.order_by(*(sql.ordered(key.copy()) for key in keys))
    many, days, rows, units = _taken(population, select, listed)
    ends = np.cumsum(many)
    begin = ends - many
    some = len(begin) > 0
    missing: list[date | None] = [None] * payees.num_rows
    return PayeeDays(
        keys=grouping.keys(payees),
        starts=begin,
        day=days,
        rows=rows,
        units=units,
        count=np.add.reduceat(rows, begin) if some else rows,
        total=[int(t) for t in np.add.reduceat(units, begin)] if some else [],
        first=days[begin] if some else days,
        last=days[ends - 1] if some else days,
        created=payees.column("created").to_pylist() if dates["created"] else missing,
        closed=payees.column("closed").to_pylist() if dates["closed"] else missing,
    )


def _who(
    population: Population,
    grouping: Grouping,
    dates: dict[str, str | None],
    measure: Column,
    reasons: Sequence[Reason],
) -> pa.Table:
    """The payees in order, with the first of each date that is known of them, and the ``size`` of what they were
    paid, either way, in minor units."""
    known: dict[str, Tree] = {}
    for name, text in dates.items():
        if text:
            tree = expressions.scalar(text, population.table, f"--{name}")
            known[name] = sql.cast(tree, "DATE")
    units = exp.Abs(this=sql.cast(sql.minor_units(measure), "DOUBLE"))
    base = population.base({**grouping.values(), **known, UNITS: units}, reasons)
    select = exp.select(
        *grouping.columns("b"),
        exp.alias_(exp.Sum(this=sql.column(UNITS, "b")), SIZE),
        *(exp.alias_(exp.Min(this=sql.column(name, "b")), name, quoted=True) for name in known),
    ).from_(base.subquery("b"))
    select = select.group_by(*grouping.columns("b"))
    return population.query(select.order_by(*map(sql.ordered, grouping.columns("b"))))


def _taken(
    population: Population, select: exp.Select, payees: pa.Table
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """How many days each payee has, and the days, rows and sums as they come."""
    many = np.zeros(payees.num_rows, dtype=np.int64)
    days, rows, sums = [], [], []
    for batch in filter(len, population.stream(select, **{PAYEES: payees})):
        many += np.bincount(batch.column(POSITION).to_numpy(), minlength=len(many))
        days.append(batch.column("day").cast(pa.int32()).to_numpy())
        # Copies: the batch as the engine made it is not held.
        rows.append(batch.column("n").to_numpy().astype(np.int32))
        units = batch.column("units")
        sums.append(
            units.to_numpy().copy()
            if pa.types.is_integer(units.type)
            else np.array([int(value or 0) for value in units.to_pylist()], dtype=object)
        )
    return many, _joined(days), _joined(rows), _joined(sums)


def _joined(parts: list[np.ndarray]) -> np.ndarray:
    """Parts one after another; they are let go of."""
    whole = np.concatenate(parts) if parts else np.array([], dtype=np.int64)
    parts.clear()
    return whole if whole.dtype == object else whole.astype(np.int64)
