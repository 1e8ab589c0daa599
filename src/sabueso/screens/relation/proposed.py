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
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_of_both
from sabueso.screens.named_columns import measures_of
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of, texts_without
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
MOST_COLUMNS, MOST_KINDS, OF_KINDS = 6, 30, 0.8
"""Columns of kinds that are tried, kinds of one, and the share of the rows that are of kinds with rows enough."""
PROPOSED = 2
SUMS_SEEN = 2_000
_NO_KINDS: tuple[Role, ...] = ("id", "document", "text", "party", "approver")


class _Pair(NamedTuple):
    """Two numbers, the larger first, how much the logarithm of their proportion deviates, and of one kind of what, where only
    that has one."""

    large: str
    small: str
    spread: float
    by: str | None = None


def proposed_relations(screen: Screen, population: Population) -> Iterator[Proposal]:
    """Pairs of numbers in one proportion, of which some rows are far from it."""
    table = population.table
    numbers = [] if is_budget(table) else _numbers(table)
    if len(numbers) < 2 or population.account(None).used < LEAST_ROWS:
        return
    names = [c.name for c in numbers]
    kinds = texts_without(table, _NO_KINDS)[:MOST_COLUMNS]
    trees = {name: sql.column(name) for name in names}
    seen, coded = first_of_both(population, trees, kinds, MOST_SEEN)
    few = {name: each.codes for name, each in coded.items() if 2 <= len(each.values) <= MOST_KINDS}
    left = PROPOSED
    for pair in _pairs(seen, _summed(numbers, seen), few):
        measures = [quoted_name(pair.large), quoted_name(pair.small)]
        where = " and ".join(f"{name} > 0" for name in measures)
        by = [] if pair.by is None else [quoted_name(pair.by)]
        settings = settings_of(measures=measures, by=by, where=where)
        rows = replace(population, where=where)
        finding = screen.run(rows, screen.settings.from_plan(settings, screen.name))
        n = sum(group.n for group in finding.groups)
        if not 0 < len(finding.flags) <= max(FEW, FEW_OF_ALL * n):
            continue
        yield Proposal(
            f"{pair.small} of {table.name} out of proportion to {pair.large}{f' by {pair.by}' if pair.by else ''}",
            settings,
            f"Rows whose {pair.small} is far from what their {pair.large} would have it.",
            f"the logarithm of {pair.small} by {pair.large} deviates by a median of {pair.spread:.3f}"
            + (f" within one {pair.by}" if pair.by else ""),
        )
        left -= 1
        if not left:
            return


def _numbers(table: Table) -> list[Column]:
    """Numbers that tell how much: no price, whose thing says it, and nothing that tells rows apart."""
    return measures_of(table)[:MOST_NUMBERS]


def _pairs(
    seen: dict[str, np.ndarray], summed: set[frozenset[str]], kinds: dict[str, np.ndarray]
) -> list[_Pair]:
    """Pairs that are in one proportion in nearly all rows, or in those of each kind, and far from it in a few, the closest
    first."""
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
        of_kind = _of_kind(proportion, both, kinds, own)
        if of_kind is not None and of_kind.spread < SPREAD[0]:
            multiples.add(small)
        elif of_kind is not None and not close and of_kind.spread <= CLOSER * spread:
            found.append(_Pair(large, small, *of_kind))
    apart = [pair for pair in found if multiples.isdisjoint((pair.large, pair.small))]
    return sorted(apart, key=lambda pair: pair.spread)


class _OfKind(NamedTuple):
    """How much a proportion deviates within one kind of what."""

    spread: float
    by: str


def _of_kind(
    proportion: np.ndarray, both: np.ndarray, kinds: dict[str, np.ndarray], own: float
) -> _OfKind | None:
    """The kind of rows of each of which the proportion deviates the least, where that is little, and a few are far from it or it
    is next to nothing."""
    best: _OfKind | None = None
    for name, codes in kinds.items():
        of = codes[both]
        counts = np.bincount(of[of >= 0])
        large = np.flatnonzero(counts >= LEAST_ROWS)
        kept = np.isin(of, large)
        if len(large) < 2 or kept.mean() < OF_KINDS:
            continue
        middle = np.zeros(len(counts))
        middle[large] = [np.median(proportion[of == kind]) for kind in large]
        rest = proportion[kept] - middle[of[kept]]
        spread = absolute_deviation(rest)
        far = int((np.abs(rest) > FAR * 1.4826 * spread).sum())
        few = 0 < far <= max(FEW, FEW_OF_ALL * kept.sum())
        close = spread <= min(SPREAD[1], CLOSER * own) and (few or spread < SPREAD[0])
        if close and (best is None or spread < best.spread):
            best = _OfKind(spread, name)
    return best


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
