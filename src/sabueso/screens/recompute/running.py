"""Balances that run, as they are proposed: found in some rows, counted in all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.in_order import InOrder, owners_of
from sabueso.screens.proposal import LEAST_ROWS, Proposal, settings_of
from sabueso.screens.recompute.products import balances
from sabueso.screens.recompute.sums import HOLDS
from sabueso.screens.recompute.ties import further

MOVED = 0.5
"""Share of the rows of which the balance must not be the one before: one that stands still is no balance."""


def proposed_running(population: Population, amount: Column) -> Iterator[Proposal]:
    """Numbers that are what an account stands at after each row, or what has come together by it: of all rows, by
    account, party or what rows name, or under each heading, as they hold for the most."""
    table = population.table
    others = further(table, amount)
    if not others or population.account(None).used < LEAST_ROWS:
        return
    seen = InOrder.of(population, [amount, *others], owners_of(table))
    for column in others:
        best = _carried(seen, column, [c for c in (amount, *others) if c.name != column.name])
        if best is None:
            continue
        step, owner = best
        per = [] if owner is None else [quoted_name(owner)]
        found, _ = balances(population, step, column, per, None)
        if found.checked >= LEAST_ROWS and found.differing <= (1 - HOLDS) * found.checked:
            yield Proposal(
                f"{column.name} of {table.name} carried forward",
                settings_of(
                    what="balance", balance=column.name, per=per or None,
                    on=None if step.name == amount.name else step.name,
                ),
                "Balances that do not follow from the one before: rows left out, put in or altered.",
                f"it holds for {found.checked - found.differing:,} of {found.checked:,} rows",
            )  # fmt: skip


def _carried(
    seen: InOrder, balance: Column, steps: Sequence[Column]
) -> tuple[Column, str | None] | None:
    """What a number is carried forward with, and whose it is, as it holds for the most rows, if for most; the
    plainest of equally good ways."""
    most, best = HOLDS, None
    for way in seen.ways(newest_first=True):
        moved, rows = seen.steps(balance.name, way)
        known = ~np.isnan(moved)
        if known.sum() < LEAST_ROWS or (moved[known] != 0).mean() < MOVED:
            continue
        for step in steps:
            own = seen.numbers[step.name][rows]
            held = max(int((np.abs(moved - way_)[known] < 0.5).sum()) for way_ in (own, -own))
            if held > most * known.sum():
                most, best = held / int(known.sum()), (step, way.owner)
    return best
