"""Numbers that say how many rows of another table there are, as they are proposed: the bids that a tender received."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.recompute.amounts import among_both, tied_by
from sabueso.screens.recompute.totals import Sides, agreement
from sabueso.stats.additive import HOLDS

NEAR = 0.1
"""Share by which the sum of what is stated may be off the number of rows, for each of them to be looked at."""
COMMONEST = 0.8
"""Share of the rows with one number from which it is what there are by the way."""
MOST_SEEN = 5_000


def proposed_counts(
    population: Population, column: str, other: Table, key: str
) -> Iterator[Proposal]:
    """What another table says of how many rows name each of its own, where nearly all do."""
    rows, beside = population.account(None).used, population.beside(other)
    numbers = [c for c in other.columns if c.type == "number" and c.scale == 0 and not c.is_place]
    numbers = [c for c in numbers if c.name not in (key, other.roles.get("id"))]
    if rows < LEAST_OF_RULE or not numbers:
        return
    sums = _sums(beside, numbers)
    near = [c for c in numbers if abs(sums[c.name] - rows) <= NEAR * rows]
    if not near:
        return
    seen = first_numbers(beside, {c.name: sql.column(c.name) for c in near}, MOST_SEEN)
    for each in near:
        values = seen[each.name][~np.isnan(seen[each.name])]
        if not len(values) or np.unique(values, return_counts=True)[1].max() > COMMONEST * len(
            values
        ):
            continue
        by, other_on = [quoted_name(column)], [quoted_name(key)]
        sides = Sides(by, "count(*)", f"sum({quoted_name(each.name)})", other.name, other_on)
        n, both, same = agreement(population, sides)
        # A row that nobody names has none, and may say so.
        among = among_both(n, both)
        of = both if among else n
        if both < LEAST_OF_RULE or same < HOLDS * of or same == of:
            continue
        yield Proposal(
            f"rows by {column} of {population.table.name} and {each.name} of {other.name}",
            tied_by(sides, among),
            f"{other.name} says how many rows there are, and there are others.",
            f"both say the same of {same:,} of {of:,}",
        )  # fmt: skip
        return


def _sums(population: Population, numbers: list[Column]) -> dict[str, int]:
    fields = (exp.alias_(sql.exact_sum(sql.column(c.name)), f"s{i}") for i, c in enumerate(numbers))
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    return {c.name: int(row[f"s{i}"] or 0) for i, c in enumerate(numbers)}
