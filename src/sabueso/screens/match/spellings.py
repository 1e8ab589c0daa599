"""Names that are written nearly alike in one table, as they are proposed to be looked for: a payee beside one that is called
nearly so."""

from __future__ import annotations

from collections.abc import Iterator

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.match.persons import NAME, distinct_names
from sabueso.screens.proposal import FEW, LISTED, Proposal, is_budget, settings_of

LEAST_NAMES, MOST_NAMES = 20, 20_000
"""Names that there must be, and above which they are not compared for a proposal."""
MOST_ALIKE = 0.02
"""Share of the names up to which it is the exception that another is written nearly so."""
THRESHOLD = 90
"""Similarity of names, of 100: the test's own."""
LETTERS = 0.5
"""Share of the names' signs that are letters, below which they are numbers."""


def proposed_spellings(population: Population) -> Iterator[Proposal]:
    """Of a ledger whose parties are named, and in no list."""
    from sabueso.stats.alike import alike, differs

    table = population.table
    party = table.role("party")
    if (
        party is None
        or "amount" not in table.roles
        or party.name in table.links
        or is_budget(table)
    ):
        return
    for own in _named(population, party):
        names = sorted(distinct_names(population, own, MOST_NAMES + 1))
        if not LEAST_NAMES <= len(names) <= MOST_NAMES or not _are_words(names):
            continue
        pairs = [pair[:2] for pair in alike(names, names, THRESHOLD) if pair[0] < pair[1]]
        told = sum(differs(names[one], names[other]) != "figures" for one, other in pairs)
        if told and len(pairs) <= max(FEW, min(LISTED, int(MOST_ALIKE * len(names)))):
            met = len({each for pair in pairs for each in pair})
            yield Proposal(
                f"{own} of {table.name} written nearly alike",
                settings_of(other=table.name, on=[quoted_name(own)], find="present", keys="alike"),
                "One payee under two names, or another that is called nearly so.",
                f"{met:,} of {len(names):,} names are written nearly as another is",
            )
        return


def _named(population: Population, party: Column) -> Iterator[str]:
    """The column of parties, and of those that are told by a number the one of their names."""
    yield party.name
    text = population.table.role("text")
    if text is not None and NAME.search(text.name):
        yield text.name


def _are_words(names: list[str]) -> bool:
    """Whether names have words, and are not numbers."""
    letters = sum(sum(map(str.isalpha, name)) for name in names)
    return letters >= LETTERS * sum(len(name.replace(" ", "")) for name in names)
