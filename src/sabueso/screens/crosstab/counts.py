"""Rows by group and kind: the table that is tested."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import ByColumn
from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.cells import above_nothing
from sabueso.screens.grouping import Grouping

MOST_KINDS, MOST_GROUPS = 100, 5_000
"""Kinds, and groups, up to which each is compared with the others."""


@dataclass(frozen=True)
class Counts:
    """Rows, shape (groups, kinds), and minor units of the amounts above nothing in each cell; None for those of
    another table."""

    groups: list[ByColumn]
    kinds: list[ByColumn]
    rows: np.ndarray
    units: np.ndarray

    def only(self, chosen: Sequence[int]) -> Counts:
        """Some of the groups."""
        return Counts(
            [self.groups[g] for g in chosen],
            self.kinds,
            self.rows[list(chosen)],
            self.units[list(chosen)],
        )


def counts_of(
    population: Population,
    groups: Grouping,
    kinds: Grouping,
    reasons: Sequence[Reason],
    measure: Column | None,
) -> Counts:
    """Count the rows of each group and kind.

    Raises
    ------
    UserError
        If there are more kinds or groups than can be compared.
    """
    named = {f"k{i}": tree for i, tree in enumerate(kinds.trees)}
    values: dict[str, Tree] = {
        **groups.values(),
        **named,
        "units": sql.integer(0) if measure is None else sql.minor_units(measure),
    }
    keys = [sql.column(name, "b") for name in (*groups.names, *named)]
    select = exp.select(
        *keys,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.exact_sum(above_nothing(sql.column("units", "b"))), "total"),
    ).from_(population.base(values, reasons).subquery("b"))
    select = select.group_by(*(key.copy() for key in keys))
    select = select.order_by(*(sql.ordered(key.copy()) for key in keys))
    found = population.query(select.limit(MOST_KINDS * MOST_GROUPS + 1))
    whose = [
        tuple(row) for row in zip(*(found.column(n).to_pylist() for n in groups.names), strict=True)
    ]
    what = [tuple(row) for row in zip(*(found.column(n).to_pylist() for n in named), strict=True)]
    group_at = {key: place for place, key in enumerate(dict.fromkeys(whose))}
    kind_at = {key: place for place, key in enumerate(sorted(dict.fromkeys(what), key=str))}
    for at, most, labels in (
        (kind_at, MOST_KINDS, kinds.labels), (group_at, MOST_GROUPS, groups.labels)
    ):  # fmt: skip
        if len(at) > most:
            raise UserError(
                f"{listed(list(labels))} has {len(at):,} values or more; a cross table compares up to {most:,}"
            )
    rows = np.zeros((len(group_at), len(kind_at)), dtype=np.int64)
    totals = np.zeros(rows.shape, dtype=object)
    numbers = zip(found.column("n").to_pylist(), found.column("total").to_pylist(), strict=True)
    for who, kind, (n, total) in zip(whose, what, numbers, strict=True):
        rows[group_at[who], kind_at[kind]] = int(n)
        totals[group_at[who], kind_at[kind]] = int(total or 0)
    return Counts(
        [dict(zip(groups.labels, key, strict=True)) for key in group_at],
        [dict(zip(kinds.labels, key, strict=True)) for key in kind_at],
        rows,
        totals,
    )
