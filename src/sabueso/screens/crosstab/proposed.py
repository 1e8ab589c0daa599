"""Cross tables that are proposed: of whoever recorded rows, or has them, and the few kinds that these have."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

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
MOST_PARTIES, ROWS_OF_EACH = 100, 50
"""Parties up to which, and rows of each in the mean from which, they are compared where nobody is told who recorded
them."""
OWN = 0.9
"""Share of the rows whose kind is the commonest of whoever recorded them, from which the kind is their work."""
NO_KINDS: tuple[Role, ...] = (
    "id", "document", "party", "account", "preparer", "approver", "date", "entered", "currency",
)  # fmt: skip
PROPOSED = 3
FEW, MOST_APART = 5, 0.1
"""Of those who are compared, how many and what share may have far more of one kind: where more have, rows of a kind come
in clumps, as those of one journey, and tell of nobody."""


class Compared(NamedTuple):
    """Whose rows are compared, and the columns that tell of what kinds they are."""

    whose: str
    kinds: list[str]


def compared_of(population: Population) -> Compared | None:
    """The preparer, or the party where none is told and they are few, with columns of few values that are no party,
    account or paper, and not simply whose work a row is; None where neither is told."""
    table = population.table
    preparer, party = table.role("preparer"), table.role("party")
    whose = preparer or party
    if whose is None:
        return None
    texts = texts_without(table, NO_KINDS)
    if not texts or population.account(None).used < LEAST_ROWS:
        return Compared(whose.name, [])
    codes = first_codes(population, [whose.name, *texts], MOST_SEEN)
    own = codes[whose.name]
    known = own[own >= 0]
    several = len(np.unique(known))
    if preparer is None and (several > MOST_PARTIES or len(known) < ROWS_OF_EACH * several):
        return None
    return Compared(whose.name, [name for name in texts if _tells(own, codes[name])])


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
    compared = None if is_budget(table) else compared_of(population)
    if compared is None:
        return
    left, whose = PROPOSED, compared.whose
    for name in compared.kinds:
        settings = settings_of(of=[quoted_name(name)], by=[quoted_name(whose)])
        found = screen.run(population, screen.settings.from_plan(settings, screen.name))
        apart = sum(any(cell.flagged for cell in group.cells) for group in found.groups[1:])
        if not 0 < apart <= max(FEW, MOST_APART * (len(found.groups) - 1)) or not left:
            continue
        left -= 1
        yield Proposal(
            f"{name} of {table.name} by {whose}",
            settings,
            f"Somebody who has far more rows of one {name} than the others, such as of what takes back.",
            f"{len(found.groups) - 1:,} of {whose} by {len(found.groups[0].cells):,} of {name}",
        )
