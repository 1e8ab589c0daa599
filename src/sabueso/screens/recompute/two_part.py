"""Amounts of two parts, or three, that are told by what a row names, or by what that names in turn: a standing charge, and a rate
for each unit that was used, by day and by night."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import combinations, product

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

MOST_SEEN, MOST_THERE, MOST_OWN = 5_000, 6, 8
"""Rows by which it is judged, numbers there, and numbers of a row that are tried as how much was used."""
FIRST, MOST_OF_THREE = 100, 4
"""Rows by which parts are judged before the others, and numbers there up to which three are tried."""
DIFFERENT = 10
"""Different amounts that there must be."""
HALF_A_CENT = 0.5000001
"""What an amount may be off, in its last decimal, where it was rounded."""


_Part = tuple[str, str | None]
"""A number there, and the number of the row which that is for each of; none where it is once."""
_Parts = tuple[_Part, ...]


def proposed_two_part(population: Population, amount: Column) -> Iterator[Proposal]:
    """The first amount of a row that is one number there and another times a number of the row."""
    table = population.table
    price = None if "quantity" in table.roles else table.role("price")
    own = [amount, *([price] if price is not None else []), *further(table, amount)]
    none = {each.name for each in own} | {table.roles.get(r) for r in ("id", "document")}
    numbers = table.numbers
    used = [c for c in numbers if c.name not in none][:MOST_OWN]
    for way in ways(population) if used else ():
        there = way.table.numbers
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
    """The parts that nearly all amounts are made of, the fewest first; no part of them is nothing throughout."""
    for parts in _ways(list(there), list(used)):
        if not _are_made(amounts, scale, there, used, parts, FIRST):
            continue
        if _are_made(amounts, scale, there, used, parts, len(amounts)):
            return parts
    return None


def _ways(there: list[str], used: list[str]) -> Iterator[_Parts]:
    """Numbers there, each once or for each of another number of the row, one of them at least."""
    for many in (2, 3) if len(there) <= MOST_OF_THREE else (2,):
        for names in combinations(there, many):
            for each in product([None, *used], repeat=many):
                some = [name for name in each if name is not None]
                if some and len(set(some)) == len(some):
                    yield tuple(zip(names, each, strict=True))


def _are_made(
    amounts: np.ndarray,
    scale: int,
    there: Mapping[str, np.ndarray],
    used: Mapping[str, np.ndarray],
    parts: _Parts,
    rows: int,
) -> bool:
    each = [there[name][:rows] * (1 if of is None else used[of][:rows]) for name, of in parts]
    own, made = amounts[:rows], np.sum(each, axis=0)
    known = ~(np.isnan(own) | np.isnan(made))
    if known.sum() < LEAST_OF_RULE or np.unique(own[known]).size < DIFFERENT:
        return False
    if not all(part[known].any() for part in each):
        return False
    off = np.abs(own[known] - made[known]) * 10**scale
    return bool((off <= HALF_A_CENT).mean() >= HOLDS)


def _expression(parts: _Parts, named: Mapping[str, str]) -> str:
    return " + ".join(
        named[name] if of is None else f"{quoted_name(of)} * {named[name]}" for name, of in parts
    )


def _told(parts: _Parts, way: Way) -> str:
    """``Standing charge of the Tariff of its Account and Volume times its Rate``."""
    (first, of), *rest = parts
    begun = f"{first} of {way.told}" if of is None else f"{of} times {first} of {way.told}"
    more = (f"its {name}" if each is None else f"{each} times its {name}" for name, each in rest)
    return " and ".join((begun, *more))
