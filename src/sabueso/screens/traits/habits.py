"""What is usual in a table: hours, weekdays, accounts, and the accounts of each preparer."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree

HABIT = 0.05
"""Share of somebody's rows from which an hour or a weekday is theirs."""
LEAST_OF_ONE = 50
"""Rows of a preparer from which it is known what is usual for them."""
OF_EVEN = 0.1
"""Part of an even share of the rows below which somebody prepares seldom."""
MOST_VALUES = 2_000_000


def counts(
    population: Population, values: Mapping[str, Tree], reasons: list[Reason]
) -> dict[tuple[Any, ...], int]:
    """Rows by some values, those that are missing left out.

    Raises
    ------
    UserError
        If there are too many of them to tell which are rare.
    """
    base = population.base(dict(values), reasons)
    keys = [sql.column(name, "b") for name in values]
    select = exp.select(*keys, exp.alias_(sql.count(), "n")).from_(base.subquery("b"))
    select = select.where(*(exp.Not(this=sql.is_missing(key.copy())) for key in keys))
    select = select.group_by(*(key.copy() for key in keys)).limit(MOST_VALUES + 1)
    found = population.query(select)
    if found.num_rows > MOST_VALUES:
        raise UserError(
            f"there are more than {MOST_VALUES:,} accounts, or pairs of a preparer and an account or a time: of so many "
            "it is not told which are rare; take fewer rows with --where, or another column for the account"
        )
    columns = [found.column(name).to_pylist() for name in values]
    return dict(zip(zip(*columns, strict=True), found.column("n").to_pylist(), strict=True))


def odd_times(seen: Mapping[tuple[Any, ...], int], rare: float) -> set[tuple[Any, Any]]:
    """(who, time) at which hardly anybody records but out of habit: neither that person's habit nor, of all
    that is nobody's habit, more than a small share. Whoever has few rows has no habits: their only entries,
    all made at night, are no custom of the night.

    Parameters
    ----------
    seen : mapping of (who, time) to int
        Rows of each person at each hour, or on each weekday.
    rare : float
        The share.
    """
    of: dict[Any, int] = defaultdict(int)
    for (who, _), n in seen.items():
        of[who] += n
    habit = {
        key for key, n in seen.items() if of[key[0]] >= LEAST_OF_ONE and n >= HABIT * of[key[0]]
    }
    rest: dict[Any, int] = defaultdict(int)
    for key, n in seen.items():
        if key not in habit:
            rest[key[1]] += n
    whole = sum(seen.values())
    times = {time for time, n in rest.items() if n < rare * whole}
    # A time that is many people's habit is an ordinary one, even for whoever keeps it seldom.
    people: dict[Any, int] = defaultdict(int)
    for _, time in habit:
        people[time] += 1
    ordinary = {time for time, n in people.items() if n > len(of) / 2}
    return {key for key in seen if key not in habit and key[1] in times - ordinary}


def seldom_people(seen: Mapping[tuple[Any, ...], int], rare: float) -> set[Any]:
    """People who prepared fewer than a small share of the rows, and than a tenth of an even share of them."""
    whole = sum(seen.values())
    least = min(rare, OF_EVEN / max(len(seen), 1))
    return {key[0] for key, n in seen.items() if n < least * whole}


def rare_values(seen: Mapping[tuple[Any, ...], int], rare: float) -> set[Any]:
    """Values that fewer than a small share of the rows have."""
    whole = sum(seen.values())
    return {key[0] for key, n in seen.items() if n < rare * whole}


def strange_pairs(
    seen: Mapping[tuple[Any, ...], int], rare: float, but: Iterable[Any]
) -> set[tuple[Any, Any]]:
    """(who, account) of people with rows enough who hardly ever post to an account that is no rare one."""
    of: dict[Any, int] = defaultdict(int)
    for (who, _), n in seen.items():
        of[who] += n
    left = set(but)
    return {
        key
        for key, n in seen.items()
        if of[key[0]] >= LEAST_OF_ONE and n <= max(1, rare * of[key[0]]) and key[1] not in left
    }
