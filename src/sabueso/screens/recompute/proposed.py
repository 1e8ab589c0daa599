"""What is proposed to be computed again: what holds for nearly every row of a table, and the terms of the plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.named_columns import measures_of
from sabueso.screens.one_way import one_way
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of
from sabueso.screens.recompute.accrued import proposed_accrued
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.annuities import proposed_annuities
from sabueso.screens.recompute.at_counts import proposed_at_counts
from sabueso.screens.recompute.by_brackets import bracketed, by_brackets
from sabueso.screens.recompute.by_kind import proposed_by_kind
from sabueso.screens.recompute.daily import proposed_daily
from sabueso.screens.recompute.equal import proposed_equal
from sabueso.screens.recompute.fixed_and_each import fixed_and_each
from sabueso.screens.recompute.listed import proposed_listed
from sabueso.screens.recompute.multiples import proposed_one_rate
from sabueso.screens.recompute.multiples_there import multiples_there
from sabueso.screens.recompute.priced import Priced, are_few, held, is_rule, priced
from sabueso.screens.recompute.rated import proposed_rates
from sabueso.screens.recompute.running import proposed_meters, proposed_running
from sabueso.screens.recompute.spans import proposed_spans
from sabueso.screens.recompute.sums import sums_of
from sabueso.screens.recompute.sums_of_kinds import Part, sums_by_kind
from sabueso.screens.recompute.ties import proposed_ties
from sabueso.screens.recompute.told_there import proposed_told_there
from sabueso.screens.recompute.two_part import proposed_two_part
from sabueso.screens.recompute.up_to import proposed_up_to
from sabueso.screens.recompute.waged import waged

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_AMOUNTS, MOST_MEASURES = 8, 8
"""Further amounts that may be a multiple of another number, and numbers of a table without amounts."""
MOST_WAGES = 4
"""Further amounts that may be a rate times hours where the table's own is none."""


def proposed_recomputations(
    population: Population, described: Description | None
) -> Iterator[Proposal]:
    """Instalments by the terms of the plan, products, balances that run, and what is made of others by adding up."""
    table = population.table
    for name in loans_of(table):
        yield Proposal(
            f"instalments of {table.name} by the terms of {name}",
            settings_of(what="instalments", terms=name),
            "Instalments that are not those of the terms.",
            f"the terms of {name} stand in the plan",
        )
    yield from proposed_ties(population)
    yield from proposed_daily(population)
    yield from proposed_up_to(population)
    population = one_way(population)
    table = population.table
    yield from proposed_spans(population)
    yield from proposed_meters(population)
    yield from proposed_equal(population)
    yield from proposed_annuities(population)
    quantity, price, amount = (table.role(r) for r in ("quantity", "price", "amount"))
    if amount is None:
        finest = _finest(table)
        yield from _sums(population, finest)
        by_rate = [] if finest is None else list(proposed_rates(population, finest, None))
        yield from by_rate
        rated = [str(each.settings["on"]) for each in by_rate]
        yield from proposed_one_rate(population, measures_of(table)[:MOST_MEASURES], None, rated)
    if amount is None or described is None:
        return
    yield from proposed_running(population, amount)
    summed = list(_sums(population, amount))
    yield from summed
    yield from _of_what_is_named(population, amount)
    yield from proposed_told_there(population, amount)
    yield from proposed_two_part(population, amount)
    yield from proposed_accrued(population, amount)
    yield from proposed_listed(population)
    found = None
    if price is not None:
        found = priced(population, quantity, price, amount)
        found = found or waged(population, price, amount)
    by_rate = list(proposed_rates(population, amount, found))
    yield from by_rate
    rated = [str(each.settings["on"]) for each in by_rate]
    at_counts = list(proposed_at_counts(population, amount, rated))
    yield from at_counts
    yield from _of_other_numbers(population, amount, found, [*by_rate, *at_counts], summed)
    if found is not None:
        yield Proposal(
            f"{found.told} of {table.name}",
            settings_of(what="product", expect=found.expression),
            "Amounts that are not their quantity times their price."
            if quantity is not None
            else "Amounts that are not what their price comes to.",
            found.because,
        )
    elif price is not None:
        # The wage before what is added to it and taken off.
        for own in further(table, amount, MOST_WAGES):
            wage = waged(population, price, own)
            if wage is not None and wage.differing:
                yield wage.proposal(own.name, table.name, "what the hours make it")
                return


