"""Building blocks of times of day, and of what lies between two days or moments."""

from __future__ import annotations

import sqlglot.expressions as exp

from sabueso.population.sql import Tree, cast, hour_number, integer

HOURS = tuple(f"{hour:02}" for hour in range(24))
"""The hours of a day as :func:`sabueso.population.sql.hour` names them."""
_OF_A_DAY = 86_400


def minute(time: Tree) -> Tree:
    """The minute of a day, 0 to 1439."""
    minutes = exp.Extract(this=exp.var("MINUTE"), expression=time.copy())
    whole = exp.Mul(this=hour_number(time), expression=integer(60))
    return exp.paren(exp.Add(this=whole, expression=cast(minutes, "INTEGER")))


def second(time: Tree) -> Tree:
    """The second of a day, 0 to 86399."""
    seconds = exp.Extract(this=exp.var("SECOND"), expression=time.copy())
    whole = exp.Mul(this=minute(time), expression=integer(60))
    return exp.paren(exp.Add(this=whole, expression=cast(seconds, "INTEGER")))


def days_between(later: Tree, earlier: Tree) -> Tree:
    """Days from one date or moment to another."""
    sides = [cast(each.copy(), "DATE") for each in (later, earlier)]
    return exp.DateDiff(this=sides[0], expression=sides[1], unit=exp.var("DAY"))


def seconds_between(later: Tree, earlier: Tree) -> Tree:
    """Seconds from one moment to another."""
    days = exp.paren(days_between(later, earlier))
    of_day = exp.Sub(this=second(later.copy()), expression=second(earlier.copy()))
    whole = exp.Mul(this=days, expression=integer(_OF_A_DAY))
    return exp.paren(exp.Add(this=whole, expression=exp.paren(of_day)))


def seconds_of_clock(later: Tree, earlier: Tree) -> Tree:
    """Seconds from one time of day to another, which is the next day's where it is the lesser."""
    of_day = exp.Sub(this=second(later), expression=second(earlier))
    day = integer(_OF_A_DAY)
    return exp.Mod(this=exp.paren(exp.Add(this=of_day, expression=day)), expression=day.copy())
