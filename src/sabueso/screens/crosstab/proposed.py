"""Cross tables that are proposed: of whoever recorded rows, or has them, and the few kinds that these have."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from sabueso.population import expressions
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import Coded, first_coded
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of, texts_without

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

MOST_SEEN = 20_000
"""Rows, the first, by which it is judged whether a column tells kinds."""
MOST_KINDS = 40
MOST_PARTIES, ROWS_OF_EACH = 100, 50
"""Parties up to which, and rows of each in the mean from which, they are compared where nobody is told who recorded
them."""
MOST_ORDERING = 20
"""Preparers up to which it is asked whom they order from: many have each their own usual inn."""
OWN = 0.9
"""Share of the rows whose kind is the commonest of whoever recorded them, from which the kind is their work."""
NO_KINDS: tuple[Role, ...] = (
    "id", "document", "party", "account", "preparer", "approver", "date", "entered", "currency",
)  # fmt: skip
PROPOSED = 3
FEW, MOST_APART = 5, 0.1
"""Of those who are compared, how many and what share may have far more of one kind: where more have, rows of a kind come
in clumps, as those of one journey, and tell of nobody."""


MOSTLY = 0.5
"""Share of rows without a kind from which to have one is told as well: a reason why something was taken off."""
NO_KIND = "none"
LINES_OF_EACH = 1.5
"""Rows in the mean that name one row of another table, from which they are its lines."""
WHO = "whoever recorded them"


class Kind(NamedTuple):
    """A column that tells of what kind, or whose, a row is, and the SQL of it; ``line`` names what rows are lines of, where
    that tells whose they are."""

    name: str
    expression: str
    line: str = ""


class Compared(NamedTuple):
    """Whose rows are compared, and the columns that tell of what kinds they are."""

    whose: Kind
    kinds: list[Kind]


def compared_of(population: Population) -> Compared | None:
    """The preparer, of the row or of the one it names, or the party where none is told and they are few, with columns of few values that are no party,
    account or paper, and not simply whose work a row is; None where neither is told."""
    table = population.table
    whose = _whose(table)
    if whose is None:
        return None
    texts = texts_without(table, NO_KINDS)
    party = table.role("party")
    ordered = party is not None and party.type == "text" and "preparer" in table.roles
    if party is not None and ordered:
        texts.append(party.name)  # whom one of a few who order takes far more often
    if not texts or population.account(None).used < LEAST_ROWS:
        return Compared(whose, [])
    who = {WHO: expressions.scalar(whose.expression, table, "--by")}
    lines = [whose.line] if whose.line and whose.line not in texts else []
    seen = first_coded(population, [*texts, *lines], MOST_SEEN, who)
    if whose.line and not are_lines(seen[whose.line].codes):
        return None
    own = seen[WHO].codes
    known = own[own >= 0]
    several = len(np.unique(known))
    few = several <= MOST_PARTIES and len(known) >= ROWS_OF_EACH * several
    if whose.name == table.roles.get("party") and not few:
        return None
    if ordered and several > MOST_ORDERING:
        texts.pop()
    kinds = [_kind_of(name, seen[name]) for name in texts]
    return Compared(whose, [kind for kind, codes in kinds if _tells(own, codes)])


def _whose(table: Table) -> Kind | None:
    """Who recorded a row; else who recorded the row that it names, as a line its bill; else its party."""
    preparer, party = table.role("preparer"), table.role("party")
    if preparer is not None:
        return Kind(preparer.name, quoted_name(preparer.name))
    for column, link in sorted(table.links.items()):
        theirs = link.table.role("preparer")
        if theirs is not None and "amount" in link.table.roles:
            named = ".".join(map(quoted_name, (column, theirs.name)))
            return Kind(f"{column}.{theirs.name}", named, column)
    return None if party is None else Kind(party.name, quoted_name(party.name))


def are_lines(codes: np.ndarray) -> bool:
    """Whether several rows name the same, as lines do their bill."""
    known = codes[codes >= 0]
    return len(known) >= LINES_OF_EACH * max(len(np.unique(known)), 1)


def are_few(apart: int, compared: int) -> bool:
    """Whether those who stand apart are some, and few of those who are compared."""
    return 0 < apart <= max(FEW, MOST_APART * compared)


def _kind_of(name: str, seen: Coded) -> tuple[Kind, np.ndarray]:
    """A column of kinds with those of the first rows; where most rows have none, that is one of them."""
    none = seen.codes < 0
    if none.mean() < MOSTLY or none.all() or NO_KIND in seen.values:
        return Kind(name, quoted_name(name)), seen.codes
    expression = f"coalesce({quoted_name(name)}, {literal(NO_KIND)})"
    return Kind(name, expression), np.where(none, len(seen.values), seen.codes)


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
    for name, expression, _ in compared.kinds:
        settings = settings_of(of=[expression], by=[whose.expression])
        found = screen.run(population, screen.settings.from_plan(settings, screen.name))
        apart = sum(any(cell.flagged for cell in group.cells) for group in found.groups[1:])
        if not are_few(apart, len(found.groups) - 1) or not left:
            continue
        left -= 1
        yield Proposal(
            f"{name} of {table.name} by {whose.name}",
            settings,
            f"Somebody who has far more rows of one {name} than the others, such as of what takes back.",
            f"{len(found.groups) - 1:,} of {whose.name} by {len(found.groups[0].cells):,} of {name}",
        )
