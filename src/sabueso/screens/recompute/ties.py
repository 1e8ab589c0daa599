"""Sums that are proposed to tie: both sides of each entry, and what is paid of each order with the order."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.one_way import are_linked
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    Proposal,
    is_budget,
    settings_of,
    signs_of,
    texts_without,
)
from sabueso.screens.recompute.amounts import FEW, among_both, figures, tied_by
from sabueso.screens.recompute.counted import proposed_counts
from sabueso.screens.recompute.monthly import proposed_by_month
from sabueso.screens.recompute.siblings import happened, named_by_both
from sabueso.screens.recompute.stated import proposed_stated
from sabueso.screens.recompute.totals import Sides, agreement
from sabueso.stats.additive import HOLDS

ROW_BY_ROW = 0.95
"""Share of the rows of a table that must be the only one of what they name to be the same as another's."""
ONE_WAY = 0.95
"""Share of the rows of one sign below which amounts go both ways."""
MOSTLY = 0.5
"""Share of the sums that are alike from which it is asked whether others would be without the rows of one kind."""
LEFT = 0.2
"""Share of the sums that differ up to which some may do so without the rows of one kind."""
MOST_SEEN, MOST_KINDS = 20_000, 6
"""Rows that are looked at for kinds, and columns of such and kinds in each that are tried."""


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
        three = in_three(population, other) or in_three(population, table)
        if three or other.name == table.name or twice or is_budget(other):
            continue
        yield from _beside(population, column, other, link.key)
        yield from proposed_counts(population, column, other, link.key)
    yield from _siblings(population)
    by_month = list(proposed_by_month(population))
    yield from by_month
    compared = set(map(_compared, by_month))
    for each in proposed_stated(population):
        if "month" not in each.settings["by"] or _compared(each) not in compared:
            yield each


def _compared(proposal: Proposal) -> tuple[Any, ...]:
    """Which figures of which table sums are compared with."""
    return tuple(proposal.settings.get(name) for name in ("other", "equals", "expect"))


def _siblings(population: Population) -> Iterator[Proposal]:
    """Sums by what happened on some day, such as a shipment, that two tables name: its containers, and what the carrier
    bills for it."""
    table = population.table
    for name, other in sorted(population.tables.items()):
        if name <= table.name or is_budget(other) or are_linked(table, other):
            continue
        for column, theirs, named in named_by_both(table, other):
            third = population.tables.get(named.name, named)
            if not in_three(population, third) and happened(population, other, third):
                yield from _beside(population, column, other, theirs)


def in_three(population: Population, orders: Table) -> bool:
    """Whether invoices and receipts both name orders: what was ordered, came and was billed is compared by a match. A
    list of articles orders nothing."""
    if "quantity" not in orders.roles:
        return False
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
    if n < LEAST_OF_RULE or 2 * n > account.used or same < HOLDS * n:
        return
    yield Proposal(
        f"debits and credits of each {entry.name} of {table.name}",
        settings_of(what="totals", by=sides.by, equals=sides.equals, expect=sides.expect),
        "Entries whose debits are not their credits.",
        f"they are the same in {same:,} of {n:,}",
    )


def _beside(population: Population, column: str, other: Table, key: str) -> Iterator[Proposal]:
    """Sums by a key that are those of the table that the key is of."""
    roles: tuple[Role, ...] = ("amount", "quantity")
    for role in roles:
        for mine, theirs in figures(population.table, other, role):
            by, other_on = [quoted_name(column)], [quoted_name(key)]
            recorded, expected = f"sum({quoted_name(mine)})", f"sum({quoted_name(theirs)})"
            plain = Sides(by, recorded, expected, other.name, other_on)
            sides, (n, both, same) = _agreeing(population, other, plain, (mine, theirs))
            without = None
            if both >= LEAST_OF_RULE and both - same > FEW and same >= MOSTLY * both:
                without = without_a_kind(population, sides, both - same)
            if without is not None:
                n, both, same = without.counts
            # Of many that one side lacks, such as bills that are not paid yet, nothing is to be said but that.
            among = among_both(n, both)
            if both < LEAST_OF_RULE or same < HOLDS * (both if among else n):
                continue
            own = (population.table.roles[role], other.roles[role]) == (mine, theirs)
            called = role if own else mine
            against = other.name if own else f"{theirs} of {other.name}"
            yield Proposal(
                f"{called} by {column} of {population.table.name} and {against}",
                tied_by(sides, among, without.where if without else None),
                f"What {population.table.name} and {other.name} do not have alike.",
                f"both have the same for {same:,} of {both if among else n:,}"
                + (f"; {n - both:,} are in one of them alone" if among else "")
                + (f"; without rows whose {without.told}" if without else ""),
                alike=other.name if own and role == "amount" and _is_row_by_row(population, other, n) else "",
            )  # fmt: skip
            break


