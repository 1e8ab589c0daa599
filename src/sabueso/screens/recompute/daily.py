"""What comes together in a day that another table has as one figure, as it is proposed: takings in cash, and what was
banked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from itertools import combinations
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population, Reason
from sabueso.population.table import Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.one_way import are_linked
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of, texts_without
from sabueso.screens.recompute.totals import Sides, agreement
from sabueso.stats.additive import HOLDS

ONCE, OFTEN = 1.05, 3
"""Rows a day that the other table has at most on average, and this one at least."""
MOST_SEEN, MOST_COLUMNS, MOST_KINDS = 20_000, 4, 6
"""Rows that are looked at for kinds, columns of kinds that are tried, and kinds of each."""


def proposed_daily(population: Population) -> Iterator[Proposal]:
    """Sums of a day, of all rows or of those of some kinds, that are nearly always the other table's figure of it."""
    table, others = population.table, [o for _, o in sorted(population.tables.items())]
    if not _is_dated(table) or population.account(None).used < LEAST_OF_RULE:
        return
    seen: _Seen | None = None
    for other in others:
        if other.name == table.name or not _is_dated(other) or are_linked(table, other):
            continue
        there = population.beside(other)
        days, figures, rows = _figures(there)
        if len(days) < LEAST_OF_RULE or rows > ONCE * len(days):
            continue
        seen = _Seen.of(population) if seen is None else seen
        if seen.rows < OFTEN * len(seen.days):
            continue
        found = seen.kinds_of(days, figures)
        proposal = None if found is None else _proposal(population, other, found)
        if proposal is not None:
            yield proposal


class _Kinds(NamedTuple):
    """Rows of some kinds of a column, of all where there is none."""

    column: str = ""
    chosen: tuple[str, ...] = ()

    @property
    def where(self) -> str | None:
        if not self.chosen:
            return None
        return f"{quoted_name(self.column)} in ({', '.join(map(literal, self.chosen))})"


class _Seen(NamedTuple):
    """What each day comes to by each kind of some columns, and how many rows there are."""

    days: np.ndarray
    sums: dict[str, tuple[list[str], np.ndarray]]
    rows: int

    @classmethod
    def of(cls, population: Population) -> _Seen:
        names = texts_without(population.table, ("id", "document", "party", "account", "currency"))
        coded = first_coded(population, names, MOST_SEEN) if names else {}
        few = [n for n, c in coded.items() if 1 < len(c.values) <= MOST_KINDS][:MOST_COLUMNS]
        days, whole, rows = _figures(population)
        sums = {"": (["all"], whole[:, None])}
        for name in few:
            found = _by_day(population, name)
            every = sorted({str(row["k0"]) for row in found})
            own = np.array([row["d"] for row in found], dtype="datetime64[D]")
            table = np.full((len(days), len(every)), Decimal(0), dtype=object)
            kinds = [every.index(str(row["k0"])) for row in found]
            table[np.searchsorted(days, own), kinds] = _decimals(found)
            sums[name] = every, table
        return cls(days, sums, rows)

    def kinds_of(self, days: np.ndarray, figures: np.ndarray) -> _Kinds | None:
        """The kinds whose sums are the figures on most of the days that both have, if on nearly all: the fewest of
        equally good ones."""
        both, mine, theirs = np.intersect1d(self.days, days, return_indices=True)
        if len(both) < LEAST_OF_RULE:
            return None
        best, most = None, HOLDS
        for name, (kinds, sums) in self.sums.items():
            for many in range(1, len(kinds) + 1):
                for chosen in combinations(range(len(kinds)), many):
                    own = sums[mine][:, list(chosen)].sum(axis=1)
                    same = float((own == figures[theirs]).mean())
                    if same > most:
                        named = tuple(kinds[k] for k in chosen) if name else ()
                        best, most = _Kinds(name, named), same
        return best


def _is_dated(table: Table) -> bool:
    date = table.dated()
    return "amount" in table.roles and date is not None and date.type == "date" and not is_budget(table)  # fmt: skip


def _figures(population: Population) -> tuple[np.ndarray, np.ndarray, int]:
    """Days in order, what each comes to, and how many rows there are."""
    found = _by_day(population)
    days = np.array([row["d"] for row in found], dtype="datetime64[D]")
    return days, _decimals(found), sum(int(row["n"]) for row in found)


def _by_day(population: Population, *kinds: str) -> list[Cells]:
    """The sum of each day, and of each kind of a column; of rows that have all of them."""
    table = population.table
    date, amount = table.roles["date"], table.roles["amount"]
    keys = {"d": sql.column(date), **{f"k{i}": sql.column(name) for i, name in enumerate(kinds)}}
    fields = {**keys, "s": exp.Sum(this=sql.column(amount)), "n": sql.count()}
    known = [Reason("none", sql.is_missing(tree.copy())) for tree in (*keys.values(), sql.column(amount))]  # fmt: skip
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    select = population.used(select, known).group_by(*(tree.copy() for tree in keys.values()))
    return sorted(population.query(select).to_pylist(), key=lambda row: row["d"])


def _decimals(rows: Sequence[Cells]) -> np.ndarray:
    return np.array([Decimal(row["s"]) for row in rows], dtype=object)


def _proposal(population: Population, other: Table, kinds: _Kinds) -> Proposal | None:
    """The screen, if it holds for nearly all days that both have, and not for all."""
    table = population.table
    date, theirs = (quoted_name(t.roles["date"]) for t in (table, other))
    own, expected = (f"sum({quoted_name(t.roles['amount'])})" for t in (table, other))
    rows = replace(population, where=kinds.where)
    _, both, same = agreement(rows, Sides([date], own, expected, other.name, [theirs]))
    if both < LEAST_OF_RULE or same < HOLDS * both or same == both:
        return None
    of = f" of rows whose {kinds.column} is {' or '.join(kinds.chosen)}" if kinds.chosen else ""
    return Proposal(
        f"amount by {table.roles['date']} of {table.name} and {other.name}",
        settings_of(
            where=kinds.where, what="totals", by=[date], equals=own, expect=expected, other=other.name,
            other_on=[] if date == theirs else [theirs], among="both",
        ),
        f"Days that do not come to what {other.name} has.",
        f"both have the same on {same:,} of {both:,} days{of}",
    )  # fmt: skip
