"""Texts that rows tell otherwise than what is named two links away, as they are proposed to be looked for: the account that was
paid, and the one of whom the decision that is paid is for."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import Coded, first_coded
from sabueso.screens.match.absent import SURELY, USUAL
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    LISTED,
    Proposal,
    is_budget,
    met_by,
    settings_of,
    texts_without,
)

MOST_SEEN, MOST_TEXTS = 5_000, 8
"""Rows by which columns are compared, and texts of either table."""
_NONE: tuple[Role, ...] = ("id", "document", "text", "currency")


class _Way(NamedTuple):
    """A row two links away: the columns that lead there, the table, and the key by which it is named."""

    path: tuple[str, str]
    other: Table
    key: str

    def to(self, name: str) -> str:
        """A column there, as SQL."""
        return ".".join(map(quoted_name, (self.path[0], self.path[1], name)))


def proposed_further(population: Population) -> Iterator[Proposal]:
    """Texts of a row that nearly all are those of what is named two links away."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    texts = texts_without(table, _NONE)[:MOST_TEXTS]
    for way in _ways(population) if texts else ():
        # What names a row there itself may name another one than the row between does.
        linked = [column for column, link in table.links.items() if link.table.name == way.other.name]  # fmt: skip
        own = [name for name in texts if name in linked] if linked else texts
        theirs = [n for n in texts_without(way.other, _NONE) if n != way.key][:MOST_TEXTS]
        if not own or not theirs:
            continue
        trees = {way.to(name): expressions.scalar(way.to(name), table) for name in theirs}
        seen = first_coded(population, own, MOST_SEEN, trees)
        for mine in own:
            for name in theirs:
                named = bool(linked) or _name_alike(table, mine, way.other, name)
                if named and _are_alike(seen[mine], seen[way.to(name)]):
                    yield from _compared(population, way, mine, name)


def _name_alike(table: Table, mine: str, other: Table, name: str) -> bool:
    """Whether a column that names rows of a table is beside one that names rows of the same; of others nothing is asked."""
    own, there = table.links.get(mine), other.links.get(name)
    return own is None or (there is not None and there.table.name == own.table.name)


def _ways(population: Population) -> Iterator[_Way]:
    """Rows two links away."""
    table = population.table
    for column, link in sorted(table.links.items()):
        to = population.tables.get(link.table.name, link.table)
        for further, of in sorted(to.links.items()):
            other = population.tables.get(of.table.name, of.table)
            if other.name not in (table.name, to.name):
                yield _Way((column, further), other, of.key)


def _are_alike(mine: Coded, theirs: Coded) -> bool:
    """Whether nearly all rows that have both have the same, and hardly one thing all of them."""
    known = (mine.codes >= 0) & (theirs.codes >= 0)
    if known.sum() < LEAST_OF_RULE or 2 * known.sum() <= len(known):
        return False
    if np.bincount(mine.codes[known]).max() >= USUAL * known.sum():
        return False
    places = {value: place for place, value in enumerate(theirs.values)}
    as_theirs = np.array([places.get(value, -2) for value in mine.values])
    return bool((as_theirs[mine.codes[known]] == theirs.codes[known]).mean() >= USUAL)


def _compared(population: Population, way: _Way, own: str, name: str) -> Iterator[Proposal]:
    table = population.table
    key: Tree = expressions.scalar(way.to(way.key), table, "--on")
    mine, theirs = {"k0": key, "k1": sql.column(own)}, {"k0": sql.column(way.key), "k1": sql.column(name)}  # fmt: skip
    n, found = met_by(population, way.other, mine, theirs)
    if not n or not 0 < n - found <= max(LISTED if found >= USUAL * n else 0, (1 - SURELY) * n):
        return
    led = ".".join(map(quoted_name, way.path))
    on, at = [led, quoted_name(own)], [quoted_name(way.key), quoted_name(name)]
    yield Proposal(
        f"{own} of {table.name} other than in {way.other.name}",
        settings_of(other=way.other.name, on=on, other_on=[] if at == on else at),
        f"Rows that tell another {name} than {way.other.name} does by the {way.path[1]} of their {way.path[0]}.",
        f"{n - found:,} of {n:,} rows are not found there as they are",
        knows=own,
    )
