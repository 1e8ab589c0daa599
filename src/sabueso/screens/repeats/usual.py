"""Repeats that are no exception: of a tariff and few customers the same amount comes again and again."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from sabueso.base.plain import Values
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_codes
from sabueso.screens.proposal import LISTED, Proposal

MOST_USUAL, MOST_SEEN, MOST_TRIED = 0.02, 5_000, 2
"""Clusters for each row from which they are usual; rows by which it is judged what tells them apart, and columns that are
tried."""
TWICE = 2
"""Rows that some value of a column must have: what is another in each row is the same in no repeat either."""
_NONE: tuple[Role, ...] = (
    "id", "document", "amount", "debit", "credit", "date", "entered", "party", "preparer", "approver", "currency",
)  # fmt: skip


def unusual(
    population: Population, proposals: Iterator[Proposal], clusters: Callable[[Values], int]
) -> Iterator[Proposal]:
    """Proposals of repeats, those that are usual only where another column is the same as well.

    Parameters
    ----------
    clusters : callable
        How many there are by some settings.
    """
    rows = population.account(None).used
    most = max(LISTED, int(MOST_USUAL * rows))
    for proposal in proposals:
        settings = proposal.settings
        name = _apart_by(population, settings, clusters, most)
        if name is None:
            yield proposal
            continue
        yield replace(
            proposal,
            name=f"{proposal.name} of one {name}",
            settings=_with(population.table, settings, name),
            because=f"{proposal.because}; without {name} so many repeat that it is usual",
        )


def _apart_by(
    population: Population, settings: Values, clusters: Callable[[Values], int], most: int
) -> str | None:
    """The column in which nearly all rows differ that repeat by some settings, where these are many: what was recorded twice
    differs in none."""
    if not _same(population.table, settings) or clusters(settings) <= most:
        return None
    table = population.table
    return next(
        (n for n in _telling(population) if clusters(_with(table, settings, n)) <= most), None
    )


def _same(table: Table, settings: Values) -> list[str]:
    """The columns that are the same in rows that repeat."""
    party = table.roles.get("party")
    return list(settings.get("same") or ([quoted_name(party)] if party else []))


def _with(table: Table, settings: Values, name: str) -> Values:
    return {**settings, "same": [*_same(table, settings), quoted_name(name)]}


def _telling(population: Population) -> list[str]:
    """Columns that tell rows apart the most, and are no amounts: a weight, what was bought, where it went."""
    names = list(_candidates(population.table))
    codes = first_codes(population, names, MOST_SEEN) if names else {}
    several = {}
    for name, own in codes.items():
        known = own[own >= 0]
        if len(known) and np.bincount(known).max() >= TWICE and len(known) >= len(own) / 2:
            several[name] = len(np.unique(known))
    return sorted(several, key=lambda name: -several[name])[:MOST_TRIED]


def _candidates(table: Table) -> Iterator[str]:
    taken = {table.roles.get(role) for role in _NONE}
    amount = table.role("amount")
    for column in table.columns:
        if column.is_place or column.name in taken or column.type not in ("text", "number"):
            continue
        money = amount is not None and column.type == "number" and column.scale == amount.scale > 0
        if not money:
            yield column.name
