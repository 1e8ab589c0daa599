"""Days that nearly always follow one another, in a row or in the row that it names, as they are proposed."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.range.days import days_from

MOST_OUT = 0.01
"""Share of rows out of order up to which the order is the rule, and to be out of it the exception."""
FEW_OUT = 3
"""Rows that may be out of order however few there are."""
LEAST_LATER = 20
"""How many rows are in order, days apart, for each that is out of it: equal days have none."""
MOST_DAYS = 5
"""Columns of days of one table that are compared."""


def proposed_orders(population: Population) -> Iterator[Proposal]:
    """Pairs of days of which one is hardly ever before the other."""
    table = population.table
    pairs = [] if is_budget(table) else [*_own_pairs(table), *_linked_pairs(population)]
    if not pairs:
        return
    fields = []
    for place, pair in enumerate(pairs):
        days, zero = days_from(pair.first, pair.second, table), sql.integer(0)
        asked = {
            "before": sql.only(sql.count(), exp.LT(this=days, expression=zero)),
            "after": sql.only(sql.count(), exp.GT(this=days.copy(), expression=zero.copy())),
            "both": exp.Count(this=days.copy()),
        }
        fields += [exp.alias_(tree, f"{name}{place}") for name, tree in asked.items()]
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    for place, pair in enumerate(pairs):
        before, after, both = (
            int(row[f"{name}{place}"] or 0) for name in ("before", "after", "both")
        )
        first, second, both_ways = pair
        order, out = ((first, second), before) if before < after else ((second, first), after)
        usual = LEAST_LATER * out <= max(before, after) and out <= max(FEW_OUT, MOST_OUT * both)
        if both < LEAST_ROWS or not out or not usual:
            continue
        # Of two tables that each name the other's rows, those are told whose day comes later.
        if both_ways and order[1] == first:
            continue
        earlier, later = (text.replace('"', "") for text in order)
        yield Proposal(
            f"{later} of {table.name} before {earlier}",
            settings_of(in_order=list(order)),
            "What happened before it could have.",
            f"{out:,} of {both:,} rows are so, and {max(before, after):,} the other way round",
        )


class _Pair(NamedTuple):
    """Two days as expressions; of a linked table's the first is its own, and ``both_ways`` says whether that table's
    rows name these as well."""

    first: str
    second: str
    both_ways: bool = False


def _own_pairs(table: Table) -> Iterator[_Pair]:
    """Columns of days that a row has both of, but those of which the plan says the order."""
    declared = {
        frozenset((str(rule.get("on")), str(rule.get("than"))))
        for rule in table.rules
        if rule.get("rule") == "not after"
    }
    for one, two in combinations(_days(table), 2):
        if frozenset((one, two)) not in declared:
            yield _Pair(quoted_name(one), quoted_name(two))


def _linked_pairs(population: Population) -> Iterator[_Pair]:
    """The day of a row with those of the rows that it names, but when a payee was known, which is asked of each."""
    table = population.table
    when, party = table.dated(), table.role("party")
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        of_payee = party is not None and column == party.name and "amount" in table.roles
        if when is None or of_payee or other.name == table.name:
            continue
        back = any(each.table.name == table.name for each in other.links.values())
        for day in _days(other):
            named = ".".join(map(quoted_name, (column, day)))
            yield _Pair(named, quoted_name(when.name), back)


def _days(table: Table) -> list[str]:
    return [c.name for c in table.columns if c.type in ("date", "timestamp")][:MOST_DAYS]
