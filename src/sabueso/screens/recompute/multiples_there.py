"""Amounts that are one multiple of a number of the row that they name, as they are proposed: copies at so much for each page of the
deed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import There, measures_there
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.recompute.one_rate import AS_GOOD, OneRate, one_rate
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_SEEN, MOST_AMOUNTS, MOST_THERE = 2_000, 6, 8
"""Rows in which a multiple is looked for before it is counted in all, amounts, and numbers there that they may be of."""


class MultipleThere(NamedTuple):
    """An amount that is a multiple of a number there, and its screen, where any row has another."""

    own: str
    proposal: Proposal | None


def multiples_there(
    population: Population, amounts: list[Column], rated: list[str]
) -> Iterator[MultipleThere]:
    """The amounts, but those ``rated`` otherwise, that no number of their own row tells as well, or as plainly."""
    table = population.table
    there = list(measures_there(population))[:MOST_THERE]
    mine = [c for c in amounts if c.name not in rated][:MOST_AMOUNTS]
    if not (mine and there) or population.account(None).used < LEAST_OF_RULE:
        return
    numbers = table.numbers
    trees: dict[str, Tree] = {quoted_name(c.name): sql.column(c.name) for c in (*numbers, *mine)}
    trees |= {each.sql: expressions.scalar(each.sql, table, "--expect") for each in there}
    seen = first_numbers(population, trees, MOST_SEEN)
    for own in mine:
        best = _best(own, {each.sql: each for each in there}, seen)
        others = {quoted_name(c.name) for c in numbers if c.name != own.name}
        if best is None or _is_told(best[1], own, others, seen):
            continue
        of, rate = best
        base = seen[of.sql]
        apart = (np.nan_to_num(base) == 0) & (np.nan_to_num(seen[quoted_name(own.name)]) != 0)
        expression = f"{f'nullif({of.sql}, 0)' if apart.any() else of.sql} * {rate.text}"
        found = held(population, own, expression, f"{rate.text} times {of.told}")
        if is_rule(found):
            made = found.proposal(own.name, table.name, f"what {of.table.name} makes it")
            yield MultipleThere(own.name, made if found.differing else None)


def _best(
    own: Column, there: Mapping[str, There], seen: Mapping[str, np.ndarray]
) -> tuple[There, OneRate] | None:
    """The number there of which most rows have one multiple, the plainest of equally good ones; none where one of them is the
    amount itself."""
    values = seen[quoted_name(own.name)]
    if any(same_but_rounded(values, seen[text], own.scale).mean() >= HOLDS for text in there):
        return None
    found = [
        (each, rate)
        for text, each in there.items()
        # What is an amount there too is compared with it, as a bill is with what was paid.
        if each.column.scale < own.scale
        and (rate := one_rate(values, seen[text], own.scale)) is not None
    ]
    return max(found, key=lambda pair: (round(pair[1].holds, 2), -len(pair[1].text)), default=None)


def _is_told(rate: OneRate, own: Column, others: set[str], seen: Mapping[str, np.ndarray]) -> bool:
    """Whether a number of the row itself tells the amount as well, by a multiple that is as plain."""
    values = seen[quoted_name(own.name)]
    own_rates = (one_rate(values, seen[name], own.scale, once=True) for name in others)
    return any(
        mine.holds >= rate.holds - AS_GOOD and len(mine.text) <= len(rate.text)
        for mine in own_rates
        if mine is not None
    )
