"""Discounts for paying early that were taken late, as they are proposed to be looked for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import permutations

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.report.numbers import many
from sabueso.screens.proposal import DISCOUNT, LEAST_OF_RULE, Proposal, is_budget, settings_of
from sabueso.screens.range.days import days_from
from sabueso.screens.range.late import late_of

MOST_LATE, FEW_LATE = 0.05, 3
"""Share of the discounts that may be late, and how many may be however few there are."""
LATER = 0.5
"""Share of the rows without a discount that must be later than those with one: then it is for the days."""
MOST_COLUMNS, MOST_DAYS = 2, 4


def proposed_discounts(population: Population) -> Iterator[Proposal]:
    """Discounts that nearly all are taken within some days, after which most rows have none."""
    table = population.table
    if is_budget(table) or "amount" not in table.roles:
        return
    days = [c.name for c in table.columns if c.type in ("date", "timestamp")][:MOST_DAYS]
    named = [c.name for c in table.columns if c.type == "number" and DISCOUNT.search(c.name)]
    for discount in named[:MOST_COLUMNS] if len(days) > 1 else ():
        where = f"{quoted_name(discount)} <> 0"
        some = replace(population, where=where)
        n = some.account(None).used
        if n < LEAST_OF_RULE:
            continue
        for earlier, later in permutations(days, 2):
            order = quoted_name(earlier), quoted_name(later)
            late = late_of(some, order, max(FEW_LATE, int(MOST_LATE * n)))
            if late is None or not _are_later(population, discount, order, late.within):
                continue
            yield Proposal(
                f"{discount} of {table.name} long after {earlier}",
                settings_of(in_order=list(order), most_days=late.within, where=where),
                "A discount for paying early that was taken late.",
                f"{n - late.rows:,} of {n:,} are taken within {many(late.within, 'day')}, {late.rows:,} at least "
                f"{late.first:,} days after {earlier}",
            )
            return


def _are_later(population: Population, discount: str, order: tuple[str, str], within: int) -> bool:
    """Whether most rows without a discount are later."""
    value = exp.Coalesce(this=sql.column(discount), expressions=[sql.integer(0)])
    without = exp.EQ(this=value, expression=sql.integer(0))
    days = days_from(*order, population.table)
    late = exp.GT(this=days.copy(), expression=sql.integer(within))
    known = exp.Not(this=sql.is_missing(exp.paren(days)))
    asked = {"n": exp.and_(without, known), "late": exp.and_(without.copy(), late)}
    fields = [exp.alias_(sql.only(sql.count(), tree), name) for name, tree in asked.items()]
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    return int(row["late"]) >= LATER * int(row["n"]) > 0
