"""Values that nearly all rows of one kind have, rows of other kinds have not, and a few rows of that kind lack: the patient of
what was handed out, the number of a cheque."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    Proposal,
    few_of,
    is_budget,
    settings_of,
    texts_without,
)

MOST_SEEN = 20_000
"""Rows that are looked at before anything is counted in all."""
MOST_COLUMNS, MOST_KINDS = 16, 12
MOST_LACKING = 0.01
"""Share of the first rows of a kind that lack the value up to which it is one that the kind has."""
ELSEWHERE = 0.5
"""Share of the rows of other kinds that lack it, from which the kind is why."""
PROPOSED = 3
_NO_KINDS: tuple[Role, ...] = ("id", "document", "text", "date", "entered")


def proposed_of_kinds(population: Population) -> Iterator[Proposal]:
    """Columns that rows of one kind have, each with the kind."""
    table = population.table
    if is_budget(table) or "amount" not in table.roles:
        return
    if population.account(None).used < LEAST_OF_RULE:
        return
    found = _kinds(population, table)
    if not found:
        return
    fields = []
    for place, (column, kind, value) in enumerate(found):
        empty = sql.is_missing(sql.column(column))
        of_it = exp.EQ(this=sql.column(kind), expression=sql.text(value))
        asked = {"n": of_it, "out": sql.both([of_it, empty]), "all": empty}
        fields += [
            exp.alias_(sql.only(sql.count(), t.copy()), f"{k}{place}") for k, t in asked.items()
        ]
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    left = PROPOSED
    for place, (column, kind, value) in enumerate(found):
        n, out, every = (int(row[f"{name}{place}"]) for name in ("n", "out", "all"))
        if left and 0 < out <= few_of(n):
            left -= 1
            yield Proposal(
                f"{column} missing in {table.name} of {kind} {value}",
                settings_of(required=[column], where=f"{quoted_name(kind)} = {literal(value)}"),
                f"What nearly all rows of this {kind} have.",
                f"{out:,} of {n:,} rows lack it, and {every - out:,} of the other rows",
            )


class _Lacking(NamedTuple):
    """A column, the column of kinds, and the kind whose rows have it."""

    column: str
    kind: str
    value: str


def _kinds(population: Population, table: Table) -> list[_Lacking]:
    """Columns with the kind, and which of its values, whose rows nearly all have a value there and no others have, by
    some rows."""
    columns = [c.name for c in table.columns if not c.is_place][:MOST_COLUMNS]
    kinds = [name for name in texts_without(table, _NO_KINDS) if name in columns]
    if not kinds:
        return []
    seen = first_coded(population, columns, MOST_SEEN)
    lacking = {name: of.codes < 0 for name, of in seen.items() if 0 < (of.codes < 0).mean() < 1}
    found = []
    for kind in kinds:
        if not 2 <= len(seen[kind].distinct) <= MOST_KINDS:
            continue
        own, values = seen[kind].codes, seen[kind].values
        for name, empty in lacking.items():
            if name != kind:
                found += [_Lacking(name, kind, values[code]) for code in _having(own, empty)]
    return found


def _having(own: np.ndarray, empty: np.ndarray) -> list[int]:
    """The kinds of which nearly all rows have a value where rows of the others have none."""
    sizes = np.bincount(own[own >= 0])
    lacks = np.bincount(own[own >= 0], weights=empty[own >= 0])
    large = np.flatnonzero((sizes >= LEAST_OF_RULE) & (lacks <= MOST_LACKING * sizes))
    rest = np.setdiff1d(np.arange(len(sizes)), large)
    if not len(large) or not len(rest) or lacks[rest].sum() < ELSEWHERE * sizes[rest].sum():
        return []
    return [int(code) for code in large]
