"""Rows recorded in hours in which next to nobody works, as they are proposed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of

WORKED = 0.002
"""Share of the rows from which an hour is one of work."""
MOST_OUT, FEW_OUT = 0.002, 20
"""Share of the rows, and how many, in other hours up to which they are exceptions."""
APART = 2
"""Hours that one of rest is from those of work at the least: who stays a while longer is no exception."""


def off_hours(table: Table, hours: Sequence[str]) -> Tree:
    """Whether a row is recorded in an hour that is none of these.

    Raises
    ------
    UserError
        If the table has no time of day.
    """
    hour = expressions.scalar(sql.HOUR, table, "--hours")
    return exp.Not(this=exp.In(this=hour, expressions=[sql.text(name) for name in hours]))


def spans_of(hours: Sequence[str]) -> str:
    """Hours as spans of the clock.

    Examples
    --------
    >>> spans_of(["08", "09", "10", "14"]), spans_of(["22", "23", "00"])
    ('08:00 to 10:59 and 14:00 to 14:59', '00:00 to 00:59 and 22:00 to 23:59')
    """
    spans: list[list[int]] = []
    for hour in sorted(set(map(int, hours))):
        if spans and hour == spans[-1][1] + 1:
            spans[-1][1] = hour
        else:
            spans.append([hour, hour])
    return listed([f"{first:02}:00 to {last:02}:59" for first, last in spans])


def proposed_nights(population: Population) -> Iterator[Proposal]:
    """Hours in which next to no row is recorded, and some are."""
    table = population.table
    if is_budget(table) or "amount" not in table.roles or not _is_timed(table):
        return
    if population.account(None).used < LEAST_ROWS:
        return
    hour = expressions.scalar(sql.HOUR, table, "--hours")
    select = exp.select(exp.alias_(hour, "hour"), exp.alias_(sql.count(), "n"))
    known = exp.Not(this=sql.is_missing(exp.paren(hour.copy())))
    rows = population.query(population.used(select).where(known).group_by(hour.copy())).to_pylist()
    counts = {int(row["hour"]): int(row["n"]) for row in rows}
    n = sum(counts.values())
    worked = [hour for hour, rows in counts.items() if rows >= WORKED * n]
    near = {(hour + step) % 24 for hour in worked for step in range(1 - APART, APART)}
    out = sum(rows for hour, rows in counts.items() if hour not in near)
    if worked and 0 < out <= min(MOST_OUT * n, FEW_OUT):
        allowed = [f"{hour:02}" for hour in sorted(near)]
        yield Proposal(
            f"{table.name} recorded in hours of rest",
            settings_of(hours=allowed),
            "Rows in hours in which next to nobody works.",
            f"{out:,} of {n:,} rows are not from {spans_of(allowed)}",
        )


def _is_timed(table: Table) -> bool:
    """Whether the date has a time of day, or there is one of when rows were entered."""
    columns = [table.role("date"), table.role("entered")]
    return any(c is not None and c.type in ("timestamp", "time") for c in columns)
