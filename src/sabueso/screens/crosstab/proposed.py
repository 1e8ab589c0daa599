"""Cross tables that are proposed: of whoever recorded rows and the few kinds that these have."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role
from sabueso.screens.first_rows import first_codes
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of, texts_without

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

MOST_SEEN = 20_000
"""Rows, the first, by which it is judged whether a column tells kinds."""
MOST_KINDS = 40
OWN = 0.9
"""Share of the rows whose kind is the commonest of whoever recorded them, from which the kind is their work."""
NO_KINDS: tuple[Role, ...] = (
    "id", "document", "party", "account", "preparer", "approver", "date", "entered", "currency",
)  # fmt: skip
PROPOSED = 3


def kinds_of(population: Population) -> list[str]:
    """Columns of few values that are no party, account or paper, and not simply whose work a row is."""
    table = population.table
    preparer = table.role("preparer")
    texts = texts_without(table, NO_KINDS)
    if preparer is None or not texts or population.account(None).used < LEAST_ROWS:
        return []
    codes = first_codes(population, [preparer.name, *texts], MOST_SEEN)
    return [name for name in texts if _tells(codes[preparer.name], codes[name])]


def _tells(who: np.ndarray, kind: np.ndarray) -> bool:
    known = (who >= 0) & (kind >= 0)
    own, of = who[known].astype(np.int64), kind[known]
    if len(own) < LEAST_ROWS or not 1 < len(np.unique(of)) <= MOST_KINDS:
        return False
    if len(np.unique(own)) < 2:
        return False
    table = np.zeros((own.max() + 1, of.max() + 1), dtype=np.int64)
    np.add.at(table, (own, of), 1)
    work = table.max(axis=1).sum() / len(own)
    # What nearly all do is nobody's work alone.
    common = table.sum(axis=0).max() / len(own)
    return bool(work < OWN or common >= OWN)


def proposed_crosstabs(screen: Screen, population: Population) -> Iterator[Proposal]:
    """Kinds of which somebody has far more than others have."""
    table = population.table
    preparer = table.role("preparer")
    if preparer is None or is_budget(table):
        return
    left = PROPOSED
    for name in kinds_of(population):
        settings = settings_of(of=[quoted_name(name)], by=[quoted_name(preparer.name)])
        found = screen.run(population, screen.settings.from_plan(settings, screen.name))
        if not len(found.flags) or not left:
            continue
        left -= 1
        yield Proposal(
            f"{name} of {table.name} by {preparer.name}",
            settings,
            f"Somebody who has far more rows of one {name} than the others, such as of what takes back.",
            f"{len(found.groups) - 1:,} of {preparer.name} by {len(found.groups[0].cells):,} of {name}",
        )
