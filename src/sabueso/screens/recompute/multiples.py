"""Amounts that are one and the same multiple of another number, or of two, as they are proposed: found in some rows, counted
in all. Kilometres, a net, what is left after a discount."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, settings_of
from sabueso.screens.recompute.amounts import NEED_NONE
from sabueso.screens.recompute.by_brackets import ByBrackets
from sabueso.screens.recompute.made_of import (
    MadeOf,
    both_of,
    less_percent_of,
    products_of,
    quotients_of,
    three_of,
)
from sabueso.screens.recompute.one_rate import (
    CLEAN,
    OneRate,
    at_least,
    floor_of,
    floor_told,
    one_rate,
)
from sabueso.screens.recompute.priced import Priced, held, is_rule

MOST_SEEN, MOST_BASES = 2_000, 10
"""Rows in which a multiple is looked for before it is counted in all, and numbers that it may be of."""
MOST_RULES = 3
"""Multiples that are proposed of one table."""
MOST_FACTORS = 7
"""Numbers of which two may make an amount times one another."""
PLAIN = 6
"""Letters of a multiple, such as 0.0875, above which one of fewer is rather what the amount was made by."""
MOST_WAYS = 8
"""Multiples that are counted in all rows, those that hold for the most first."""


def proposed_one_rate(
    population: Population,
    amounts: list[Column],
    asked: Priced | None = None,
    rated: Collection[str] = (),
    in_brackets: Sequence[ByBrackets] = (),
    told_there: Collection[str] = (),
) -> Iterator[Proposal]:
    """Amounts of a row that are one and the same multiple of another of its numbers, such as of the kilometres that were
    driven or of the net, or of two of them times one another: the first that nearly all rows with both keep. Of the
    quantity, whose price is ``asked`` for already, the multiple would be that price; what ``rated`` are is known too, and
    what are ``in_brackets``, or ``told_there``, by the row that is named."""
    table = population.table
    taken = set(table.roles.values()) - {table.roles.get("quantity")}
    numbers = table.numbers
    others = [c for c in numbers if c.name not in taken and c not in amounts]
    bases = [*amounts, *others][:MOST_BASES]
    factors = [c for c in numbers if c.name not in taken - {table.roles.get("price")}]
    factors = [c for c in factors if c not in amounts[:1]][:MOST_FACTORS]
    if not amounts or len(bases) < 2 or population.account(None).used < LEAST_OF_RULE:
        return
    every = {quoted_name(c.name): sql.column(c.name) for c in (*bases, *factors)}
    seen = first_numbers(population, every, MOST_SEEN)
    quantity = (table.roles.get("quantity"),)

    def told_otherwise(own: Column, of: MadeOf) -> bool:
        # Of the quantity it would be the price.
        priced = asked is not None and own is amounts[0]
        if of.by and (
            of.names[0] in rated or (asked is not None and of.names[0] == amounts[0].name)
        ):
            return True  # which is a product of the other two
        return (own.name in rated and of.times) or (priced and (of.times or of.names == quantity))

    less = [*less_percent_of(bases, factors), *quotients_of(amounts, factors)]
    made_of = [
        *map(MadeOf.of, bases),
        *both_of(amounts, seen),
        *three_of(amounts, seen),
        *products_of(factors),
        *less,
    ]
    exact: list[_Multiple] = []
    left, told_of = MOST_WAYS, 0
    for way in _multiples(amounts, made_of, seen, told_otherwise):
        # What is no exception to one rule is none to what that makes of it.
        if not left or any(one.makes(way) for one in exact):
            continue
        left -= 1
        own, expression = way.own, way.expression(seen)
        if own.name in told_there or any(_is_in(each, way, seen) for each in in_brackets):
            exact.append(way)  # nor are other ways to say so
            continue
        # Rows that need none are no part of this, a fee for being late; where there is nothing that it is of, it is nothing.
        some = np.nan_to_num(way.of.values(seen)) != 0
        none = float((np.nan_to_num(seen[quoted_name(own.name)])[some] == 0).mean())
        where = f"{quoted_name(own.name)} <> 0" if none > NEED_NONE else None
        rows = replace(population, where=where)
        found = held(rows, own, expression, way.told)
        if is_rule(found) and found.differing:
            by = "these make" if way.of.is_once else "the rate makes"
            made = found.proposal(own.name, table.name, f"what {by} it")
            which = " that have some" if where or expression.startswith("nullif") else ""
            settings = settings_of(where=where, **made.settings)
            yield replace(made, settings=settings, because=f"{found.because}{which}")
            told_of += 1
        if is_rule(found):
            exact.append(way)
        if told_of == MOST_RULES:
            return


class _Multiple(NamedTuple):
    """An amount, what it is a multiple of, and which."""

    rate: OneRate
    own: Column
    of: MadeOf

    def expression(self, seen: Mapping[str, np.ndarray]) -> str:
        """What the amount should be; nothing is said of rows with nothing of the number and something of the amount, such
        as a meal among kilometres."""
        of = self.of.expression(seen)
        nothing = np.nan_to_num(self.of.values(seen)) == 0
        apart = nothing & (np.nan_to_num(seen[quoted_name(self.own.name)]) != 0)
        times = "" if self.rate.text == "1" else f" * {self.rate.text}"
        made = f"{f'nullif({of}, 0)' if apart.any() else of}{times}"
        return at_least(made, self.rate.floor)

    @property
    def told(self) -> str:
        """``0.045 times Sum insured``."""
        told = self.of.told if self.rate.text == "1" else f"{self.rate.text} times {self.of.told}"
        return f"{told}{floor_told(self.rate.floor)}"

    def makes(self, other: _Multiple) -> bool:
        """Whether another multiple is of what this one makes, or of what it is made of; or the whole with this part."""
        if self.of == other.of and max(abs(float(way.rate.text)) for way in (self, other)) > 1:
            return True
        # What was claimed is the rate, and what was paid of it is not always all.
        if (self.of, self.rate.text) == (other.of, other.rate.text) and other.rate.holds < CLEAN:
            return True
        if other.of.is_once or self.of.is_once:
            # What it is of, or what is made of it, may be made of others in turn.
            same = {self.own.name, *self.of.names} == {other.own.name, *other.of.names}
            return same or self.own == other.own
        return self.own.name in (other.own.name, *other.of.names) or other.own.name in self.of.names


def _multiples(
    amounts: list[Column],
    made: Sequence[MadeOf],
    seen: Mapping[str, np.ndarray],
    told: Callable[[Column, MadeOf], bool],
) -> list[_Multiple]:
    """Multiples that nearly all of some rows keep and that are not ``told`` otherwise, those first that most do: others
    are what these make of some. Of equally good ones the plainest, and the fee as a part of its rent before the rent as a
    multiple of the fee."""
    found = []
    for own in amounts:
        for of in made:
            if of.is_made_by(own.name) or told(own, of):
                continue
            values, base = seen[quoted_name(own.name)], of.values(seen)
            rate = one_rate(values, base, own.scale, once=of.is_once)
            if rate is None and not of.sign and (floor := floor_of(values)) is not None:
                rate = one_rate(values, base, own.scale, floor=floor)
            # By another number it is a conversion, and no multiple of one; what is left without a tax is none of it.
            left = own.name in of.names and rate is not None and abs(float(rate.text)) > 1
            if rate is not None and not left and not (of.by and rate.text != "1"):
                found.append(_Multiple(rate, own, of))

    def rank(way: _Multiple) -> tuple[float, bool, int, bool, int]:
        size, long = abs(float(way.rate.text)), len(way.rate.text) > PLAIN
        return -way.rate.holds, long, len(way.of.names), size > 1, len(way.rate.text)

    return sorted(found, key=rank)


def _is_in(brackets: ByBrackets, way: _Multiple, seen: Mapping[str, np.ndarray]) -> bool:
    """Whether a multiple is told by brackets of the same number."""
    if brackets.of.name not in way.of.names:
        return False
    if brackets.own == way.own:
        return True
    made = way.of.values(seen) * float(way.rate.text)
    return brackets.tells(
        way.own, seen[quoted_name(way.own.name)], seen[quoted_name(brackets.of.name)], made
    )
