"""Numbers that are hardly ever above another of their row, or of the row that it names, or below one that it names, as they
are proposed: litres and the tank they went into, a claim and its limit, a price and what the thing cost."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.words import CalledSo, have_in_common
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_numbers import named_numbers
from sabueso.screens.no_amounts import is_no_amount
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of
from sabueso.stats.mixing import share_above

MOST_SEEN = 5_000
"""Rows that are looked at before anything is counted in all."""
MOST_OF_EACH = 8
"""Numbers of a table that are compared."""
MOST_ABOVE, FEW_ABOVE = 0.01, 3
"""Share of the rows beyond up to which it is the exception, and how many may be however few rows there are."""
LISTED, MOST_LISTED = 25, 0.03
"""Rows beyond that can be looked through, and the share of all up to which as many are the exception."""
BY_CHANCE = 0.1
"""Share of the rows that would be beyond if each were beside another's limit, from which the limit is what keeps them."""
MET, ALIKE = 0.05, 0.9
"""Share of rows that are what the other number of their row is, from which that may be a limit, and up to which."""
OFTEN_LESS, WELL_BELOW = 10, 0.9
"""How many rows have less, where nearly all have what the other number of their row is, for each that has more; and the most
that others have of a limit that none meets, beside those that are above it."""

CENTS = 2
_LIMIT = CalledSo(
    r"limit|\bmax|ceiling|\bcap\b|plafond|\btope|techo|obergrenze|höchst|grenze|massim|teto|maxim|máx|límite"
)


class _Pair(NamedTuple):
    """A number and what may be its limit, as SQL and as it is told; ``column`` is what names its row, if another's, and
    ``least`` says that the number is not to be below it."""

    own: str
    limit: str
    told: str
    column: str = ""
    least: bool = False

    def is_called(self, amount: str | None) -> bool:
        """Whether it is called a limit, of the amount or by the number's own name."""
        name = self.limit.rpartition(".")[2]
        if not self.column or self.least or not _LIMIT.search(name):
            return False
        return self.own == amount or have_in_common(self.own, name)

    @property
    def beyond(self) -> str:
        return "below" if self.least else "above"


