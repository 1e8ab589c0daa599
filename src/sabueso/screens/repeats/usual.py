"""Repeats that are no exception: of a tariff and few customers the same amount comes again and again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from itertools import accumulate
from typing import NamedTuple

import numpy as np

from sabueso.base.plain import Values
from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.proposal import LISTED, Proposal
from sabueso.screens.repeats.result import RepeatGroup

MOST_USUAL, MOST_SEEN, MOST_TRIED = 0.02, 20_000, 2
"""Clusters for each row from which they are usual; rows by which it is judged what tells them apart, and columns that are
tried."""
LEAST_LOOKED_AT, NEARLY = 30, 2.0
"""Clusters that must be looked at for it to be asked whether those found are about as many as chance makes in all, and up to how
many times as many are that."""
LEAST_AROUND, DAYS_AROUND, TIMES = 10, 29, 3
"""Clusters from which it is asked whether they are of one day, the days that rows lie apart by on either side as a rule, and how
many times as many as each of those would have that day must have."""
DIFFERING = "_differing"
TWICE = 2
"""Rows that some value of a column must have: what is another in each row is the same in no repeat either."""
_NONE: tuple[Role, ...] = (
    "id", "document", "amount", "debit", "credit", "date", "entered", "party", "approver", "currency",
)  # fmt: skip


class Clusters(NamedTuple):
    """How many clusters of rows alike were looked at, how many of these are findings, and how many pairs chance would make."""

    looked_at: int
    flagged: int
    expected: float

    @classmethod
    def of(cls, group: RepeatGroup) -> Clusters:
        return cls(group.looked_at, group.flagged, group.expected_clusters or 0.0)

    @classmethod
    def none(cls) -> Clusters:
        """Of what cannot be looked for."""
        return cls(0, 0, 0.0)

    @property
    def say_nothing(self) -> bool:
        """Whether findings are about as many as chance would make, however few there are."""
        return 0 < self.flagged <= NEARLY * self.expected

    @property
    def are_chance(self) -> bool:
        """Whether that holds for many that were looked at: each is unlikely by itself, and one of very many."""
        return self.looked_at >= LEAST_LOOKED_AT and self.say_nothing


def unusual(
    population: Population,
    proposals: Iterator[Proposal],
    clusters: Callable[[Values], Clusters],
) -> Iterator[Proposal]:
    """Proposals of repeats, those that are usual only where other columns are the same as well.

    Parameters
    ----------
    clusters : callable
        How many there are by some settings.
    """
    rows = population.account(None).used
    most = max(LISTED, int(MOST_USUAL * rows))
    for proposal in proposals:
        found = clusters(proposal.settings) if _same(population.table, proposal.settings) else None
        if found is None or not (found.flagged > most or found.are_chance):
            yield proposal
            continue
        names, left = _apart_by(population, proposal.settings, clusters, most)
        if names:
            alike, settings = listed(names), _with(population.table, proposal.settings, names)
            yield replace(
                proposal,
                name=f"{proposal.name} of one {alike}",
                settings=_on_one_day(settings, clusters, left),
                because=f"{proposal.because}; without {alike} so many repeat that it is usual",
            )
            continue
        # Two people who bought the same there are no finding where as many would by chance.
        of_one = "party" in population.table.roles and "differs" not in proposal.settings
        if of_one or not found.are_chance:
            yield proposal


def _apart_by(
    population: Population,
    settings: Values,
    clusters: Callable[[Values], Clusters],
    most: int,
) -> tuple[Sequence[str], int]:
    """The columns in which nearly all rows differ that repeat by some settings, where these are many, or no more than chance
    makes: what was recorded twice differs in none; and how many are found where they are the same."""
    telling = _telling(population, settings)
    # Who recorded it comes last: the same bill may be entered by two.
    last = [name for name in telling if name == population.table.roles.get("preparer")]
    first = [name for name in telling if name not in last][:MOST_TRIED]
    tries = [[name] for name in first]
    tries += [each for each in accumulate([n] for n in (*first, *last)) if len(each) > 1]
    for names in tries:
        found = clusters(_with(population.table, settings, names))
        if found.flagged <= most and not found.say_nothing:
            # Without one that tells nothing beside the others, as a number beside its name.
            for name in names[:-1]:
                fewer = [each for each in names if each != name]
                if clusters(_with(population.table, settings, fewer)) == found:
                    names = fewer
            return names, found.flagged
    return (), 0


def _on_one_day(settings: Values, clusters: Callable[[Values], Clusters], every: int) -> Values:
    """The settings, by which so many repeat, of one day alone where far more do so on that than the days around it would have
    each."""
    if "within" in settings:
        return settings
    narrow = {**settings, "within": 0}
    on_day = clusters(narrow).flagged if every >= LEAST_AROUND else 0
    return narrow if on_day * DAYS_AROUND >= TIMES * every > 0 else settings


def _same(table: Table, settings: Values) -> list[str]:
    """The columns that are the same in rows that repeat."""
    party = table.roles.get("party")
    return list(settings.get("same") or ([quoted_name(party)] if party else []))


def _with(table: Table, settings: Values, names: Sequence[str]) -> Values:
    return {**settings, "same": [*_same(table, settings), *map(quoted_name, names)]}


def _telling(population: Population, settings: Values) -> list[str]:
    """Columns that tell rows apart that are alike by some settings, and are no amounts, those first that tell the most: a
    weight, what was bought, where it went."""
    table = population.table
    same = _same(table, settings)
    taken = {*same, quoted_name(settings.get("differs") or "")}
    names = [name for name in _candidates(table) if quoted_name(name) not in taken]
    alike = [*same, quoted_name(settings.get("on") or table.roles["amount"])]
    differs = settings.get("differs")
    trees = {text: expressions.scalar(text, table) for text in alike}
    if differs:
        trees[DIFFERING] = sql.column(differs)
    codes = first_coded(population, names, MOST_SEEN, trees) if names else {}
    if not codes:
        return []
    if differs:
        # What tells who it is, as a card does, is the same in no two rows in which that is another.
        whose = codes[DIFFERING].codes
        names = [name for name in names if not _tells(codes[name].codes, whose)]
    order = np.lexsort([codes[text].codes for text in alike])
    keys = np.array([codes[text].codes[order] for text in alike])
    again = np.all((keys[:, 1:] == keys[:, :-1]) & (keys[:, 1:] >= 0), axis=0)
    differ = {}
    for name in names:
        own = codes[name].codes
        known = own[own >= 0]
        if len(known) and np.bincount(known).max() >= TWICE and len(known) >= len(own) / 2:
            beside = own[order]
            differ[name] = int((again & (beside[1:] != beside[:-1])).sum())
    return sorted((n for n in differ if differ[n]), key=lambda name: -differ[name])


def _tells(codes: np.ndarray, others: np.ndarray) -> bool:
    """Whether each value of a column goes with one of another."""
    known = (codes >= 0) & (others >= 0)
    pairs = np.unique(np.stack([codes[known], others[known]]), axis=1)
    return pairs.shape[1] == len(np.unique(codes[known]))


def _candidates(table: Table) -> Iterator[str]:
    taken = {table.roles.get(role) for role in _NONE}
    amount = table.role("amount")
    for column in table.columns:
        if column.is_place or column.name in taken or column.type not in ("text", "number"):
            continue
        money = amount is not None and column.type == "number" and column.scale == amount.scale > 0
        if not money:
            yield column.name
