"""Amounts of two parts that are told by what a row names, or by what that names in turn: a standing charge, and a rate for each
unit that was used."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import permutations, product
from typing import NamedTuple

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_of_both
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.screens.recompute.told_there import Way, are_several, ways
from sabueso.stats.additive import HOLDS

MOST_SEEN, MOST_THERE, MOST_OWN = 5_000, 6, 4
"""Rows by which it is judged, numbers there, and numbers of a row that are tried as how much was used."""
DIFFERENT = 10
"""Different amounts that there must be."""
HALF_A_CENT = 0.5000001
"""What an amount may be off, in its last decimal, where it was rounded."""


class _Parts(NamedTuple):
    """The names of a number there, of another there, and of the number of a row which that is for each of."""

    fixed: str
    rate: str
    used: str


def proposed_two_part(population: Population, amount: Column) -> Iterator[Proposal]:
    """The first amount of a row that is one number there and another times a number of the row."""
    table = population.table
    own = [amount, *further(table, amount)]
    none = {each.name for each in own} | {table.roles.get(r) for r in ("id", "document")}
    numbers = [c for c in table.columns if c.type == "number" and not c.is_place]
    used = [c for c in numbers if c.name not in none][:MOST_OWN]
    for way in ways(population) if used else ():
        there = [c for c in way.table.columns if c.type == "number" and not c.is_place]
        if len(there) < 2:
            continue
        named = {c.name: f"{way.sql}.{quoted_name(c.name)}" for c in there[:MOST_THERE]}
        trees = {text: expressions.scalar(text, table, "--expect") for text in named.values()}
        trees |= {c.name: sql.column(c.name) for c in (*own, *used)}
        key = {way.sql: expressions.scalar(way.sql, table, "--expect")}
        seen, codes = first_of_both(population, trees, [], MOST_SEEN, key)
        if not are_several(codes[way.sql].codes):
            continue
        values = {name: seen[text] for name, text in named.items()}
        for mine in own:
            parts = _parts(seen[mine.name], mine.scale, values, {c.name: seen[c.name] for c in used})  # fmt: skip
            if parts is None:
                continue
            found = held(population, mine, _expression(parts, named), _told(parts, way))
            if is_rule(found) and found.differing:
                yield found.proposal(mine.name, table.name, f"what {way.table.name} tells")
                return


def _parts(
    amounts: np.ndarray,
    scale: int,
    there: Mapping[str, np.ndarray],
    used: Mapping[str, np.ndarray],
) -> _Parts | None:
    """The parts that nearly all amounts are made of; no part of them is nothing throughout."""
    for (fixed, rate), name in product(permutations(there, 2), used):
        of_units = there[rate] * used[name]
        made = there[fixed] + of_units
        known = ~(np.isnan(amounts) | np.isnan(made))
        if known.sum() < LEAST_OF_RULE or np.unique(amounts[known]).size < DIFFERENT:
            continue
        if not (there[fixed][known].any() and of_units[known].any()):
            continue
        off = np.abs(amounts[known] - made[known]) * 10**scale
        if (off <= HALF_A_CENT).mean() >= HOLDS:
            return _Parts(fixed, rate, name)
    return None


def _expression(parts: _Parts, named: Mapping[str, str]) -> str:
    return f"{named[parts.fixed]} + {quoted_name(parts.used)} * {named[parts.rate]}"


def _told(parts: _Parts, way: Way) -> str:
    """``Standing charge of the Tariff of its Account and Volume times its Rate``."""
    return f"{parts.fixed} of {way.told} and {parts.used} times its {parts.rate}"
