"""Days that lie as far apart as a number says: when a bill is due, by the terms of whoever owes it; and rows of which the
later day is later than that."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import permutations

import numpy as np

from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Role
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_numbers import named_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, few_of, is_budget, settings_of
from sabueso.screens.range.days import days_from

MOST_SEEN = 5_000
"""Rows by which it is judged."""
MOST_DAYS, MOST_NUMBERS = 4, 12
"""Columns of days, and of numbers, that are tried."""
SAME = 0.9
"""Share of the rows that lie apart by just so many days."""


def proposed_terms(population: Population) -> Iterator[Proposal]:
    """Two days of a row with the number that says how far apart they are, its own or that of a row that it names."""
    table = population.table
    days = [c.name for c in table.columns if c.type in ("date", "timestamp")][:MOST_DAYS]
    if len(days) < 2 or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    none: tuple[Role, ...] = ("id", "document", "amount", "debit", "credit")
    numbers = {n.sql: n.told for n in named_numbers(population, 1, none)[:MOST_NUMBERS]}
    if not numbers:
        return
    pairs = list(permutations(map(quoted_name, days), 2))
    trees: dict[str, Tree] = {f"days {a} {b}": days_from(a, b, table) for a, b in pairs}
    trees |= {text: expressions.scalar(text, table, "--most-days-of") for text in numbers}
    seen = first_numbers(population, trees, MOST_SEEN)
    for a, b in pairs:
        for text, called in numbers.items():
            apart, said = seen[f"days {a} {b}"], seen[text]
            known = ~(np.isnan(apart) | np.isnan(said))
            n, later = int(known.sum()), int((apart > said)[known].sum())
            same = int((apart == said)[known].sum())
            if n < LEAST_OF_RULE or same < SAME * n or not 0 < later <= few_of(n):
                continue
            if not apart[known].any():
                continue
            first, second = a.replace('"', ""), b.replace('"', "")
            yield Proposal(
                f"{second} of {table.name} later than {called} after {first}",
                settings_of(in_order=[a, b], most_days_of=text),
                "Later than what nearly all others keep to.",
                f"of {n:,} rows that were looked at {later:,} are later, and {same:,} just so "
                "many days after it",
            )
