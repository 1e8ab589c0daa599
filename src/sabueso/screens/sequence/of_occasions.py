"""Occasions, such as the terms of a school year, of which hardly any of those who always have a row has none, as they are
proposed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import chain, combinations
from typing import TYPE_CHECKING

import numpy as np

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.moments import days_between
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Table
from sabueso.screens.first_rows import first_of_both
from sabueso.screens.in_order import owners_of
from sabueso.screens.proposal import Proposal, settings_of, texts_without
from sabueso.screens.sequence.monthly import MISSING, MOST_SEEN, NOBODYS, nearly_all
from sabueso.screens.sequence.settings import SequenceSettings

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

FEWEST, MOST, ROWS = 4, 60, 5
"""Occasions that there are at least and at most, and rows that each has on average at least."""
APART = 0.9
"""Share of the occasions that must be over before the next one begins."""
MOST_COLUMNS, MOST_OWNERS = 6, 4


def proposed_occasions(screen: Screen, population: Population) -> Iterator[Proposal]:
    """The first columns, one or two, that name occasions one after another, of which nearly each of some values has all."""
    table, date = population.table, population.table.dated()
    owners = owners_of(table)[:MOST_OWNERS]
    names = _may_name(table, owners)
    if date is None or not owners or not names:
        return
    origin = sql.cast(sql.text("1970-01-01"), "DATE")
    days: dict[str, Tree] = {"day": days_between(sql.column(date.name), origin)}
    also: dict[str, Tree] = {name: sql.column(name) for name in (*owners, *names)}
    numbers, coded = first_of_both(population, days, (), MOST_SEEN, also)
    few = {n: coded[n].codes for n in names if 1 < len(coded[n].values) <= MOST}
    for columns in _ways(list(few)[:MOST_COLUMNS]):
        order = _in_order([few[name] for name in columns], numbers["day"])
        if order is None:
            continue
        for owner in owners:
            if not nearly_all(order, coded[owner].codes, FEWEST):
                continue
            settings = SequenceSettings(
                occasions=[quoted_name(name) for name in columns], by=[quoted_name(owner)]
            )
            found = screen.run(population, settings)
            if found.subjects and 0 < len(found.flags) <= MISSING * found.subjects:
                told = " and ".join(columns)
                yield Proposal(
                    f"{told} without a row by {owner} of {table.name}",
                    settings_of(occasions=settings.occasions, by=settings.by),
                    "An occasion that was left out, or whose row is not here.",
                    f"of {owner}, {found.subjects:,} occasions have a row, and {len(found.flags):,} between them none",
                )
                return


def _may_name(table: Table, owners: Sequence[str]) -> list[str]:
    """Columns that may name occasions: texts and whole numbers that say nothing else."""
    texts = texts_without(table, (*NOBODYS, "party", "account"))
    whole = [c.name for c in table.columns if c.type == "number" and not c.scale and not c.is_place]
    taken = {*owners, *table.roles.values(), *table.links}
    return [name for name in (*texts, *whole) if name not in taken]


def _ways(names: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """Each alone, then two together."""
    yield from chain(((name,) for name in names), combinations(names, 2))


def _in_order(codes: Sequence[np.ndarray], days: np.ndarray) -> np.ndarray | None:
    """For each row the place of its occasion among all, in the order of their first days; none where they are not one
    after another."""
    known = ~np.isnan(days)
    together = np.zeros(len(days), dtype=np.int64)
    for own in codes:
        known &= own >= 0
        together = together * (int(own.max(initial=0)) + 1) + own
    if not known.any():
        return None
    _, place = np.unique(together[known], return_inverse=True)
    many = int(place.max()) + 1
    if not FEWEST <= many <= MOST or len(place) < ROWS * many:
        return None
    first, last = np.full(many, np.inf), np.full(many, -np.inf)
    np.minimum.at(first, place, days[known])
    np.maximum.at(last, place, days[known])
    order = np.argsort(first, kind="stable")
    if np.mean(last[order][:-1] < first[order][1:]) < APART:
        return None
    number = np.empty(many)
    number[order] = np.arange(many)
    found = np.full(len(days), np.nan)
    found[known] = number[place]
    return found
