"""Numbers that are the time between two days, or moments, of their row, as they are proposed: found in some rows,
counted in all. The hours of a shift, the nights of a stay, the days of a hire."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import permutations
from typing import NamedTuple

import numpy as np

from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_numbers import named_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_SEEN = 2_000
MOST_TIMES, MOST_NUMBERS, MOST_FREE = 4, 8, 8
"""Columns of days and moments, and numbers, that are tried, and numbers of days that may be free."""
DIFFERENT = 3
"""Different numbers that there must be: one alone is no measure of time."""


class _Way(NamedTuple):
    """How long something took: its SQL, and how that is told."""

    sql: str
    told: str


_OF_DAYS = (
    _Way("days({later}, {earlier})", "the days from {earlier} to {later}"),
    _Way(
        "days({later}, {earlier}) + 1", "the days from {earlier} to {later}, both of them counted"
    ),
)
_OF_TIMES = (
    _Way("hours({later}, {earlier})", "the hours from {earlier} to {later}"),
    _Way("hours({later}, {earlier}) * 60", "the minutes from {earlier} to {later}"),
    _Way(
        "ceil(hours({later}, {earlier}))",
        "the hours from {earlier} to {later}, each begun one counted",
    ),
    _Way("floor(hours({later}, {earlier}))", "the whole hours from {earlier} to {later}"),
)


def proposed_spans(population: Population) -> Iterator[Proposal]:
    """Numbers that nearly all rows have as the time between two others of their columns."""
    table = population.table
    ways = list(_ways(table))
    numbers = _numbers(table) if ways and not is_budget(table) else []
    if not numbers or population.account(None).used < LEAST_OF_RULE:
        return
    trees = {way.sql: expressions.scalar(way.sql, table, "--expect") for way in ways}
    trees |= {
        quoted_name(c.name): expressions.scalar(quoted_name(c.name), table, "--on") for c in numbers
    }
    seen = first_numbers(population, trees, MOST_SEEN)
    beyond = _beyond(population, [way for way in ways if way.sql.startswith("days")])
    for own in numbers:
        value = seen[quoted_name(own.name)]
        shares = [_share(value, seen[way.sql], own.scale) for way in ways]
        way = ways[int(np.argmax(shares))]
        if max(shares) < HOLDS:
            less = [*beyond, *_without_pause(ways, own, numbers, seen)]
            told = next((w for w, made in less if _share(value, made, own.scale) >= HOLDS), None)
            if told is None:
                continue
            way = told
        found = held(population, own, way.sql, way.told)
        if is_rule(found) and found.differing:
            yield found.proposal(own.name, table.name, "the time that they tell")


def _beyond(population: Population, ways: list[_Way]) -> list[tuple[_Way, np.ndarray]]:
    """Days beyond those that are free, by a number of the row or of what it names, or none; each with those of some rows."""
    none: tuple[Role, ...] = ("id", "amount", "debit", "credit", "price")
    free = named_numbers(population, 2, none)[:MOST_FREE] if ways else []
    asked = [*(way.sql for way in ways), *(number.sql for number in free)]
    trees = {text: expressions.scalar(text, population.table, "--expect") for text in asked}
    seen = first_numbers(population, trees, MOST_SEEN) if free else {}
    return [
        (
            _Way(f"greatest({way.sql} - {of.sql}, 0)", f"{way.told} beyond {of.told}, or nothing"),
            np.maximum(seen[way.sql] - seen[of.sql], 0),
        )
        for way in ways
        for of in free
    ]


def _without_pause(
    ways: list[_Way], own: Column, numbers: list[Column], seen: Mapping[str, np.ndarray]
) -> Iterator[tuple[_Way, np.ndarray]]:
    """Hours, or minutes, less a pause of minutes or hours that stands in the row."""
    for way in ways:
        if not way.sql.startswith("hours"):
            continue
        minutes = way.sql.endswith("* 60")
        for pause in numbers:
            if pause.name == own.name:
                continue
            name, value = quoted_name(pause.name), seen[quoted_name(pause.name)]
            for unit, part in (("", 1.0),) if minutes else ((" / 60", 1 / 60), ("", 1.0)):
                less = _Way(f"{way.sql} - {name}{unit}", f"{way.told} less {pause.name}")
                yield less, seen[way.sql] - value * part


def _ways(table: Table) -> Iterator[_Way]:
    """All ways in which the columns of a table tell a time."""
    times = [c for c in table.columns if c.type in ("date", "timestamp", "time")][:MOST_TIMES]
    for earlier, later in permutations(times, 2):
        kinds = {earlier.type, later.type}
        of_days = () if "time" in kinds else _OF_DAYS
        of_times = _OF_TIMES if len(kinds) == 1 and kinds != {"date"} else ()
        for way in (*of_days, *of_times):
            told = way.told.format(earlier=earlier.name, later=later.name)
            names = {"earlier": quoted_name(earlier.name), "later": quoted_name(later.name)}
            yield _Way(way.sql.format(**names), told)


def _numbers(table: Table) -> list[Column]:
    """Numbers that may be a time: no money, and no price."""
    none = {table.roles.get(role) for role in ("amount", "debit", "credit", "price", "id")}
    numbers = table.numbers
    return [c for c in numbers if c.name not in none][:MOST_NUMBERS]


def _share(own: np.ndarray, made: np.ndarray, scale: int) -> float:
    """Of the rows seen that have both, the share whose number is that time, if they are several."""
    known = ~(np.isnan(own) | np.isnan(made))
    if known.sum() < LEAST_OF_RULE or np.unique(own[known]).size < DIFFERENT:
        return 0.0
    return float(same_but_rounded(own, made, scale)[known].mean())
