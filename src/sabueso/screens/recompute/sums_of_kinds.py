"""What an amount is the sum of in rows of one kind, and otherwise in those of another: of what is bought with the commission,
of what is sold less it."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_coded
from sabueso.screens.proposal import LEAST_OF_RULE, texts_without
from sabueso.screens.recompute.sums import MOST_SEEN, Sum, among, candidates

MOST_KINDS_OF, MOST_KINDS = 8, 4
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
        parts = []
        for value in kinds:
            where = f"{quoted_name(name)} = {literal(value)}"
            rows = replace(population, where=where)
            of_amount = (
                s for s in among(rows, amount, candidates(table, amount)) if s.is_of(amount.name)
            )
            first = next(of_amount, None)
            parts += [] if first is None else [Part(where, f" where {name} is {value}", first)]
        if len(parts) > 1:
            return parts
    return []
