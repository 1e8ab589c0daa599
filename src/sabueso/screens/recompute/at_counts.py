"""Numbers of a row that are what it counts times a number of what it names, as they are proposed: the days of somebody at what a
day pays, hours beyond these at a quarter of that, the days that packs of so many last."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import There, numbers_there
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.one_rate import one_rate
from sabueso.screens.recompute.priced import held, is_rule
from sabueso.screens.recompute.rated import mostly_one
from sabueso.screens.recompute.ties import in_three

MOST_SEEN, MOST_AMOUNTS, MOST_COUNTS, MOST_THERE = 2_000, 8, 3, 6
"""Rows in which it is looked for before it is counted in all, and columns of each kind that are tried."""


def proposed_at_counts(
    population: Population, amount: Column, made: Collection[str]
) -> Iterator[Proposal]:
    """Amounts, and whole numbers, that nearly all rows have so; none of those that are ``made`` otherwise."""
    table = population.table
    counts = _counts(table)
    there = [each for each in numbers_there(population) if _may_be(population, each)][:MOST_THERE]
    if not counts or not there or population.account(None).used < LEAST_OF_RULE:
        return
    amounts = [amount, *further(table, amount, MOST_AMOUNTS)]
    own_numbers = [c for c in dict.fromkeys((*amounts, *counts)) if c.name not in made]
    every = dict.fromkeys((*own_numbers, *counts))
    trees: dict[str, Tree] = {quoted_name(c.name): sql.column(c.name) for c in every}
    trees |= {each.sql: expressions.scalar(each.sql, table, "--expect") for each in there}
    seen = first_numbers(population, trees, MOST_SEEN)
    there = [each for each in there if not mostly_one(seen[each.sql])]
    for own in own_numbers:
        for of, number in ((of, number) for of in counts for number in there if of != own):
            base = seen[quoted_name(of.name)] * seen[number.sql]
            rate = one_rate(seen[quoted_name(own.name)], base, own.scale, once=True)
            if rate is None or (own in counts and rate.text != "1"):
                continue
            times = "" if rate.text == "1" else f" * {rate.text}"
            told = f"{of.name} times {number.told}"
            told = told if rate.text == "1" else f"{rate.text} times {told}"
            found = held(population, own, f"{quoted_name(of.name)} * {number.sql}{times}", told)
            if not is_rule(found):
                continue
            if found.differing:
                yield found.proposal(own.name, table.name, "what these make it")
            break


def _counts(table: Table) -> list[Column]:
    """Whole numbers of a row without a role, and its quantity."""
    taken = {name for role, name in table.roles.items() if role != "quantity"} | set(table.links)
    numbers = table.numbers
    whole = [c for c in numbers if c.scale == 0 and c.name not in taken]
    return [] if is_budget(table) else whole[:MOST_COUNTS]


def _may_be(population: Population, there: There) -> bool:
    """Whether a number may be told of what is named: of an order price and quantity are compared by a match."""
    roles = there.table.roles
    own = there.column.name in (roles.get("id"), roles.get("quantity"))
    return not own and not in_three(population, there.table)
