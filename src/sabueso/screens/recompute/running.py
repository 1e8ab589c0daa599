"""Balances that run, as they are proposed: found in some rows, counted in all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from sabueso.base.words import CalledSo
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_codes, repeated
from sabueso.screens.in_order import MOST_SEEN, InOrder, owners_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, settings_of, texts_without
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.products import balances
from sabueso.stats.additive import HOLDS

MOVED = 0.5
"""Share of the rows of which the balance must not be the one before: one that stands still is no balance."""
MOST_METERS = 5
"""Numbers without a role of which one may be carried forward by another."""
MOST_WHOSE = 4
"""Columns besides that a balance may be of."""
NOBODYS: tuple[Role, ...] = (
    "id", "document", "text", "date", "entered", "preparer", "approver", "currency",
)  # fmt: skip
"""Roles of columns that a balance is of nobody by."""
_BALANCE = CalledSo(
    r"balance|saldo|solde|bestand|\bstock|on.?hand|existenc|remaining|zustatek|stan\b|giacenza|voorraad|lager|beholdning|"
    r"behållning|estoque|inventory"
)


def proposed_running(population: Population, amount: Column) -> Iterator[Proposal]:
    """Numbers that are what an account stands at after each row, or what has come together by it: of all rows, by
    account, party or what rows name, or under each heading, as they hold for the most."""
    table = population.table
    others, moved = further(table, amount), [amount]
    stock, quantity = _stock(table, others), table.role("quantity")
    if stock and quantity is not None:
        others, moved = [*others, *stock], [amount, quantity]
    if not others or population.account(None).used < LEAST_OF_RULE:
        return
    owners = owners_of(table)
    if any(_BALANCE.search(column.name) for column in others):
        owners += _whose(population, owners)
    yield from _carried_forward(population, [*moved, *others], others, owners, amount)


def proposed_meters(population: Population) -> Iterator[Proposal]:
    """What a meter or an odometer stands at after each row, where another number of the row is what it went on by: the
    next row of the same owner starts where the one before ended."""
    table = population.table
    # What it went on by may be what the rows count, such as kilometres.
    taken = set(table.roles.values()) - {table.roles.get("quantity")}
    numbers = table.numbers
    amount = table.role("amount")
    known = [] if amount is None else [amount, *further(table, amount)]
    free = [c for c in numbers if c.name not in taken and c not in known][:MOST_METERS]
    if len(free) < 2 or table.dated() is None or population.account(None).used < LEAST_OF_RULE:
        return
    owners = owners_of(table)
    owners += _whose(population, owners)
    if owners:
        yield from _carried_forward(population, free, free, owners, None)


def _carried_forward(
    population: Population,
    numbers: Sequence[Column],
    balances_of: Sequence[Column],
    owners: Sequence[str],
    amount: Column | None,
) -> Iterator[Proposal]:
    """Each of some numbers that is carried forward with another, as that holds for the most rows."""
    table = population.table
    seen = InOrder.of(population, numbers, owners)
    for column in balances_of:
        best = _carried(seen, column, [c for c in numbers if c.name != column.name])
        if best is None:
            continue
        step, owned = best
        per = list(map(quoted_name, owned))
        found, _ = balances(population, step, column, per, None)
        if found.checked >= LEAST_OF_RULE and found.differing <= (1 - HOLDS) * found.checked:
            yield Proposal(
                f"{column.name} of {table.name} carried forward",
                settings_of(
                    what="balance", balance=column.name, per=per or None,
                    on=None if amount is not None and step.name == amount.name else step.name,
                ),
                "Balances that do not follow from the one before: rows left out, put in or altered.",
                f"it holds for {found.checked - found.differing:,} of {found.checked:,} rows",
            )  # fmt: skip


def _stock(table: Table, others: Sequence[Column]) -> list[Column]:
    """Numbers besides, without a role, that are called what is there: of a quantity, which need not have decimals."""
    taken = {*table.roles.values(), *(c.name for c in others)}
    numbers = table.numbers
    return [c for c in numbers if c.name not in taken and _BALANCE.search(c.name)][:1]


def _whose(population: Population, owners: Sequence[str]) -> list[str]:
    """Columns whose values come again, of which a balance may be: the ward and what it has in stock."""
    texts = [name for name in texts_without(population.table, NOBODYS) if name not in owners]
    if not texts:
        return []
    return repeated(first_codes(population, texts, MOST_SEEN))[:MOST_WHOSE]


def _carried(
    seen: InOrder, balance: Column, steps: Sequence[Column]
) -> tuple[Column, tuple[str, ...]] | None:
    """What a number is carried forward with, and whose it is, as it holds for the most rows, if for most; the
    plainest of equally good ways."""
    most, best = HOLDS, None
    ways = list(seen.ways(newest_first=True))
    if _BALANCE.search(balance.name):
        ways += seen.ways_of_two()
    for way in ways:
        moved, rows = seen.steps(balance.name, way)
        known = ~np.isnan(moved)
        if known.sum() < LEAST_OF_RULE or (moved[known] != 0).mean() < MOVED:
            continue
        for step in steps:
            own = seen.numbers[step.name][rows]
            held = max(int((np.abs(moved - way_)[known] < 0.5).sum()) for way_ in (own, -own))
            if held > most * known.sum():
                most, best = held / int(known.sum()), (step, way.owners)
    return best
