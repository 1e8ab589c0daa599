"""The sequential deviate test of groups: sums and a few extreme values of each are enough."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.screens import grouping as grp
from sabueso.screens.finding import NotTested
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits.table import INT64
from sabueso.screens.zscore.deviates import DeviateGroup, Tested
from sabueso.screens.zscore.result import Step
from sabueso.stats.moments import moments
from sabueso.stats.sequential import SequentialTest, sequential_deviates

LEAST_ROWS = 5
GOOD_FROM = 25  # rows from which the published limits hold well


def sequential_limits(
    population: Population,
    base: exp.Select,
    groups: Grouping,
    found: Sequence[DeviateGroup],
    most: int,
    alpha: float,
    used: int,
) -> tuple[list[Tested], list[NotTested], list[SequentialTest]]:
    """Limits that leave out each group's outliers, the groups that cannot be tested, and the tests.

    At most half of a group's rows are looked at as outliers.
    """
    ends = _extremes(population, base, groups, most, used)
    tested, flat, tests = [], [], []
    for g in found:
        sd = moments(g.n, g.total, g.squares).sd
        if g.n < LEAST_ROWS:
            flat.append(NotTested(g.key, f"only {g.n} rows; at least {LEAST_ROWS} are needed", g.n))
            continue
        if not sd:
            flat.append(NotTested(g.key, f"zero_spread: all {g.n} amounts are the same", g.n))
            continue
        low, high = ends[tuple(g.key.values())]
        test = sequential_deviates(g.n, g.total, g.squares, low, high, min(most, g.n // 2), alpha)
        least, greatest = test.bounds()
        tested.append(
            Tested(
                g,
                int(INT64.min) if least is None else least,
                int(INT64.max) if greatest is None else greatest,
                g.total / g.n,
                sd,
            )
        )
        tests.append(test)
    return tested, flat, tests


def steps_of(test: SequentialTest, amount: Callable[[float], float | None]) -> list[Step]:
    """The steps of a test; ``amount`` puts a value of the scale as an amount."""
    return [
        Step(amount(step.value), step.statistic, step.limit, place < test.outliers)
        for place, step in enumerate(test.steps)
    ]


def _extremes(
    population: Population, base: exp.Select, groups: Grouping, most: int, used: int
) -> dict[tuple[Any, ...], tuple[list[int], list[int]]]:
    """By group, the ``most`` least values ascending and the ``most`` greatest descending."""
    found: dict[tuple[Any, ...], tuple[list[int], list[int]]] = {}
    for part, more in grp.slices(population, base, groups, used):
        keys = [sql.column(name, "d") for name in groups.names]

        def place(name: str, keys: list[exp.Column], *, descending: bool) -> Tree:
            order = exp.Order(
                expressions=[sql.ordered(sql.column(UNITS, "d"), descending=descending)]
            )
            window = exp.Window(
                this=exp.RowNumber(), partition_by=[k.copy() for k in keys], order=order
            )
            return exp.alias_(window, name)

        numbered = exp.select(
            *keys, sql.column(UNITS, "d"), sql.column("n", "d"),
            place("up", keys, descending=False), place("down", keys, descending=True),
        ).from_(grp.distinct_units(part, groups).subquery("d"))  # fmt: skip
        limit = sql.integer(most)
        near = exp.or_(
            exp.LTE(this=sql.column("up"), expression=limit),
            exp.LTE(this=sql.column("down"), expression=limit.copy()),
        )
        select = exp.select("*").from_(numbered.subquery("r")).where(near)
        select = select.order_by(
            *(sql.ordered(sql.column(name)) for name in groups.names),
            sql.ordered(sql.column(UNITS)),
        )
        result = population.query(select, **more)
        if not result.num_rows:
            continue
        marks = grp.runs(result, groups.names)
        starts = np.flatnonzero(np.diff(marks, prepend=-1))
        units, counts = (result.column(name).to_pylist() for name in (UNITS, "n"))
        names = groups.keys(result.take(starts))
        for key, start, end in zip(names, starts, [*starts[1:], len(units)], strict=True):
            values, times = units[start:end], counts[start:end]
            found[tuple(key.values())] = (
                _first(values, times, most),
                _first(values[::-1], times[::-1], most),
            )
    return found


def _first(values: Sequence[int], times: Sequence[int], most: int) -> list[int]:
    """The first values, each as often as it occurs."""
    found: list[int] = []
    for value, count in zip(values, times, strict=True):
        found += [value] * min(count, most - len(found))
        if len(found) == most:
            break
    return found
