"""Cross tables that are proposed of two tables: who takes back, writes off or cancels far more than others do, for as
many rows of the table that those name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.crosstab.proposed import (
    MOST_PARTIES,
    MOST_SEEN,
    ROWS_OF_EACH,
    are_few,
    are_lines,
)
from sabueso.screens.first_rows import first_coded
from sabueso.screens.proposal import Proposal, is_budget, settings_of, texts_without

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

MOST_OF_OTHER = 0.5
"""Rows for one of the other table, up to which they are what happens to some of those."""
LEAST = 20
"""Rows from which it is asked whose they are: few tell, where they are of one alone."""
MOST_TEXTS = 40
"""Columns that are looked at for people."""
SAME = 0.9
"""Share of the rows whose people are among those of the other table, from which they are the same."""


class _Pair(NamedTuple):
    """Whose the rows of a table are, and whose those of the other."""

    own: str
    by: str
    other: Table
    theirs: str


def proposed_beside(screen: Screen, population: Population) -> Iterator[Proposal]:
    """Who has far more rows than the others have, for as many of the table that the rows name."""
    table = population.table
    if is_budget(table) or not table.links:
        return
    for own, by, other, theirs in _pairs(population):
        settings = settings_of(by=[by], beside=other.name, beside_by=[quoted_name(theirs)])
        found = screen.run(population, screen.settings.from_plan(settings, screen.name))
        apart, compared = len(found.flags), len(found.groups) - 1
        if are_few(apart, compared):
            yield Proposal(
                f"{table.name} beside {other.name} by {own}",
                settings,
                f"Somebody who has far more rows of {table.name} than the others have, for as many of {other.name}.",
                f"{compared:,} of {own} with rows of {other.name}",
            )


def _pairs(population: Population) -> Iterator[_Pair]:
    """Columns of the same few people in a table and in one that its rows name, most of whose rows are named by none."""
    table = population.table
    used = population.account(None).used
    if used < LEAST:
        return
    texts = texts_without(table, ("id", "document", "account", "currency", "text"))[:MOST_TEXTS]
    links = {name: link for name, link in table.links.items() if link.table.name != table.name}
    seen = first_coded(population, [*dict.fromkeys([*texts, *links])], MOST_SEEN)
    for column, link in sorted(links.items()):
        if are_lines(seen[column].codes):
            continue
        other = link.table
        rows = population.beside(other)
        if used > MOST_OF_OTHER * rows.account(None).used:
            continue
        people = first_coded(rows, _whose(other), MOST_SEEN)
        for theirs, each in people.items():
            known = int((each.codes >= 0).sum())
            if not 2 <= len(each.values) <= min(MOST_PARTIES, known / ROWS_OF_EACH):
                continue
            for name in texts:
                codes = seen[name].codes[seen[name].codes >= 0]
                among = np.isin(seen[name].values, each.values)
                if name not in links and len(codes) and among[codes].mean() >= SAME:
                    yield _Pair(name, quoted_name(name), other, theirs)
            of_named = ".".join(map(quoted_name, (column, theirs)))
            yield _Pair(f"{column}.{theirs}", of_named, other, theirs)


def _whose(table: Table) -> list[str]:
    """Columns that tell whose a row is: who recorded it, or approved it, its party, and whom it names in a list."""
    roles: tuple[Role, ...] = ("preparer", "approver", "party")
    named = [table.roles[role] for role in roles if role in table.roles]
    lists = [name for name, link in sorted(table.links.items()) if link.table.dated() is None]
    found = [*named, *(n for n in lists if n not in map(table.roles.get, ("id", "account")))]
    return [name for name in dict.fromkeys(found) if table.column(name).type == "text"]
