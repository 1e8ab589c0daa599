"""What kind of row an amount is of, where neither parties nor accounts say it: the columns that say most of its size."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_of_both
from sabueso.screens.named_columns import There, columns_there
from sabueso.screens.proposal import LEAST_ROWS, texts_without

MOST_SEEN, MOST_COLUMNS, MOST_KINDS = 20_000, 12, 60
"""Rows, the first, by which it is judged, columns that are tried, and kinds that one may tell."""
SAYS, ADDS = 0.25, 0.15
"""Share of the squares of the logarithms of amounts that kinds must explain, and that a second column must add."""
COVERED = 0.8
"""Share of the rows that are of kinds with rows enough."""
_NONE: tuple[Role, ...] = (
    "id", "document", "text", "party", "approver", "date", "entered", "currency",
)  # fmt: skip


def kinds_of_amounts(
    population: Population, measure: Column, least: int, beside: str | None = None
) -> list[str]:
    """One or two columns of few values by which amounts differ; none where they hardly do, or by not much more than by the
    column ``beside`` them, such as whom they are paid to."""
    names = texts_without(population.table, _NONE)[:MOST_COLUMNS]
    if not names:
        return []
    asked = dict.fromkeys([*names, *([beside] if beside else [])])
    seen = _seen(population, measure, list(asked))
    if seen is None:
        return []
    size, coded = seen
    codes = {name: own for name, (own, few) in coded.items() if name in names and few}
    told = _explained(coded[beside][0], size, least) if beside else 0.0
    shares: dict[tuple[str, ...], float] = {
        (name,): _explained(own, size, least) for name, own in codes.items()
    }
    best = max(shares, key=lambda names: shares[names], default=None)
    if best is None or shares[best] < SAYS + told:
        return []
    one = codes[best[0]]
    pairs: dict[tuple[str, ...], float] = {
        (*best, name): _explained(one * (MOST_KINDS + 2) + own, size, least)
        for name, own in codes.items()
        if name != best[0]
    }
    pair = max(pairs, key=lambda names: pairs[names], default=best)
    return list(pair if pairs.get(pair, 0) >= shares[best] + ADDS else best)


def kind_there(population: Population, measure: Column, least: int) -> There | None:
    """The text of what rows name that says most of an amount, where their own say nothing: the tariff of an account."""
    texts = {
        there.sql: there
        for there in columns_there(population)
        if there.column.type == "text" and there.column.name not in _taken(there.table)
    }
    if not texts:
        return None
    table = population.table
    trees = {text: expressions.scalar(text, table, "--by") for text in texts}
    seen = _seen(population, measure, [], trees)
    if seen is None:
        return None
    size, coded = seen
    shares = {text: _explained(own, size, least) for text, (own, few) in coded.items() if few}
    best = max(shares, key=lambda text: shares[text], default=None)
    return texts[best] if best is not None and shares[best] >= SAYS else None


def _seen(
    population: Population,
    measure: Column,
    names: Sequence[str],
    also: Mapping[str, Tree] | None = None,
) -> tuple[np.ndarray, dict[str, tuple[np.ndarray, bool]]] | None:
    """The logarithms of the amounts of some rows, and of each text its codes in these and whether it tells a few kinds; None
    where too few rows have an amount."""
    amounts = {"amount": sql.column(measure.name)}
    numbers, coded = first_of_both(population, amounts, names, MOST_SEEN, also)
    amount = numbers["amount"]
    known = ~np.isnan(amount) & (amount != 0)
    if known.sum() < LEAST_ROWS:
        return None
    codes = {
        name: (each.codes[known] + 1, 2 <= len(each.distinct) <= MOST_KINDS)
        for name, each in coded.items()
    }
    return np.log(np.abs(amount[known])), codes


def _taken(table: Table) -> set[str | None]:
    return {table.roles.get(role) for role in _NONE}


def _explained(codes: np.ndarray, size: np.ndarray, least: int) -> float:
    """Share of the squares about the mean that lies between groups of rows enough; 0 where too few rows are of such."""
    counts = np.bincount(codes)
    kept = counts[codes] >= least
    if kept.mean() < COVERED:
        return 0.0
    own, values = codes[kept], size[kept]
    counts = np.bincount(own)
    sums = np.bincount(own, weights=values)
    about = float(((values - values.mean()) ** 2).sum())
    there = counts > 0
    between = float((counts[there] * (sums[there] / counts[there] - values.mean()) ** 2).sum())
    return between / about if about > 0 else 0.0