def _agreeing(
    population: Population, other: Table, plain: Sides, pair: tuple[str, str]
) -> tuple[Sides, tuple[int, int, int]]:
    """Sums as they stand, or, where these are not the same, with the signs of either by which they are; and what agrees."""
    counts = agreement(population, plain)
    turned = None
    if counts[1] >= LEAST_OF_RULE and counts[2] < HOLDS * counts[1]:
        turned = _with_signs(population, other, *pair)
    if turned is None:
        return plain, counts
    way = replace(plain, equals=turned[0], expect=turned[1])
    found = agreement(population, way)
    return (way, found) if found[2] >= HOLDS * found[1] else (plain, counts)


def _with_signs(
    population: Population, other: Table, mine: str, theirs: str
) -> tuple[str, str] | None:
    """Sums that are not the same as they stand, as they may be: what a bank books is below nothing where a bill is above
    it, and of what goes both ways one table may tell the way by its sign, and the other in words."""
    own, their = quoted_name(mine), quoted_name(theirs)
    beside = population.beside(other)
    here = signs_of(population, population.table.column(mine))
    there = signs_of(beside, other.column(theirs))
    ways = [signs.way(ONE_WAY) for signs in (here, there)]
    if 0 in ways and ways != [0, 0]:
        return f"abs(sum({own}))", f"abs(sum({their}))"
    return None if ways[0] == ways[1] else (f"sum({own})", f"-sum({their})")


class Without(NamedTuple):
    """Rows without those of a kind: as a condition, in words, and what of them agrees."""

    where: str
    told: str
    counts: tuple[int, int, int]


def without_a_kind(population: Population, sides: Sides, differing: int) -> Without | None:
    """The rows without those of one kind, such as lines that are void, where nearly all sums that differ are alike
    without them: of several the one that leaves the fewest."""
    found: list[Without] = []
    for name, kinds in _kinds_of(population).items():
        for kind in kinds:
            where = f"coalesce({quoted_name(name)}, '') <> {literal(kind)}"
            rest = replace(population, where=where)
            counts = agreement(rest, sides)
            if counts[1] - counts[2] <= LEFT * differing:
                found.append(Without(where, f"{name} is {kind}", counts))
    return min(found, key=lambda each: each.counts[1] - each.counts[2], default=None)


def _kinds_of(population: Population) -> dict[str, list[str]]:
    """Columns of few texts, with those that fewer than half of the first rows have."""
    names = texts_without(population.table, ("id", "document", "party", "account", "currency"))
    seen = first_coded(population, names[:MOST_KINDS], MOST_SEEN) if names else {}
    found = {}
    for name, coded in seen.items():
        sizes = np.bincount(coded.codes[coded.codes >= 0], minlength=len(coded.values))
        few = [v for v, n in zip(coded.values, sizes, strict=True) if 2 * n < len(coded.codes)]
        if 0 < len(coded.values) <= MOST_KINDS:
            found[name] = few
    return found


def _is_row_by_row(population: Population, other: Table, n: int) -> bool:
    """Whether nearly each row of either table is the only one of its key."""
    beside = population.beside(other)
    return all(ROW_BY_ROW * p.account(None).used <= n for p in (population, beside))
