"""Rows on days of rest, as they are proposed: weekdays on which next to nothing is dated."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of

WORKED = 0.02
"""Share of the rows from which a weekday is one of work."""
MOST_RESTING, LEAST_WORKED = 0.005, 3
"""Share of the rows that lie on other days up to which they are exceptions, and weekdays of work that there must be."""


def off_days(table: Table, date: str, weekdays: Sequence[str]) -> Tree:
    """Whether a row is dated on a weekday that is none of these."""
    day = sql.period(sql.column(date), "weekday", 1)
    return exp.Not(this=exp.In(this=day, expressions=[sql.text(name) for name in weekdays]))


def proposed_resting(population: Population) -> Iterator[Proposal]:
    """Weekdays that nearly no row has; where somebody is named who recorded them, other tests look at whose they are."""
    table = population.table
    date = table.role("date")
    if date is None or "preparer" in table.roles or is_budget(table):
        return
    if date.type not in ("date", "timestamp") or population.account(None).used < LEAST_ROWS:
        return
    day = sql.period(sql.column(date.name), "weekday", 1)
    select = exp.select(exp.alias_(day, "day"), exp.alias_(sql.count(), "n"))
    known = exp.Not(this=sql.is_missing(sql.column(date.name)))
    rows = population.query(population.used(select).where(known).group_by(day.copy())).to_pylist()
    counts = {row["day"]: int(row["n"]) for row in rows}
    n = sum(counts.values())
    worked = [name for name in sql.WEEKDAYS if counts.get(name, 0) >= WORKED * n]
    out = n - sum(counts[name] for name in worked)
    if len(worked) >= LEAST_WORKED and 0 < out <= MOST_RESTING * n:
        resting = [name for name in sql.WEEKDAYS if name in counts and name not in worked]
        yield Proposal(
            f"{table.name} dated on {listed(resting)}",
            settings_of(weekdays=worked),
            "Rows on days on which nearly nothing is dated.",
            f"{out:,} of {n:,} rows are",
        )