def proposed_caps(population: Population) -> Iterator[Proposal]:
    """Numbers with a limit that nearly all of them keep."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    pairs = [*_linked(population), *_far(population), *_own(table)]
    pairs = [pair for pair, keeps in zip(pairs, _keeping(population, pairs), strict=True) if keeps]
    if not pairs:
        return
    fields = []
    for place, pair in enumerate(pairs):
        own, limit = sql.column(pair.own), expressions.scalar(pair.limit, table, "--not-above")
        both = exp.Add(this=own.copy(), expression=limit.copy())
        beyond = (exp.LT if pair.least else exp.GT)(this=own.copy(), expression=limit.copy())
        fields.append(exp.alias_(exp.Count(this=both), f"n{place}"))
        fields.append(exp.alias_(sql.only(sql.count(), beyond), f"out{place}"))
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    for place, pair in enumerate(pairs):
        n, out = int(row[f"n{place}"]), int(row[f"out{place}"])
        if n >= LEAST_OF_RULE and 0 < out <= max(
            FEW_ABOVE, MOST_ABOVE * n, min(LISTED, MOST_LISTED * n)
        ):
            key = "not_below" if pair.least else "not_above"
            yield Proposal(
                f"{pair.own} of {table.name} {pair.beyond} {pair.told}",
                settings_of(on=pair.own, **{key: pair.limit}),
                f"{'Less' if pair.least else 'More'} than what nearly all others keep to.",
                f"{out:,} of {n:,} rows are {pair.beyond}",
            )


def _numbers(table: Table) -> list[Column]:
    """Amounts and quantities first, then the others."""
    first = [table.roles.get("amount"), table.roles.get("quantity")]
    taken = {name for role, name in table.roles.items() if name not in first and role != "price"}
    found = table.numbers
    found = [c for c in found if c.name not in taken]
    return sorted(found, key=lambda c: c.name not in first)[:MOST_OF_EACH]


def _linked(population: Population) -> Iterator[_Pair]:
    """Numbers with those of the rows that a row names: a price is not to be below what the thing costs."""
    table = population.table
    prices = {name for role, name in table.roles.items() if role == "price"}
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        if other.name == table.name:
            continue
        for limit in _numbers(other):
            for own in _numbers(table):
                if not _are_of_a_kind(own, limit):
                    continue
                named = ".".join(map(quoted_name, (column, limit.name)))
                told = f"{limit.name} of its {column}"
                if own.name not in prices:
                    yield _Pair(own.name, named, told, column)
                # What is pledged for a loan is worth what was lent.
                amounts = (own.name, limit.name) == (
                    table.roles.get("amount"),
                    other.roles.get("amount"),
                )
                if amounts or (own.name in prices and limit.name in other.roles.values()):
                    yield _Pair(own.name, named, told, column, least=True)


def _far(population: Population) -> Iterator[_Pair]:
    """Numbers with what is called their limit of a row that is named by a row that they name: the greatest discount of the
    agent of an invoice."""
    for limit in named_numbers(population, 2, ("id", "document", "debit", "credit")):
        name = limit.sql.rpartition(".")[2]
        if limit.links != 2 or not _LIMIT.search(name):
            continue
        for own in _numbers(population.table):
            if have_in_common(own.name, name):
                yield _Pair(own.name, limit.sql, limit.told, limit.sql.partition(".")[0])


def _own(table: Table) -> Iterator[_Pair]:
    prices = {name for role, name in table.roles.items() if role == "price"}
    numbers = [c for c in _numbers(table) if c.name not in prices]
    for own in numbers:
        for limit in numbers:
            if own.name != limit.name and _are_of_a_kind(own, limit):
                yield _Pair(own.name, quoted_name(limit.name), limit.name)


def _are_of_a_kind(own: Column, limit: Column) -> bool:
    """Whether one may be the limit of the other: of what is in cents days, hours and rates are none."""
    days = [is_no_amount(column.name) for column in (own, limit)]
    other = limit if days[0] else own
    return days[0] == days[1] or other.scale != CENTS


def _keeping(population: Population, pairs: list[_Pair]) -> list[bool]:
    """Which pairs are of a number and its limit, by some rows: few are beyond it, and many would be beyond another
    row's; within one row, some are just what the other is, as they are where it holds them."""
    table = population.table
    trees = {p.limit: expressions.scalar(p.limit, table, "--not-above") for p in pairs}
    trees |= {quoted_name(p.own): sql.column(p.own) for p in pairs}
    if not trees:
        return []
    seen = first_numbers(population, trees, MOST_SEEN)
    # What the row that is named tells itself is no more than a limit of it by the way.
    told = {
        (p.own, p.column)
        for p in pairs
        if p.column and (seen[quoted_name(p.own)] == seen[p.limit]).mean() > ALIKE
    }
    return [
        (p.own, p.column) not in told
        and _keeps(
            p,
            seen[quoted_name(p.own)],
            seen[p.limit],
            called=p.is_called(table.roles.get("amount")),
        )
        for p in pairs
    ]


def _keeps(pair: _Pair, own: np.ndarray, limit: np.ndarray, *, called: bool) -> bool:
    """``called`` says that the limit is called one."""
    known = ~(np.isnan(own) | np.isnan(limit))
    if known.sum() < LEAST_OF_RULE or (limit[known] < 0).any() or (own[known] < 0).any():
        return False
    beyond = np.less if pair.least else np.greater
    out, alike = beyond(own, limit)[known].mean(), (own == limit)[known].mean()
    sides = (limit[known], own[known]) if pair.least else (own[known], limit[known])
    chance = share_above(*sides)
    kept = chance >= BY_CHANCE or called
    if out > MOST_LISTED or not kept:
        return False
    if pair.column:
        return bool(alike <= ALIKE)
    if alike > ALIKE:
        # Nearly always the same: less now and then, and hardly ever more.
        less = np.less(own, limit)[known].sum()
        return bool(less >= max(LEAST_OF_RULE, OFTEN_LESS * (out * known.sum())))
    return bool(alike >= MET or _stand_apart(own[known], limit[known]))


def _stand_apart(own: np.ndarray, limit: np.ndarray) -> bool:
    """Whether those that are above a limit that none meets stand apart from all others, which are well below it."""
    above = own > limit
    share = own[~above] / np.where(limit[~above] > 0, limit[~above], np.inf)
    return bool(above.any() and len(share) and share.max() <= WELL_BELOW)
