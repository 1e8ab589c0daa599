"""Amounts that nearly all rows have as the row tells that they name, as they are proposed: the rent that is charged and the
one of the contract."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_of_both
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.screens.recompute.ties import in_three
from sabueso.stats.additive import HOLDS

MOST_SEEN, MOST_THERE = 5_000, 5
"""Rows by which it is judged, and numbers of the other table that are tried."""
DIFFERENT = 5
"""Different amounts that there must be."""
OF_EACH = 1.5
"""Rows in the mean that name one row, from which it is told for several: of one each sums are compared."""


def proposed_told_there(population: Population, amount: Column) -> Iterator[Proposal]:
    """Amounts that are those of the row that several name."""
    table = population.table
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        theirs = [] if other.name == table.name else _numbers(other, amount)
        if not theirs or in_three(population, other):
            continue
        own = [amount, *further(table, amount)]
        named = {c.name: ".".join(map(quoted_name, (column, c.name))) for c in theirs}
        asked = [*(quoted_name(c.name) for c in own), *named.values()]
        trees = {text: expressions.scalar(text, table, "--expect") for text in asked}
        numbers, codes = first_of_both(population, trees, [column], MOST_SEEN)
        if not _are_several(codes[column].codes):
            continue
        for mine in own:
            values = numbers[quoted_name(mine.name)]
            shares = {name: _same(values, numbers[text]) for name, text in named.items()}
            best = max(shares, key=lambda name: shares[name])
            if shares[best] < HOLDS:
                continue
            found = held(population, mine, named[best], f"{best} of its {column}")
            if is_rule(found) and found.differing:
                yield found.proposal(mine.name, table.name, f"what {other.name} tells")
                break


def _numbers(other: Table, amount: Column) -> list[Column]:
    """Numbers of another table that may be an amount: with as many decimals, and no price or quantity, which are
    compared by a match."""
    none = {other.roles.get(role) for role in ("price", "quantity", "id")}
    alike = [c for c in other.columns if c.type == "number" and not c.is_place]
    return [c for c in alike if c.name not in none and c.scale == amount.scale][:MOST_THERE]


def _are_several(codes: np.ndarray) -> bool:
    known = codes[codes >= 0]
    return len(known) >= max(LEAST_OF_RULE, OF_EACH * len(np.unique(known)))


def _same(mine: np.ndarray, theirs: np.ndarray) -> float:
    """Of the rows that have both, the share in which they are the same, if they are several."""
    known = ~(np.isnan(mine) | np.isnan(theirs))
    if known.sum() < LEAST_OF_RULE or np.unique(mine[known]).size < DIFFERENT:
        return 0.0
    return float((mine == theirs)[known].mean())
