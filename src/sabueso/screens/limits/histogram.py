"""Counts of the rows used in equal bins, for a figure."""

from __future__ import annotations

from collections.abc import Sequence

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits.result import Histogram
from sabueso.screens.limits.table import INT64

BINS = 60


def ends_of(grouping: Grouping) -> tuple[str, ...]:
    """Shares between which the middle of a histogram lies; groups have none."""
    return () if grouping.labels else ("0.005", "0.995")


def histogram(
    population: Population,
    base: exp.Select,
    scale: int,
    bounds: tuple[int, int],
    ends: Sequence[int],
) -> Histogram:
    """Counts of all rows used in equal bins, for a figure.

    The bins cover the limits and the middle 99 % of the rows, which lie between ``ends``; what
    lies outside is counted as ``below`` and ``above``, so that the counts add to n. The end of the
    whole numbers is no limit.
    """
    units = sql.column(UNITS, "b")
    limits = [bound for bound in bounds if bound not in (int(INT64.min), int(INT64.max))]
    least, greatest = int(min([ends[0], *limits])), int(max([ends[1], *limits])) + 1
    width = max(-(-(greatest - least) // BINS), 1)
    off = exp.Sub(this=units.copy(), expression=sql.integer(least))
    place = exp.Floor(
        this=exp.Div(this=sql.cast(exp.paren(off), "DOUBLE"), expression=sql.integer(width))
    )
    clipped = exp.Greatest(
        this=sql.integer(-1),
        expressions=[exp.Least(this=sql.cast(place, "BIGINT"), expressions=[sql.integer(BINS)])],
    )
    inner = exp.select(exp.alias_(clipped, "bin")).from_(base.subquery("b"))
    select = (
        exp.select("bin", exp.alias_(sql.count(), "n")).from_(inner.subquery("c")).group_by("bin")
    )
    counts = {row["bin"]: row["n"] for row in population.query(select).to_pylist()}
    unit = 10**scale
    return Histogram(
        edges=[(least + i * width) / unit for i in range(BINS + 1)],
        counts=[counts.get(i, 0) for i in range(BINS)],
        below=counts.get(-1, 0),
        above=counts.get(BINS, 0),
    )
