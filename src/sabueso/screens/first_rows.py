"""The first rows of a table in memory, by which it is judged what is worth counting in all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree


def first_numbers(
    population: Population, trees: Mapping[str, Tree], most: int
) -> dict[str, np.ndarray]:
    """Numbers of up to ``most`` rows under their names; not a number where there is none."""
    found = _first(population, [sql.cast(tree, "DOUBLE") for tree in trees.values()], most)
    return {
        name: np.array(found.column(f"v{place}").to_numpy(zero_copy_only=False), dtype=float)
        for place, name in enumerate(trees)
    }


def first_codes(population: Population, names: Sequence[str], most: int) -> dict[str, np.ndarray]:
    """Which of its values a column has in up to ``most`` rows, as :func:`codes_of` numbers them."""
    found = _first(population, [sql.cast(sql.column(name), "TEXT") for name in names], most)
    return {name: codes_of(found.column(f"v{place}")) for place, name in enumerate(names)}


def codes_of(values: pa.ChunkedArray) -> np.ndarray:
    """A number for each distinct value, from 0 on; -1 where there is none."""
    return np.array(values.combine_chunks().dictionary_encode().indices.fill_null(-1))


def _first(population: Population, trees: Sequence[Tree], most: int) -> pa.Table:
    fields = (exp.alias_(tree, f"v{place}") for place, tree in enumerate(trees))
    return population.query(population.used(exp.select(*fields)).limit(most))
