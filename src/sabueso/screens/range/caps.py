"""Numbers that are hardly ever above another of their row, or of the row that it names, as they are proposed: litres
and the tank they went into, a claim and its limit."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of

MOST_SEEN = 5_000
"""Rows that are looked at before anything is counted in all."""
MOST_OF_EACH = 8
"""Numbers of a table that are compared."""
MOST_ABOVE, FEW_ABOVE = 0.01, 3
"""Share of the rows above up to which it is the exception, and how many may be however few rows there are."""
LISTED, MOST_LISTED = 25, 0.03
"""Rows above that can be looked through, and the share of all up to which as many are the exception."""
BY_CHANCE = 0.1
"""Share of the rows that would be above if each were beside another's limit, from which the limit is what keeps them."""
MET, ALIKE = 0.05, 0.9
"""Share of rows that are what the other number of their row is, from which that may be a limit, and up to which."""

_LIMIT = re.compile(
    r"limit|\bmax|ceiling|\bcap\b|plafond|\btope|techo|obergrenze|höchst|grenze|massimale|teto|maxim|máxim|límite",
    re.IGNORECASE,
)
_WORD = re.compile(r"[^\W\d_]{4,}")


class _Pair(NamedTuple):
    """A number and what may be its limit, as SQL and as it is told; ``column`` is what names its row, if another's."""

    own: str
    limit: str
    told: str
    column: str = ""

    def is_called(self, amount: str | None) -> bool:
        """Whether it is called a limit, of the amount or by the number's own name."""
        name = self.limit.rpartition(".")[2]
        if not self.column or _LIMIT.search(name) is None:
            return False
        return self.own == amount or not set(_WORD.findall(self.own.casefold())).isdisjoint(
            _WORD.findall(name.casefold())
        )


def proposed_caps(population: Population) -> Iterator[Proposal]:
    """Numbers with a limit that nearly all of them keep."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    pairs = [*_linked(population), *_own(table)]
    pairs = [pair for pair, keeps in zip(pairs, _keeping(population, pairs), strict=True) if keeps]
    if not pairs:
        return
    fields = []
    for place, pair in enumerate(pairs):
        own, limit = sql.column(pair.own), expressions.scalar(pair.limit, table, "--not-above")
        both = exp.Add(this=own.copy(), expression=limit.copy())
        above = exp.GT(this=own.copy(), expression=limit.copy())
        fields.append(exp.alias_(exp.Count(this=both), f"n{place}"))
        fields.append(exp.alias_(sql.only(sql.count(), above), f"out{place}"))
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    for place, pair in enumerate(pairs):
        n, out = int(row[f"n{place}"]), int(row[f"out{place}"])
        if n >= LEAST_OF_RULE and 0 < out <= max(
            FEW_ABOVE, MOST_ABOVE * n, min(LISTED, MOST_LISTED * n)
        ):
            yield Proposal(
                f"{pair.own} of {table.name} above {pair.told}",
                settings_of(on=pair.own, not_above=pair.limit),
                "More than what nearly all others keep to.",
                f"{out:,} of {n:,} rows are above",
            )


def _numbers(table: Table) -> list[Column]:
    """Amounts and quantities first, then the others."""
    first = [table.roles.get("amount"), table.roles.get("quantity")]
    taken = {name for role, name in table.roles.items() if name not in first}
    found = [c for c in table.columns if c.type == "number" and not c.is_place]
    found = [c for c in found if c.name not in taken]
    return sorted(found, key=lambda c: c.name not in first)[:MOST_OF_EACH]


def _linked(population: Population) -> Iterator[_Pair]:
    table = population.table
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        if other.name == table.name:
            continue
        for limit in _numbers(other):
            for own in _numbers(table):
                named = ".".join(map(quoted_name, (column, limit.name)))
                yield _Pair(own.name, named, f"{limit.name} of its {column}", column)


def _own(table: Table) -> Iterator[_Pair]:
    for own in _numbers(table):
        for limit in _numbers(table):
            if own.name != limit.name:
                yield _Pair(own.name, quoted_name(limit.name), limit.name)


def _keeping(population: Population, pairs: list[_Pair]) -> list[bool]:
    """Which pairs are of a number and its limit, by some rows: few are above it, and many would be above another
    row's; within one row, some are just what the other is, as they are where it holds them."""
    table = population.table
    trees = {p.limit: expressions.scalar(p.limit, table, "--not-above") for p in pairs}
    trees |= {quoted_name(p.own): sql.column(p.own) for p in pairs}
    if not trees:
        return []
    seen = first_numbers(population, trees, MOST_SEEN)
    shuffled = np.random.default_rng(0).permutation(len(next(iter(seen.values()))))
    # What the row that is named tells itself is no more than a limit of it by the way.
    told = {
        (p.own, p.column)
        for p in pairs
        if p.column and (seen[quoted_name(p.own)] == seen[p.limit]).mean() > ALIKE
    }
    return [
        (p.own, p.column) not in told
        and _keeps(
            seen[quoted_name(p.own)],
            seen[p.limit],
            shuffled,
            named=bool(p.column),
            called=p.is_called(table.roles.get("amount")),
        )
        for p in pairs
    ]


def _keeps(
    own: np.ndarray, limit: np.ndarray, shuffled: np.ndarray, *, named: bool, called: bool
) -> bool:
    """``named`` says that the limit is of a row that is named, ``called`` that it is called one."""
    known = ~(np.isnan(own) | np.isnan(limit))
    if known.sum() < LEAST_OF_RULE or (limit[known] < 0).any() or (own[known] < 0).any():
        return False
    above, alike = (own > limit)[known].mean(), (own == limit)[known].mean()
    chance = (own > limit[shuffled])[known].mean()
    met = named or alike >= MET
    kept = chance >= BY_CHANCE or called
    return bool(above <= MOST_LISTED and kept and met and alike <= ALIKE)
