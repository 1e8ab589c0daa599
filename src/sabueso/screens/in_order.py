"""Some rows of a table in the order of their dates, with what came before each of the same owner."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import HEADING, Column, Table
from sabueso.screens.first_rows import codes_of

MOST_SEEN = 20_000
"""Rows, the earliest, that are looked at before anything is counted in all."""
MOST_OWNERS = 5
"""Columns whose values may each have an order of their own."""


def owners_of(table: Table) -> list[str]:
    """What rows may be in an order of: accounts, parties, what they name, and headings they stand under."""
    roles = (table.roles.get(role) for role in ("account", "party"))
    headings = (c.name for c in table.columns if c.name == HEADING)
    named = [name for name in (*roles, *headings, *sorted(table.links)) if name is not None]
    return list(dict.fromkeys(named))[:MOST_OWNERS]


def order_of(table: Table, *, timed: bool = False, newest_first: bool = False) -> list[Tree]:
    """By date, with its time of day where that is asked for, then as rows stand in the sources."""
    date, entered = table.dated(), table.role("entered")
    order = [] if date is None else [sql.ordered(sql.column(date.name))]
    if timed and entered is not None and entered.type == "time":
        order.append(sql.ordered(sql.column(entered.name)))
    return [*order, *(sql.ordered(p.this, descending=newest_first) for p in sql.place())]


class Way(NamedTuple):
    """How rows follow one another: of which owner, none of all, two of both together, and whether the newest comes first
    of a day."""

    owners: tuple[str, ...]
    newest_first: bool = False


class InOrder:
    """Numbers of the earliest rows in minor units, whose they are, and when."""

    def __init__(
        self, numbers: dict[str, np.ndarray], owners: dict[str, np.ndarray], day: np.ndarray
    ) -> None:
        self.numbers, self._owners, self._day = numbers, owners, day

    @classmethod
    def of(
        cls,
        population: Population,
        numbers: Sequence[Column],
        owners: Sequence[str],
        *,
        timed: bool = False,
    ) -> InOrder:
        table = population.table
        scale = max(c.scale for c in numbers)
        fields: dict[str, Tree] = {
            f"n{i}": sql.units(sql.cast(sql.column(c.name), f"DECIMAL(38,{scale})"), scale)
            for i, c in enumerate(numbers)
        }
        fields |= {f"o{i}": sql.cast(sql.column(name), "TEXT") for i, name in enumerate(owners)}
        date = table.dated()
        if date is not None:
            fields["day"] = sql.cast(sql.column(date.name), "DATE")
        select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
        select = population.used(select).order_by(*order_of(table, timed=timed))
        found = population.query(select.limit(MOST_SEEN))
        values = {
            c.name: np.array(
                [np.nan if v is None else float(v) for v in found.column(f"n{i}").to_pylist()]
            )
            for i, c in enumerate(numbers)
        }
        codes = {name: codes_of(found.column(f"o{i}")) for i, name in enumerate(owners)}
        # As they came, where nothing says when.
        day = np.zeros(found.num_rows, dtype=np.int64)
        if date is not None:
            day = np.array(found.column("day").cast(pa.int32()).fill_null(0)).astype(np.int64)
        if timed:
            day = np.arange(found.num_rows)
        return cls(values, codes, day)

    def ways(self, *, newest_first: bool = False) -> Iterator[Way]:
        """All ways to follow of one owner, the plainest first."""
        for owners in ((), *((name,) for name in self._owners)):
            yield Way(owners)
            if newest_first:
                yield Way(owners, True)

    def ways_of_two(self) -> Iterator[Way]:
        """All ways to follow of two owners together."""
        for pair in combinations(self._owners, 2):
            yield Way(pair)
            yield Way(pair, True)

    def steps(self, column: str, way: Way) -> tuple[np.ndarray, np.ndarray]:
        """From what was there before each row of its owner to its own, and which rows these are."""
        place, whose = np.arange(len(self._day)), self._whose(way)
        order = np.lexsort((-place if way.newest_first else place, self._day, whose))
        same = whose[order][1:] == whose[order][:-1]
        own, rows = self.numbers[column], order[1:][same]
        return own[rows] - own[order[:-1][same]], rows

    def sums(self, column: str, way: Way) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Each known number, whose it is, and what its owner's have come to by it; of one day what comes in comes
        first."""
        known = np.flatnonzero(~np.isnan(self.numbers[column]))
        own, whose = self.numbers[column][known], self._whose(way)[known]
        order = np.lexsort((known, own < 0, self._day[known], whose))
        own, whose = own[order], whose[order]
        so_far = np.cumsum(own)
        first = np.flatnonzero(np.r_[True, whose[1:] != whose[:-1]])[: len(own)]
        before = np.repeat(so_far[first] - own[first], np.diff(np.r_[first, len(own)]))
        return own, whose, so_far - before

    def _whose(self, way: Way) -> np.ndarray:
        """A number for the owners of each row together."""
        whose = np.zeros(len(self._day), dtype=np.int64)
        for owner in way.owners:
            codes = self._owners[owner]
            whose = whose * (int(codes.max(initial=0)) + 2) + codes + 1
        return whose
