"""What an amount is the sum of in rows of one kind, and otherwise in those of another: of what is bought with the commission,
of what is sold less it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from sabueso.base.words import either
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_coded
from sabueso.screens.proposal import LEAST_OF_RULE, texts_without
from sabueso.screens.recompute.sums import MOST_SEEN, Sum, among, candidates

MOST_KINDS_OF, MOST_KINDS = 8, 8
"""Columns of texts that may tell kinds of rows apart, and kinds of one."""


class Part(NamedTuple):
    """A sum that rows of a kind have: the condition of these, how the kind is told, and the sum."""

    where: str
    kind: str
    sum: Sum


def sums_by_kind(population: Population, amount: Column) -> list[Part]:
    """What the amount is the sum of in rows of one kind, and is otherwise in those of another: of what is bought with the
    commission, of what is sold less it. By the first column of few kinds of which at least two have one."""
    table = population.table
    if population.where or len(candidates(table, amount)) < 3:
        return []
    names = texts_without(table, ("id", "document", "text", "currency"))[:MOST_KINDS_OF]
    coded = first_coded(population, names, MOST_SEEN) if names else {}
    for name, found in coded.items():
        sizes = np.bincount(found.codes[found.codes >= 0], minlength=len(found.values))
        kinds = sorted(v for v, n in zip(found.values, sizes, strict=True) if n >= LEAST_OF_RULE)
        if len(kinds) < 2 or len(found.values) > MOST_KINDS:
            continue
        same: dict[tuple[Any, ...], list[tuple[str, Sum]]] = {}
        for value in kinds:
            rows = replace(population, where=f"{quoted_name(name)} = {literal(value)}")
            for each in among(rows, amount, candidates(table, amount)):
                if each.is_of(amount.name):
                    way = each.whole, each.parts, each.floored
                    same.setdefault(way, []).append((value, each))
        parts = [_of_kinds(name, found) for found in same.values()]
        if len({value for found in same.values() for value, _ in found}) > 1:
            return parts
    return []


def _of_kinds(name: str, found: Sequence[tuple[str, Sum]]) -> Part:
    """What rows of some kinds have as their sum, counted together."""
    values = [value for value, _ in found]
    sums = [each for _, each in found]
    column, listed = quoted_name(name), ", ".join(map(literal, values))
    where = f"{column} in ({listed})" if len(values) > 1 else f"{column} = {listed}"
    whole = replace(
        sums[0],
        blank=frozenset().union(*(each.blank for each in sums)),
        rows=sum(each.rows for each in sums),
        holding=sum(each.holding for each in sums),
        several=sum(each.several for each in sums),
        rounded=max((s.rounded for s in sums if s.rounded is not None), default=None),
    )
    return Part(where, f" where {name} is {either(values)}", whole)