def _of_other_numbers(
    population: Population,
    amount: Column,
    found: Priced | None,
    rates: Sequence[Proposal],
    summed: Sequence[Proposal],
) -> Iterator[Proposal]:
    """Amounts that other numbers make, one way or another: each is told by the first that does. ``found`` is the way by its
    price, and ``rates`` and ``summed`` are what is proposed of them before."""
    table = population.table
    amounts = [amount, *further(table, amount, MOST_AMOUNTS)]
    rated = [str(each.settings["on"]) for each in rates]
    in_brackets = list(by_brackets(population, amounts, rated))
    by_limit = [bracketed(table.name, *each) for each in in_brackets if each[1].differing]
    yield from by_limit
    ways = [way for way, _ in in_brackets]
    there = list(multiples_there(population, amounts, [*rated, *(w.own.name for w in ways)]))
    by_named = [each.proposal for each in there if each.proposal is not None]
    yield from by_named
    known_there = {each.own for each in there}
    by_multiple = list(proposed_one_rate(population, amounts, found, rated, ways, known_there))
    yield from by_multiple
    told = _told_by((*rates, *by_limit, *by_named, *by_multiple, *summed))
    by_kind = list(proposed_by_kind(population, amount, found, told))
    yield from by_kind
    # What holds for every row is told too, though there is nothing to ask.
    exact = dict.fromkeys(known_there, "")
    exact |= {way.own.name: quoted_name(way.of.name) for way in ways}
    told = exact | told | _told_by(by_kind) | ({} if found is None else {amount.name: ""})
    sides = [f"{quoted_name(str(e.settings['on']))} = {e.settings['expect']}" for e in summed]
    yield from fixed_and_each(population, amounts, told, sides)


def _told_by(proposals: Sequence[Proposal]) -> dict[str, str]:
    """The amounts that screens are of, each with the SQL of what it should be."""
    return {str(p.settings["on"]): str(p.settings.get("expect", "")) for p in proposals}


def _finest(table: Table) -> Column | None:
    """The number with the most decimals of a table without amounts, such as a count of what lies in stock."""
    numbers = table.numbers
    return max(numbers, key=lambda c: c.scale, default=None)


def _sums(population: Population, measure: Column | None) -> Iterator[Proposal]:
    """Columns that are others added up or taken off."""
    table = population.table
    if measure is None or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    found = [Part("", "", each) for each in sums_of(population, measure)]
    if not any(each.sum.is_of(measure.name) for each in found):
        found += sums_by_kind(population, measure)
    for where, kind, each in found:
        if not are_few(each.rows - each.holding, each.rows):
            continue
        yield Proposal(
            f"{each.whole} of {table.name} is {each.told}{kind}",
            settings_of(
                where=where,
                what="product",
                on=each.whole,
                expect=each.expression,
                tolerance=None if each.rounded is None else format(each.rounded, "f"),
            ),
            f"Rows whose {each.whole} is not what it is made of.",
            f"it holds for {each.holding:,} of {each.rows:,} rows{_but_for(each.rounded)}, in {each.several:,} of which "
            f"{'both' if len(each.parts) == 2 else 'two or more'} are something",
        )


def _but_for(rounded: Decimal | None) -> str:
    return "" if rounded is None else f" but for {rounded:f}, either way, of rounding"


def _of_what_is_named(population: Population, amount: Column) -> Iterator[Proposal]:
    """Figures of rows that are the quantity and price of the row that they name, where that has no amount, or its
    quantity at the price of what that names in turn: a bill of freight, and the miles and rate of its shipment; a bill of
    what came in, at the price of its order."""
    table = population.table
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        quantity = other.role("quantity")
        if other.name == table.name or "amount" in other.roles or quantity is None:
            continue
        for price in _prices_of(population, other):
            named = [
                ".".join(map(quoted_name, (column, *path))) for path in ((quantity.name,), price)
            ]
            proposal = _priced_there(
                population, amount, column, other, named, (quantity.name, price)
            )
            if proposal is not None:
                yield proposal
                break


def _prices_of(population: Population, other: Table) -> Iterator[tuple[str, ...]]:
    """The price of a row, or of a row that it names, by the columns that lead there."""
    own = other.role("price")
    if own is not None:
        yield (own.name,)
    for column, link in sorted(other.links.items()):
        further_on = population.tables.get(link.table.name, link.table).role("price")
        if further_on is not None and link.table.name not in (other.name, population.table.name):
            yield (column, further_on.name)


def _priced_there(
    population: Population,
    amount: Column,
    column: str,
    other: Table,
    named: list[str],
    words: tuple[str, tuple[str, ...]],
) -> Proposal | None:
    """The first figure of rows that nearly all have as a quantity times a price elsewhere."""
    table = population.table
    quantity, price = words
    of = " of its ".join(reversed(price))
    for own in [amount, *further(table, amount)]:
        told = f"{quantity} times {of} of its {column}"
        found = held(population, own, " * ".join(named), told)
        if is_rule(found):
            return found.proposal(own.name, table.name, f"what {other.name} makes it")
    return None


def loans_of(table: Table) -> list[str]:
    """Names of facts that are terms of a loan whose instalments a table has: called as the table is, or
    naming it."""
    groups = {name.rpartition(".")[0] for name in table.facts if "." in name}
    found = []
    for name in sorted(groups):
        facts = {
            k.removeprefix(f"{name}."): v
            for k, v in table.facts.items()
            if k.startswith(f"{name}.")
        }
        terms = {"principal", "rate", "periods"} & set(facts)
        if len(terms) >= 2 and facts.get("table", name) == table.name:
            found.append(name)
    return found if table.dated() is not None and "amount" in table.roles else []
