"""Months or quarters in which hardly any of those who always have a row has none, as they are proposed: a rent, a due, a
reading."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Role
from sabueso.screens.first_rows import first_of_both, repeated
from sabueso.screens.in_order import owners_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of, texts_without
from sabueso.screens.sequence.each import LEAST_PERIODS, Each, Periods
from sabueso.screens.sequence.settings import SequenceSettings

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

MOST_SEEN, MOST_OWNERS = 20_000, 8
"""Rows by which it is judged whose they may be, and columns that are tried."""
MISSING, OFTEN = 0.02, 1.5
"""Share of the months from the first to the last row of each that may be without one, and rows that a month has at
most on average: of daily rows a month without one is told by their days."""
NOBODYS: tuple[Role, ...] = ("id", "document", "text", "date", "entered", "approver", "currency")


def proposed_periods(screen: Screen, population: Population) -> Iterator[Proposal]:
    """The first column of whose values nearly each has a row in every month, or in every quarter."""
    table = population.table
    date = table.dated()
    if date is None or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    others = [name for name in texts_without(table, NOBODYS) if name not in owners_of(table)]
    names = [*owners_of(table), *others]
    if not names:
        return
    units: tuple[Each, ...] = ("month", "quarter")
    trees: dict[str, Tree] = {each: Periods.of(each, None, table).number() for each in units}
    numbers, whose = first_of_both(population, trees, names, MOST_SEEN)
    again = repeated({name: whose[name].codes for name in others})
    owners = [*owners_of(table), *again][:MOST_OWNERS]
    for each in units:
        for owner in owners:
            if not nearly_all(numbers[each], whose[owner].codes):
                continue
            settings = SequenceSettings(each=each, by=[quoted_name(owner)])
            found = screen.run(population, settings)
            if found.subjects and 0 < len(found.flags) <= MISSING * found.subjects:
                yield Proposal(
                    f"{each}s without a row by {owner} of {table.name}",
                    settings_of(each=each, by=settings.by),
                    f"A {each} that was left out, or whose row is not here.",
                    f"of {owner}, {found.subjects:,} {each}s have a row, and {len(found.flags):,} between them none",
                )  # fmt: skip
                return


def nearly_all(numbers: np.ndarray, codes: np.ndarray, least: int = LEAST_PERIODS) -> bool:
    """Whether nearly every number from the first to the last of each that has ``least`` has a row, and hardly more than
    one."""
    known = (codes >= 0) & ~np.isnan(numbers)
    if not known.any():
        return False
    own, of = numbers[known].astype(np.int64), codes[known].astype(np.int64)
    width = own.max() - own.min() + 1
    pairs, rows = np.unique(of * width + own - own.min(), return_counts=True)
    who, number = np.divmod(pairs, width)
    first = np.flatnonzero(np.diff(who, prepend=-1))
    last = np.append(first[1:], len(who)) - 1
    sizes = last - first + 1
    long = sizes >= least
    there = int(sizes[long].sum())
    spans = int((number[last] - number[first] + 1)[long].sum())
    of_these = int(np.add.reduceat(rows, first)[long].sum())
    return there >= LEAST_OF_RULE and spans - there <= MISSING * spans and of_these <= OFTEN * there
