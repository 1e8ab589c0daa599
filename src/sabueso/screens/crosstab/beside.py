"""Rows of a table by whose they are, beside those of another table: what is tested where it is no kind of rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from sabueso.base.errors import UserError
from sabueso.base.words import listed
from sabueso.population import sql
from sabueso.population.expressions import all_of
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.report import numbers as num
from sabueso.screens.cells import above_nothing
from sabueso.screens.crosstab.counts import MOST_GROUPS, Counts
from sabueso.screens.finding import Caution, NotTested
from sabueso.screens.grouping import Grouping, per_group, without_key

MANY = 5
"""Rows that are expected of somebody, from which to have none is no chance."""
TABLE = "table"
"""What tells which of the two tables a cell is of."""


@dataclass(frozen=True)
class Beside:
    """Rows by whose they are in both tables, those of the table first; and the rows of the other that are
    nobody's."""

    counts: Counts
    other: str
    nobodys: int

    def compared(self, least: int) -> tuple[Counts, list[NotTested]]:
        """Who has rows enough in the other table to be compared, and who is not.

        Who has none of the table's, where many would be expected, is not: it may be others' work, as what a
        till takes back is not the web shop's, and that would tell of how the work is shared.
        """
        own, theirs = self.counts.rows.T
        enough = theirs >= least
        of_enough = max(int(theirs[enough].sum()), 1)
        expected = int(own[enough].sum()) * theirs / of_enough
        idle = enough & (own == 0) & (expected >= MANY)
        apart = []
        for g, key in enumerate(self.counts.groups):
            if not enough[g] and own[g]:
                words = f"row of {self.other}", f"rows of {self.other}"
                apart.append(
                    NotTested(key, num.too_few(int(theirs[g]), least, *words), int(own[g]))
                )
            elif idle[g]:
                reason = f"none, where {num.number(float(expected[g]), 1)} would be expected: it may be others' work"
                apart.append(NotTested(key, reason))
        return self.counts.only(np.flatnonzero(enough & ~idle).tolist()), apart

    def cautions(self) -> list[Caution]:
        """That rows of the other table are nobody's."""
        if not self.nobodys:
            return []
        n = self.nobodys
        text = (
            f"{num.many(n, 'row')} of {self.other} {num.verb(n, 'does', 'do')} not tell whose {num.verb(n, 'it is', 'they are')}, "
            f"and {num.verb(n, 'is', 'are')} not compared"
        )
        return [Caution("beside_missing_key", text, {"rows": n})]


def other_rows(population: Population, name: str, where: str | None) -> tuple[Population, str]:
    """The rows that those of a population are held against, and what they are called.

    Of the same table they are its other rows.

    Raises
    ------
    UserError
        If there is no such table, or it has no other rows.
    """
    called, same = name, name == population.table.name
    if same:
        own = population.asked
        if own is None:
            raise UserError(
                f"--beside {name} is the table itself: say with --where which of its rows are compared with the others"
            )
        where = all_of(where, f"not coalesce(({own}), false)")
        called = f"the other rows of {name}"
    other = population.rows_of(name, where, to="to compare with")
    return (replace(other, set_aside=population.set_aside) if same else other), called


def beside(
    population: Population,
    groups: Grouping,
    reasons: Sequence[Reason],
    measure: Column | None,
    other: tuple[Population, str],
    theirs: Sequence[str],
) -> Beside:
    """Count the rows of each in both tables.

    Raises
    ------
    UserError
        If what tells whose the rows are is not of the same kind in both, nobody is in both, or there are too many.
    """
    rows, called = other
    of = Grouping.of(theirs, rows.table)
    if len(of.labels) != len(groups.labels):
        raise UserError(
            f"--beside-by names {num.many(len(of.labels), 'column')}, and --by {len(groups.labels):,}: "
            "expected as many"
        )
    own = _counted(population, groups, reasons, measure)
    known = without_key(of)
    base = _counted(rows, of, [known], None)
    names = (
        f"{listed(list(groups.labels))} of {population.table.name}",
        f"{listed(list(of.labels))} of {called}",
    )
    _check_alike(list(own), list(base), names)
    keys = sorted({*own, *base}, key=lambda key: tuple(map(str, key)))
    if len(keys) > MOST_GROUPS:
        raise UserError(
            f"{names[0]} and {names[1]} have {len(keys):,} values or more; a cross table compares up to {MOST_GROUPS:,}"
        )
    counts = np.array(
        [[own.get(key, (0, 0))[0], base.get(key, (0, 0))[0]] for key in keys], np.int64
    )
    units = np.array([[own.get(key, (0, 0))[1], None] for key in keys], dtype=object)
    mine = population.table.name
    if rows.table.name == mine:
        mine = f"{mine} where {population.asked}"
    return Beside(
        Counts(
            [dict(zip(groups.labels, key, strict=True)) for key in keys],
            [{TABLE: mine}, {TABLE: called}],
            counts.reshape(-1, 2),
            units.reshape(-1, 2),
        ),
        called,
        rows.account(None, [known]).left_out.get(known.code, 0),
    )


def _counted(
    population: Population, groups: Grouping, reasons: Sequence[Reason], measure: Column | None
) -> dict[tuple[object, ...], tuple[int, int]]:
    """Rows of each, and the minor units of their amounts above nothing."""
    worth = sql.integer(0) if measure is None else sql.minor_units(measure)
    values: dict[str, Tree] = {**groups.values(), "units": worth}
    fields: dict[str, Tree] = {
        "n": sql.count(),
        "total": sql.exact_sum(above_nothing(sql.column("units", "b"))),
    }
    select = per_group(population.base(values, reasons), groups, fields)
    found = population.query(select.limit(MOST_GROUPS + 1))
    keys = zip(*(found.column(name).to_pylist() for name in groups.names), strict=True)
    counted = zip(found.column("n").to_pylist(), found.column("total").to_pylist(), strict=True)
    return {key: (int(n), int(total or 0)) for key, (n, total) in zip(keys, counted, strict=True)}


def _check_alike(
    own: Sequence[tuple[object, ...]], base: Sequence[tuple[object, ...]], names: tuple[str, str]
) -> None:
    """Refuse what is not of the same people, or whoever it is, in both."""
    if not own or not base:
        return
    for mine, other in zip(own[0], base[0], strict=True):
        if _kind(mine) != _kind(other):
            raise UserError(
                f"{names[0]} is {_kind(mine)}, and {names[1]} is {_kind(other)}: expected the same kind of values"
            )
    if not {*own} & {*base}:
        raise UserError(
            f"no value of {names[0]} is among those of {names[1]}: expected whose rows they are in both"
        )


def _kind(value: object) -> str:
    if isinstance(value, str):
        return "a text"
    return "a day" if hasattr(value, "isoformat") else "a number"
