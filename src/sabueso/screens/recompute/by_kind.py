"""Amounts that are a multiple of another number, another one for each of a few kinds of rows, as they are proposed: a fee by
the plan of its seller, a tax by what is sold, a wage by grade. The kind stands in the row, or in the row that it names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.named_columns import columns_there
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.one_rate import (
    OneRate,
    at_least,
    floor_of,
    floor_told,
    one_rate,
)
from sabueso.screens.recompute.priced import Priced, held, is_rule
from sabueso.stats.additive import HOLDS

MOST_SEEN = 5_000
"""Rows in which rates are looked for before they are counted in all."""
MOST_KINDS, LEAST_EACH, DIFFERENT_EACH = 12, 10, 5
"""Kinds that rates may be by; rows, and different numbers among them, by which the rate of a kind is told."""
MOST_AMOUNTS, MOST_BASES, MOST_NAMED = 8, 12, 10
"""Further amounts that may be made so, numbers that they may be of, and columns of kinds of the rows that are named."""
COVERED = 0.95
"""Share of the rows seen whose kind must have a rate."""
MOST_PROPOSED = 2
_NO_KIND: tuple[Role, ...] = ("id", "document", "text")


class _Kind(NamedTuple):
    """A column of kinds: its SQL, what it is called, whether it stands in the row, and whether it is a number."""

    sql: str
    told: str
    own: bool
    number: bool


class _Rates(NamedTuple):
    """The rates of an amount by kind: of what, by which kinds, as they are written, and the share of the rows that keep
    them."""

    own: Column
    of: Column
    kind: _Kind
    rates: Mapping[str, OneRate]
    holds: float
    floor: float | None

    @property
    def expression(self) -> str:
        """What the amount should be; nothing is said of a kind that has no rate."""
        each = " ".join(
            f"WHEN {value if self.kind.number else literal(value)} THEN {rate.text}"
            for value, rate in self.rates.items()
        )
        made = f"CASE {self.kind.sql} {each} END * {quoted_name(self.of.name)}"
        return at_least(made, self.floor)

    @property
    def told(self) -> str:
        return f"{self.of.name} times what it is by {self.kind.told}{floor_told(self.floor)}"

    @property
    def named(self) -> str:
        """``0.12 for standard and 0.09 for premium``."""
        each = listed([f"{rate.text} for {value}" for value, rate in self.rates.items()])
        return f"{each}{floor_told(self.floor)}"


def proposed_by_kind(
    population: Population, amount: Column, asked: Priced | None, made: Mapping[str, str]
) -> Iterator[Proposal]:
    """Amounts that are a multiple of another number by kind, of those that are not ``made`` by another rule, told by its SQL,
    nor by the price that is ``asked`` for already."""
    table = population.table
    if population.account(None).used < LEAST_OF_RULE:
        return
    every = [*([amount] if asked is None else []), *further(table, amount, MOST_AMOUNTS)]
    amounts = [c for c in every if c.name not in made]
    kinds = _kinds(population)
    bases = _bases(table, amount)
    if not (amounts and kinds and len(bases) > 1):
        return
    trees: dict[str, Tree] = {c.name: sql.column(c.name) for c in (*amounts, *bases)}
    also = {k.told: expressions.scalar(k.sql, table, "--expect") for k in kinds}
    seen, coded = first_of_both(population, trees, (), MOST_SEEN, also)
    few = {k: coded[k.told] for k in kinds if 2 <= len(coded[k.told].distinct) <= MOST_KINDS}
    found = [
        rates
        for own in amounts
        for of in bases
        # A gross is its net with the tax: that the net is a part of it is said by that.
        if own.name != of.name and quoted_name(own.name) not in made.get(of.name, "")
        if (rates := _best(own, of, seen, few)) is not None
    ]
    found.sort(key=lambda r: (-r.holds, max(len(rate.text) for rate in r.rates.values())))
    told: set[str] = set()
    proposed = 0
    for rates in found:
        # What is no exception to one rule is none to that turned round.
        if told & {rates.own.name, rates.of.name}:
            continue
        way = held(population, rates.own, rates.expression, rates.told)
        if not is_rule(way) or not _are_exceptions(population, rates):
            continue
        told.add(rates.own.name)
        if way.differing and proposed < MOST_PROPOSED:
            proposed += 1
            yield Proposal(
                f"{rates.own.name} of {table.name} by {rates.kind.told}",
                way.proposal(rates.own.name, table.name, "").settings,
                f"Rows whose {rates.own.name} is not what the rate of their kind makes it.",
                f"{way.because}: {rates.of.name} times {rates.named}",
            )


def _are_exceptions(population: Population, rates: _Rates) -> bool:
    """Whether hardly any of the rows with something of the amount have another: of more it holds where nothing else happens to
    tell it, such as a month without absences."""
    some = replace(population, where=f"{quoted_name(rates.own.name)} <> 0")
    way = held(some, rates.own, rates.expression, rates.told)
    return way.hardly_differs


def _bases(table: Table, amount: Column) -> list[Column]:
    """Numbers that an amount may be a multiple of."""
    none = {table.roles.get(role) for role in ("id", "price")}
    numbers = table.numbers
    rest = [c for c in numbers if c.name not in none and c.name != amount.name]
    return [amount, *rest][:MOST_BASES]


def _kinds(population: Population) -> list[_Kind]:
    """Columns of a row, and of the rows that it names, that may say of which kind it is: texts, and whole numbers that may be
    of a class."""
    table = population.table
    mine = [c for c in table.columns if not c.is_place and _may_tell(c, table)]
    found = [_Kind(quoted_name(c.name), c.name, True, c.type == "number") for c in mine]
    there = [
        _Kind(each.sql, each.told, False, each.column.type == "number")
        for each in columns_there(population)
        if _may_tell(each.column, each.table) and each.column.name != table.links[each.by].key
    ]
    return found + there[:MOST_NAMED]


def _may_tell(column: Column, table: Table) -> bool:
    none = {table.roles.get(role) for role in (*_NO_KIND, "amount", "quantity", "price")}
    is_kind = column.type == "text" or (column.type == "number" and column.scale == 0)
    return is_kind and column.name not in none


def _best(
    own: Column,
    of: Column,
    seen: Mapping[str, np.ndarray],
    kinds: Mapping[_Kind, Coded],
) -> _Rates | None:
    """The kinds by which an amount is made in nearly all rows: those that hold for the most, of equally good ones the
    fewest, and those of the row itself before those of what it names."""
    amount, base = seen[own.name], seen[of.name]
    known = ~(np.isnan(amount) | np.isnan(base)) & (base != 0)
    if known.sum() < LEAST_OF_RULE:
        return None
    # A charge may have a minimum, which tells nothing of its rate.
    for floor in dict.fromkeys((None, floor_of(amount))):
        above = known if floor is None else known & (amount > floor)
        if above.sum() < LEAST_OF_RULE or not _are_few(amount[above] / base[above], base[above]):
            continue
        if one_rate(amount, base, own.scale, floor=floor) is not None:
            return None
        every = (_by(own, of, kind, coded, seen, known, floor) for kind, coded in kinds.items())
        found = [rates for rates in every if rates is not None]
        if found:
            return max(found, key=lambda r: (r.holds, -len(r.rates), r.kind.own))
    return None


def _are_few(ratios: np.ndarray, base: np.ndarray) -> bool:
    """Whether most rows have one of a few ratios, to three figures: of the larger half, in which rounding tells little."""
    large = (np.abs(base) >= np.median(np.abs(base))) & (ratios != 0)
    size = 10.0 ** np.floor(np.log10(np.abs(ratios[large])))
    _, sizes = np.unique(np.round(ratios[large] / size, 2) * size, return_counts=True)
    return float(np.sort(sizes)[::-1][: 2 * MOST_KINDS].sum()) >= HOLDS * float(sizes.sum()) > 0


def _by(
    own: Column, of: Column, kind: _Kind, coded: Coded, seen: Mapping[str, np.ndarray], known: np.ndarray,
    floor: float | None,
) -> _Rates | None:  # fmt: skip
    amount, base = seen[own.name], seen[of.name]
    rates: dict[str, OneRate] = {}
    covered, same = 0, 0.0
    # Which rows are the first is not said, nor in which order their kinds come.
    for value, code in sorted((value, code) for code, value in enumerate(coded.values)):
        rows = known & (coded.codes == code)
        if (n := int(rows.sum())) < LEAST_EACH or np.unique(base[rows]).size < DIFFERENT_EACH:
            continue
        nothing = float((amount[rows] == 0).mean())
        if nothing >= HOLDS:
            rates[value], share = OneRate("0", nothing), nothing
        else:
            rate = one_rate(
                amount[rows], base[rows], own.scale, once=True, least=LEAST_EACH, different=DIFFERENT_EACH, floor=floor
            )  # fmt: skip
            if rate is None:
                return None
            rates[value], share = rate, rate.holds * (1 - nothing)
        covered, same = covered + n, same + share * n
    of_all = same / int(known.sum())
    if (
        len({rate.text for rate in rates.values()}) < 2
        or covered < COVERED * known.sum()
        or of_all < HOLDS
    ):
        return None
    return _Rates(own, of, kind, rates, of_all, floor)
