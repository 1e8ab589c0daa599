"""When each group recorded: batches by weekday and hour, and the ways to look at them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.moments import HOURS
from sabueso.population.moments import minute as minute_of_day
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.cells import above_nothing
from sabueso.screens.grouping import Grouping
from sabueso.stats.cells import habits

DAY, ERA = 1_440, 1_000_000
"""Minutes of a day; days before 1900 that none is."""
OFTEN = 4
"""Weeks of which one with rows in a cell makes it a habit."""


@dataclass(frozen=True)
class Times:
    """Batches, rows, weeks and units of each group in each weekday and hour. Shapes (g, 7, h); ``weeks``
    has the weeks in which a group recorded there, ``all_weeks`` is of every row."""

    keys: list[ByColumn]
    hours: tuple[str, ...]
    batches: np.ndarray
    rows: np.ndarray
    weeks: np.ndarray
    all_weeks: int
    units: dict[tuple[int, int, int], int]

    def only(self, groups: Sequence[int]) -> Times:
        """Some of the groups."""
        places = {g: place for place, g in enumerate(groups)}
        units = {(places[g], w, h): v for (g, w, h), v in self.units.items() if g in places}
        chosen = list(groups)
        return replace(
            self,
            keys=[self.keys[g] for g in groups],
            batches=self.batches[chosen],
            rows=self.rows[chosen],
            weeks=self.weeks[chosen],
            units=units,
        )


@dataclass(frozen=True)
class TimeTable:
    """One way to look at the times: cells and where they lie in the cube."""

    names: list[ByColumn]
    counts: np.ndarray
    habit: np.ndarray
    members: list[list[tuple[int, int]]]


def times_of(
    population: Population,
    grouping: Grouping,
    reasons: Sequence[Reason],
    date: Column,
    timed: Column | None,
    measure: Column | None,
) -> Times:
    """Count batches: what a group records within a minute, or on a day where there is no time, is one."""
    # Whole numbers: several times faster to group by than texts. Of a day of a weekday there is one in a week.
    values: dict[str, Tree] = {
        **grouping.values(),
        "day": sql.since_monday(sql.column(date.name)),
        "units": sql.integer(0) if measure is None else sql.minor_units(measure),
    }
    by = [*grouping.names, "day"]
    if timed is not None:
        values["moment"] = _moment(timed, date)
        by.append("moment")
    inner = exp.select(
        *(sql.column(name, "b") for name in by),
        exp.alias_(sql.count(), "n"),
        # Both sides of an entry add to 0: what is at stake is one of them.
        exp.alias_(sql.exact_sum(above_nothing(sql.column("units", "b"))), "units"),
    ).from_(population.base(values, reasons).subquery("b"))
    inner = inner.group_by(*(sql.column(name, "b") for name in by))
    own = [sql.column(name, "m") for name in (*grouping.names, "day")]
    clock: Tree = sql.integer(0)
    if timed is not None:
        within = exp.Mod(this=sql.column("moment", "m"), expression=sql.integer(DAY))
        clock = sql.whole_division(exp.paren(within), sql.integer(60))
    daily = exp.select(
        *own,
        exp.alias_(clock, "hour"),
        exp.alias_(sql.count(), "batches"),
        exp.alias_(sql.exact_sum(sql.column("n", "m")), "n"),
        exp.alias_(sql.exact_sum(sql.column("units", "m")), "units"),
    ).from_(inner.subquery("m"))
    daily = daily.group_by(*(c.copy() for c in own), *([] if timed is None else [clock.copy()]))
    weekday = sql.weekday_of_day(sql.column("day", "d"))
    keys = [*(sql.column(name, "d") for name in grouping.names), weekday, sql.column("hour", "d")]
    select = exp.select(
        *keys[:-2],
        exp.alias_(weekday, "weekday"),
        keys[-1],
        exp.alias_(sql.exact_sum(sql.column("batches", "d")), "batches"),
        exp.alias_(sql.count(), "weeks"),
        exp.alias_(sql.exact_sum(sql.column("n", "d")), "n"),
        exp.alias_(sql.exact_sum(sql.column("units", "d")), "units"),
    ).from_(daily.subquery("d"))
    select = select.group_by(*(key.copy() for key in keys))
    found = population.query(select.order_by(*(sql.ordered(key.copy()) for key in keys)))
    named = grouping.keys(found)
    unique = {tuple(key.values()): key for key in named}
    place = {key: g for g, key in enumerate(unique)}
    hours = ("00",) if timed is None else HOURS
    shape = (len(place), 7, len(hours))
    batches, rows, weeks = (np.zeros(shape, dtype=np.int64) for _ in range(3))
    units: dict[tuple[int, int, int], int] = {}
    for key, row in zip(named, found.to_pylist(), strict=True):
        g, w, h = place[tuple(key.values())], int(row["weekday"]), int(row["hour"])
        batches[g, w, h], rows[g, w, h] = int(row["batches"]), int(row["n"])
        weeks[g, w, h] = row["weeks"]
        units[g, w, h] = int(row["units"] or 0)
    every = exp.Count(this=exp.Distinct(expressions=[sql.column("week", "b")]))
    select = exp.select(exp.alias_(every, "n"))
    week = {"week": sql.week(sql.column(date.name))}
    select = select.from_(population.base(week, reasons).subquery("b"))
    all_weeks = int(population.query(select).column("n")[0].as_py())
    return Times(list(unique.values()), hours, batches, rows, weeks, all_weeks, units)


def _moment(timed: Column, date: Column) -> Tree:
    """The minute of a time; where it has a day of its own, beside that of the row, its day too."""
    minute = minute_of_day(sql.column(timed.name))
    if timed.type != "timestamp" or timed.name == date.name:
        return minute
    since = sql.cast(sql.since_monday(sql.column(timed.name)), "BIGINT")
    # Far enough before 1900 that no day is negative: the minute stays the rest.
    days = exp.paren(exp.Add(this=since, expression=sql.integer(ERA)))
    whole = exp.Mul(this=days, expression=sql.integer(DAY))
    return exp.paren(exp.Add(this=whole, expression=minute))


def tables_of(times: Times) -> list[TimeTable]:
    """Hours, weekdays, and both together: the coarsest first."""
    cube = times.batches
    hours, weekdays = cube.sum(axis=1), cube.sum(axis=2)
    many = len(times.hours)
    # What a group does in a week out of four is a habit too, however little it is of its work.
    often = times.weeks * OFTEN >= max(times.all_weeks, OFTEN)
    by_day = TimeTable(
        [{"weekday": name} for name in sql.WEEKDAYS],
        weekdays,
        habits(weekdays, 7) | often.any(axis=2),
        [[(w, h) for h in range(many)] for w in range(7)],
    )
    if many == 1:
        return [by_day]
    by_hour = TimeTable(
        [{"hour": name} for name in times.hours],
        hours,
        habits(hours, 24) | often.any(axis=1),
        [[(w, h) for w in range(7)] for h in range(many)],
    )
    both = [(w, h) for w in range(7) for h in range(many)]
    # A weekday and an hour that are both a habit make one together.
    habit = by_day.habit[:, [w for w, _ in both]] & by_hour.habit[:, [h for _, h in both]]
    habit |= often.reshape(len(cube), 7 * many)
    cells = TimeTable(
        [{"weekday": sql.WEEKDAYS[w], "hour": times.hours[h]} for w, h in both],
        cube.reshape(len(cube), 7 * many),
        habit,
        [[each] for each in both],
    )
    return [by_hour, by_day, cells]
