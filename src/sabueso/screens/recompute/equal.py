"""Two numbers of a row that nearly always are one and the same, such as a deposit and what was given back of it."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

import numpy as np

from sabueso.base.words import have_in_common
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget
from sabueso.screens.recompute.priced import held, is_rule

MOST_SEEN, MOST_COLUMNS, MOST_RULES = 5_000, 16, 2
"""Rows in which it is looked for before it is counted in all, columns that are compared, and rules of one table."""
SAME, DIFFERENT = 0.98, 4
"""Share of the rows with either that must have both alike, and different numbers that there are at least."""


def proposed_equal(population: Population) -> Iterator[Proposal]:
    """Pairs of columns, of one word or both of amounts, that hardly any row has otherwise."""
    table = population.table
    numbers = table.numbers
    none = {table.roles.get("id"), table.roles.get("price")}
    asked = [c for c in numbers if c.name not in none][:MOST_COLUMNS]
    if len(asked) < 2 or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    seen = first_numbers(population, {quoted_name(c.name): sql.column(c.name) for c in asked}, MOST_SEEN)  # fmt: skip
    told = 0
    for one, other in combinations(asked, 2):
        if not _may_be_one(one, other) or told == MOST_RULES:
            continue
        mine, theirs = seen[quoted_name(one.name)], seen[quoted_name(other.name)]
        known = ~(np.isnan(mine) | np.isnan(theirs)) & ((mine != 0) | (theirs != 0))
        if known.sum() < max(LEAST_OF_RULE, len(mine) // 2) or len(np.unique(mine[known])) < DIFFERENT:  # fmt: skip
            continue
        if not (mine == theirs)[known].mean() >= SAME:
            continue
        found = held(population, other, quoted_name(one.name), one.name)
        if is_rule(found) and found.differing:
            told += 1
            yield found.proposal(other.name, table.name, f"its {one.name}")


def _may_be_one(one: Column, other: Column) -> bool:
    """Whether two columns are called alike, or are of amounts both."""
    return have_in_common(one.name, other.name) or min(one.scale, other.scale) >= 2
