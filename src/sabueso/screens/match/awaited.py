"""Rows that another table may still come to name: what was billed last month is not paid yet."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import all_of, quoted_name
from sabueso.population.moments import days_between
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table

NEARLY_ALL = 0.99
"""Share of the rows that are named which were so within some days."""
BEFORE = 0.01
"""Share of them up to which the other table's rows may be earlier: what comes before is not waited for."""
MOST_LEFT = 0.5
"""Share of the rows that may be too late for it to be known of them."""


class Due(NamedTuple):
    """Rows that another table would name by now, and how it is told which they are; nothing is of all."""

    rows: Population
    told: str = ""


def awaited(population: Population, other: Table, key: str, theirs: str) -> Due:
    """The rows of which another table would have one by its last day, if it takes no longer than it took for nearly
    all: others may still come. All rows where days tell nothing of that.

    ``key`` tells the rows apart, and is in the column ``theirs`` of the other table.
    """
    own, beside = population.table.dated(), other.dated()
    if own is None or beside is None:
        return Due(population)
    mine = population.used(exp.select(_as("k", sql.column(key)), _as("day", _day(own))))
    named = population.beside(other)
    first = named.used(
        exp.select(_as("k", sql.column(theirs)), _as("day", exp.Min(this=_day(beside))))
    ).group_by(sql.column(theirs))
    same = exp.EQ(this=sql.column("k", "a"), expression=sql.column("k", "b"))
    lag = days_between(sql.column("day", "b"), sql.column("day", "a"))
    pairs = exp.select(sql.column("day", "a"), _as("lag", lag)).from_(mine.subquery("a"))
    pairs = pairs.join(first.subquery("b"), on=same, join_type="inner")
    counted = exp.select(sql.column("lag"), _as("n", sql.count())).from_(pairs.subquery("p"))
    known = exp.Not(this=sql.is_missing(sql.column("lag")))
    found = population.query(counted.where(known).group_by(sql.column("lag"))).to_pylist()
    (row,) = named.query(
        named.used(exp.select(_as("last", exp.Max(this=_day(beside)))))
    ).to_pylist()
    within = _within({int(each["lag"]): int(each["n"]) for each in found})
    if within is None or row["last"] is None or within >= row["last"].toordinal():
        return Due(population)
    end = row["last"] - timedelta(days=within - 1)
    due = replace(population, where=all_of(population.where, f"{quoted_name(own.name)} < '{end}'"))
    left, whole = due.account(None).used, population.account(None).used
    late = exp.GTE(this=sql.column("day"), expression=sql.cast(sql.text(str(end)), "DATE"))
    (row,) = population.query(
        exp.select(_as("n", sql.count())).from_(pairs.subquery("p")).where(late)
    ).to_pylist()
    # Where all that are too late are named there is nothing to wait for.
    if left < MOST_LEFT * whole or whole - left <= row["n"]:
        return Due(population)
    return Due(due, f" of before {end} (of later ones it cannot be known yet)")


def _within(lags: dict[int, int]) -> int | None:
    """Within how many days nearly all were named; None where some were so before."""
    n = sum(lags.values())
    if not n or sum(k for lag, k in lags.items() if lag < 0) > BEFORE * n:
        return None
    upto = 0
    for lag in sorted(lags):
        upto += lags[lag]
        if upto >= NEARLY_ALL * n:
            return max(lag, 0)
    return None


def _day(column: Column) -> Tree:
    return sql.cast(sql.column(column.name), "DATE")


def _as(name: str, tree: Tree) -> Tree:
    return exp.alias_(tree, name)
