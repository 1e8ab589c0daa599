"""The first rows of a table in memory, by which it is judged what is worth counting in all."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree

AGAIN = 5
"""Rows that a value has on average, from which it comes again."""


class Coded(NamedTuple):
    """A number for each distinct value of a column, from 0 on, -1 where there is none; and the distinct values."""

    codes: np.ndarray
    distinct: pa.Array

    @property
    def values(self) -> list[str]:
        """The values by their numbers."""
        return list(self.distinct.to_pylist())

    @classmethod
    def of(cls, column: pa.ChunkedArray) -> Coded:
        encoded = column.combine_chunks().dictionary_encode()
        return cls(np.array(encoded.indices.fill_null(-1)), encoded.dictionary)


def first_numbers(
    population: Population, trees: Mapping[str, Tree], most: int
) -> dict[str, np.ndarray]:
    """Numbers of up to ``most`` rows under their names; not a number where there is none."""
    return first_of_both(population, trees, (), most)[0]


def first_codes(population: Population, names: Sequence[str], most: int) -> dict[str, np.ndarray]:
    """Which of its values a column has in up to ``most`` rows, as :func:`codes_of` numbers them."""
    return {name: coded.codes for name, coded in first_coded(population, names, most).items()}


def first_coded(
    population: Population,
    names: Sequence[str],
    most: int,
    also: Mapping[str, Tree] | None = None,
) -> dict[str, Coded]:
    """The values of columns, and of what is computed, in up to ``most`` rows, as text."""
    return first_of_both(population, {}, names, most, also)[1]


def first_of_both(
    population: Population,
    trees: Mapping[str, Tree],
    names: Sequence[str],
    most: int,
    also: Mapping[str, Tree] | None = None,
) -> tuple[dict[str, np.ndarray], dict[str, Coded]]:
    """Numbers, and values of columns and what is computed as text, of the same rows: which are the first is not said
    twice alike."""
    named = {**{name: sql.column(name) for name in names}, **(also or {})}
    kinds = [sql.cast(tree, "DOUBLE") for tree in trees.values()]
    kinds += [sql.cast(tree, "TEXT") for tree in named.values()]
    fields = (exp.alias_(tree, f"v{place}") for place, tree in enumerate(kinds))
    found = population.query(population.used(exp.select(*fields)).limit(most)).columns
    numbers = {
        name: np.array(column.to_numpy(zero_copy_only=False), dtype=float)
        for name, column in zip(trees, found[: len(trees)], strict=True)
    }
    texts = zip(named, found[len(trees) :], strict=True)
    return numbers, {name: Coded.of(column) for name, column in texts}


def repeated(codes: Mapping[str, np.ndarray]) -> list[str]:
    """Of columns by their codes those whose values come again, and are several: kinds, places and things."""
    found = []
    for name, values in codes.items():
        rows = int((values >= 0).sum())
        if rows > 0 and 2 <= int(values.max()) + 1 <= rows / AGAIN:
            found.append(name)
    return found


def numbers_by_head(texts: Iterable[str], pattern: re.Pattern[str]) -> dict[str, set[int]]:
    """The numbers of texts by what stands before them; ``pattern`` finds both in a text that has them."""
    found: dict[str, set[int]] = defaultdict(set)
    for text in texts:
        if told := pattern.fullmatch(text):
            found[told[1]].add(int(told[2]))
    return found


def codes_of(values: pa.ChunkedArray) -> np.ndarray:
    """A number for each distinct value, from 0 on; -1 where there is none."""
    return Coded.of(values).codes
