"""Two numbers of a row that nearly always stand in one proportion, as they are proposed to be looked at: a tip and its
bill, the litres and the kilometres. A few rows far from it are what is asked for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import combinations
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import measures_of
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.stats.additive import relations
from sabueso.stats.moments import absolute_deviation

if TYPE_CHECKING:
    from sabueso.screens.interface import Screen

MOST_SEEN, MOST_NUMBERS = 20_000, 8
SPREAD, CLOSER = (0.01, 0.35), 0.5
"""Between what the logarithm of the proportion of two numbers deviates, and how much of what either's own does, at most:
of none the one is a multiple of the other."""
COVERED = 0.2
"""Share of the rows that have both."""
FAR = 6.0
"""Deviations of the logarithm from which a row is far."""
FEW, FEW_OF_ALL = 10, 0.002
"""Rows that may be far however few there are, and their share: of more the proportion is not one."""
PROPOSED = 2
SUMS_SEEN = 2_000


class _Pair(NamedTuple):
    """Two numbers, the larger first, and how much the logarithm of their proportion deviates."""

    large: str
    small: str
    spread: float


def proposed_relations(screen: Screen, population: Population) -> Iterator[Proposal]:
    """Pairs of numbers in one proportion, of which some rows are far from it."""
    table = population.table
    numbers = [] if is_budget(table) else _numbers(table)
    if len(numbers) < 2 or population.account(None).used < LEAST_ROWS:
        return
    names = [c.name for c in numbers]
    seen = first_numbers(population, {name: sql.column(name) for name in names}, MOST_SEEN)
    left = PROPOSED
    for pair in _pairs(seen, _summed(numbers, seen)):
        measures = [quoted_name(pair.large), quoted_name(pair.small)]
        where = " and ".join(f"{name} > 0" for name in measures)
        settings = settings_of(measures=measures, where=where)
        rows = replace(population, where=where)
        finding = screen.run(rows, screen.settings.from_plan(settings, screen.name))
        n = finding.groups[0].n if finding.groups else 0
        if not 0 < len(finding.flags) <= max(FEW, FEW_OF_ALL * n):
            continue
        yield Proposal(
            f"{pair.small} of {table.name} out of proportion to {pair.large}",
            settings,
            f"Rows whose {pair.small} is far from what their {pair.large} would have it.",
            f"the logarithm of {pair.small} by {pair.large} deviates by a median of {pair.spread:.3f}",
        )
        left -= 1
        if not left:
            return


def _numbers(table: Table) -> list[Column]:
    """Numbers that tell how much: no price, whose thing says it, and nothing that tells rows apart."""
    return measures_of(table)[:MOST_NUMBERS]


def _pairs(seen: dict[str, np.ndarray], summed: set[frozenset[str]]) -> list[_Pair]:
    """Pairs that are in one proportion in nearly all rows and far from it in a few, the closest first."""
    found: list[_Pair] = []
    multiples: set[str] = set()
    for one, two in combinations(seen, 2):
        both = (seen[one] > 0) & (seen[two] > 0)
        if both.sum() < max(LEAST_ROWS, COVERED * len(both)):
            continue
        large, small = sorted((one, two), key=lambda name: -float(np.median(seen[name][both])))
        logs = np.log(seen[large][both]), np.log(seen[small][both])
        proportion = logs[1] - logs[0]
        spread, own = absolute_deviation(proportion), min(map(absolute_deviation, logs))
        if spread < SPREAD[0] <= own:
            multiples.add(small)  # a tax tells no more than what it is a part of
        if frozenset((one, two)) in summed:
            continue
        far = int((np.abs(proportion - np.median(proportion)) > FAR * 1.4826 * spread).sum())
        close = SPREAD[0] <= spread <= min(SPREAD[1], CLOSER * own)
        if close and 0 < far <= max(FEW, FEW_OF_ALL * both.sum()):
            found.append(_Pair(large, small, spread))
    apart = [pair for pair in found if multiples.isdisjoint((pair.large, pair.small))]
    return sorted(apart, key=lambda pair: pair.spread)


def _summed(numbers: list[Column], seen: dict[str, np.ndarray]) -> set[frozenset[str]]:
    """Pairs of numbers that are parts of one sum, or it and its part: their proportion is what the rest leaves."""
    scale = max(c.scale for c in numbers)
    names = [c.name for c in numbers]
    columns = [np.nan_to_num(seen[name][:SUMS_SEEN]) for name in names]
    values = np.array(
        [[round(v * 10**scale) for v in column.tolist()] for column in columns], dtype=object
    ).T
    found: set[frozenset[str]] = set()
    for signs in relations(values):
        parts = [name for name, sign in zip(names, signs, strict=True) if sign]
        own = max(parts, key=lambda name: float(np.nanmedian(seen[name])))
        found |= {frozenset((own, name)) for name in parts if name != own}
    return found
