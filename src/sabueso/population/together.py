"""Accounts that several screens ask for of the same tables, taken in few passes."""

from __future__ import annotations

from collections.abc import Hashable, Iterable
from contextlib import suppress

from sabueso.base.errors import UserError
from sabueso.base.exact import exactly
from sabueso.population.accounting import Counting, counted_together
from sabueso.population.population import Population

MOST_TOGETHER = 6
"""Accounts of one pass: more have more combinations of reasons, and every one is a group."""


@exactly
def count_together(asked: Iterable[tuple[Population, Counting]]) -> None:
    """Count what will be asked for as :meth:`Population.account`, so that ``known`` has it then.

    Parameters
    ----------
    asked : iterable of (Population, Counting)
        Populations that share what is known; what one of them has already is not counted again.

    Where a condition is none, or the data do not allow a pass, none of its accounts is known, and whoever
    asks for the one that fails is told so.
    """
    by_table: dict[str, dict[Hashable, tuple[Population, Counting]]] = {}
    for population, counting in asked:
        with suppress(UserError):
            key = population.counted_as(counting)
            if key not in population.known:
                every = [*population.conditions(), *counting.reasons]
                own = by_table.setdefault(population.table.name, {})
                own[key] = population, Counting(counting.measure, every)
    for own in by_table.values():
        keys = list(own)
        for some in (keys[i : i + MOST_TOGETHER] for i in range(0, len(keys), MOST_TOGETHER)):
            population = own[some[0]][0]
            with suppress(UserError):
                found = counted_together(population, [own[key][1] for key in some])
                population.known.update(zip(some, found, strict=True))
