"""Many figures of the same rows: asked for in several statements, since the time and the memory that an engine takes to
plan one grow faster than what it asks for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population.sql import Tree

AT_ONCE = 100
"""Figures of one statement: four of each of 25 columns."""


def figures(
    fields: Sequence[Tree],
    completed: Callable[[exp.Select], exp.Select],
    query: Callable[[exp.Select], pa.Table],
) -> dict[str, Any]:
    """What some aggregates are, by their aliases.

    Parameters
    ----------
    fields : sequence of Tree
        Aggregates, each with an alias of its own.
    completed : callable
        Adds to a SELECT where its rows come from.
    query : callable
        Runs it.
    """
    found: dict[str, Any] = {}
    for begin in range(0, len(fields), AT_ONCE):
        select = exp.select(*fields[begin : begin + AT_ONCE], copy=False)
        (row,) = query(completed(select)).to_pylist()
        found |= row
    return found
