"""Sums that are proposed to tie: both sides of each entry, and what is paid of each order with the order."""

from __future__ import annotations

from collections.abc import Iterator

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.recompute.sums import HOLDS
from sabueso.screens.recompute.totals import Sides, agreement


def proposed_ties(population: Population) -> Iterator[Proposal]:
    """Totals by entry, and by the keys of linked tables, that nearly all tie."""
    if is_budget(population.table):
        return
    yield from _entries(population)
    table = population.table
    for column, link in sorted(table.links.items()):
        other = link.table
        # Of two tables that each name the other's keys one comparison is enough.
        twice = other.name < table.name and any(
            back.table.name == table.name
            for back in population.tables.get(other.name, other).links.values()
        )
        three = _in_three(population, other) or _in_three(population, table)
        if three or other.name == table.name or twice or is_budget(other):
            continue
        yield from _beside(population, column, other, link.key)


def _in_three(population: Population, orders: Table) -> bool:
    """Whether invoices and receipts both name orders: what was ordered, came and was billed is compared by a match."""
    naming = [
        set(table.roles)
        for table in population.tables.values()
        if any(link.table.name == orders.name for link in table.links.values())
    ]
    invoices = any({"quantity", "amount"} <= roles for roles in naming)
    return invoices and any("quantity" in r and "amount" not in r for r in naming)


def _entries(population: Population) -> Iterator[Proposal]:
    """Entries of several rows whose debits are their credits."""
    table = population.table
    amount, entry = table.role("amount"), table.role("id") or table.role("document")
    if amount is None or entry is None or table.role("account") is None:
        return
    if any(rule.get("rule") == "balances" for rule in table.rules):
        return  # what the plan declares is a screen of its own
    sides = Sides([quoted_name(entry.name)], f"sum({quoted_name(amount.name)})", "sum(0)")
    account = population.account(None)
    n, _, same = agreement(population, sides)
    # Rows that each are an entry of their own come to nothing only where they are nothing.
    if n < LEAST_ROWS or 2 * n > account.used or same < HOLDS * n:
        return
    yield Proposal(
        f"debits and credits of each {entry.name} of {table.name}",
        settings_of(what="totals", by=sides.by, equals=sides.equals, expect=sides.expect),
        "Entries whose debits are not their credits.",
        f"they are the same in {same:,} of {n:,}",
    )


def _beside(population: Population, column: str, other: Table, key: str) -> Iterator[Proposal]:
    """Sums by a key that are those of the table that the key is of."""
    for role in ("amount", "quantity"):
        figures = _figures(population.table, other, role)
        if figures is None:
            continue
        recorded, expected = figures
        by, other_on = [quoted_name(column)], [quoted_name(key)]
        sides = Sides(by, recorded, expected, other.name, other_on)
        n, both, same = agreement(population, sides)
        if both < LEAST_ROWS or same < HOLDS * n:
            continue
        yield Proposal(
            f"{role} by {column} of {population.table.name} and {other.name}",
            settings_of(
                what="totals", by=by, equals=recorded, expect=expected, other=other.name,
                other_on=[] if by == other_on else other_on,
            ),
            f"What {population.table.name} and {other.name} do not have alike.",
            f"both have the same for {same:,} of {n:,}",
        )  # fmt: skip


def _figures(table: Table, other: Table, role: Role) -> tuple[str, str] | None:
    mine, theirs = table.role(role), other.role(role)
    if mine is None or theirs is None:
        return None
    return f"sum({quoted_name(mine.name)})", f"sum({quoted_name(theirs.name)})"
