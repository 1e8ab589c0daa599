"""Prices that are those of what is named, less a discount of the row, as they are proposed: what was sold, and what it was to be
sold for."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import numbers_there
from sabueso.screens.proposal import DISCOUNT, LEAST_OF_RULE, Proposal, is_budget
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.made_of import less_hundredths
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.screens.recompute.ties import in_three
from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_SEEN, MOST_DISCOUNTS, MOST_THERE, SOME = 2_000, 2, 6, 10
"""Rows in which it is looked for before it is counted in all, columns that are tried, and rows that must have a discount."""


def proposed_listed(population: Population) -> Iterator[Proposal]:
    """The price, or an amount, that nearly all rows have so, with a discount and without."""
    table = population.table
    numbers = table.numbers
    discounts = [c for c in numbers if DISCOUNT.search(c.name)][:MOST_DISCOUNTS]
    there = [each for each in numbers_there(population) if not in_three(population, each.table)]
    there = [each for each in there if not DISCOUNT.search(each.column.name)][:MOST_THERE]
    amount, price = table.role("amount"), table.role("price")
    own = [c for c in (price, amount) if c is not None]
    own += further(table, amount) if amount is not None else []
    own = [c for c in own if c not in discounts]
    if not (discounts and there and own) or is_budget(table):
        return
    if population.account(None).used < LEAST_OF_RULE:
        return
    trees: dict[str, Tree] = {quoted_name(c.name): sql.column(c.name) for c in (*own, *discounts)}
    trees |= {each.sql: expressions.scalar(each.sql, table, "--expect") for each in there}
    seen = first_numbers(population, trees, MOST_SEEN)
    for mine in own:
        for less, number in ((less, number) for less in discounts for number in there):
            percent = np.nan_to_num(seen[quoted_name(less.name)])
            made = seen[number.sql] * (1 - percent / 100)
            if not _are_made(seen[quoted_name(mine.name)], made, percent, mine.scale):
                continue
            expression = number.sql + less_hundredths(less.name)
            word = "" if "%" in less.name else " per cent"
            found = held(population, mine, expression, f"{number.told} less {less.name}{word}")
            if is_rule(found):
                if found.differing:
                    yield found.proposal(
                        mine.name, table.name, "what the list and the discount make it"
                    )
                return


def _are_made(own: np.ndarray, made: np.ndarray, percent: np.ndarray, scale: int) -> bool:
    """Whether nearly all are so, and of those with a discount nearly all."""
    known = ~(np.isnan(own) | np.isnan(made))
    some = known & (percent != 0)
    if known.sum() < LEAST_OF_RULE or some.sum() < SOME:
        return False
    same = same_but_rounded(own, made, scale)
    return bool(min(same[known].mean(), same[some].mean()) >= HOLDS)
