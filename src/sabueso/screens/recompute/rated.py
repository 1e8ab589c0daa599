"""Amounts that are a rate of others, such as a retention, a commission or a tax, as they are proposed: found in some
rows, counted in all. The rate stands in the row, or in the row that it names."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from itertools import permutations
from typing import NamedTuple

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import LEAST_ROWS, Proposal, settings_of
from sabueso.screens.recompute.priced import TAX, Priced, held, is_rule
from sabueso.screens.recompute.sums import HOLDS
from sabueso.screens.recompute.ties import further, in_three

MOST_SEEN = 2_000
"""Rows in which a rate is looked for before it is counted in all."""
MOST_RATES = 8
"""Numbers that are tried as a rate."""
SOME = 0.5
"""Share of the rows seen in which the amount, what it is of and the rate must be something, and not alike."""


DIFFERENT = 20
"""Different numbers of which an amount must be one multiple."""
RATE_DECIMALS = (4, 5, 6)
"""Decimals of a multiple, the fewest first: a tax of 8.875 percent has five."""
NEED_NONE = 0.1
"""Share of the rows with nothing of an amount from which it is one that not all rows need."""
MOST_WAYS = 6
"""Multiples that are counted in all rows, those that hold for the most first."""
SOME_HAVE = 10
"""How many times the rows with something of a second amount must come to those that a table has at least."""
ONE = 0.95
"""Share of the rows with one number from which it is a rate only if it is called one."""
_NAMED = re.compile(
    r"%|rate|perc|pct|ratio|tasa|tipo|porcen|satz|prozent|taux|pourc|aliquota|taxa|tarief|stawka|retain|retent|commis|"
    r"comis|provision",
    re.IGNORECASE,
)


class _Way(NamedTuple):
    """How an amount is made by a rate: its SQL, how that is told, and what it is multiplied by."""

    sql: str
    told: str
    factor: Callable[[np.ndarray], np.ndarray]


WAYS = (
    _Way("{of} * {rate} / 100", "{rate} percent of {of}", lambda rate: rate / 100),
    _Way("{of} * {rate}", "{of} times {rate}", lambda rate: rate),
    _Way("{of} * (1 + {rate} / 100)", "{of} with {rate} percent", lambda rate: 1 + rate / 100),
    _Way("{of} * (1 - {rate} / 100)", "{of} less {rate} percent", lambda rate: 1 - rate / 100),
    _Way("{of} * (1 + {rate})", "{of} with {rate} of it", lambda rate: 1 + rate),
    _Way("{of} * (1 - {rate})", "{of} less {rate} of it", lambda rate: 1 - rate),
)
"""The plainest first."""


class _Rate(NamedTuple):
    """A number that may be a rate: its SQL, and what it is called."""

    expression: str
    told: str


def proposed_rates(
    population: Population, amount: Column, taken: Priced | None
) -> Iterator[Proposal]:
    """Amounts of a row that are a rate of another; ``taken`` is the way that the amount is made by its price, where it
    is known."""
    table = population.table
    amounts = [amount, *further(table, amount)]
    rates = _rates(population, amounts)
    if not rates or population.account(None).used < LEAST_ROWS:
        return
    quantity = table.role("quantity")
    bases = [*amounts, *([quantity] if quantity is not None else [])]
    seen = _seen(population, bases, rates)
    made: set[str] = set()
    for rate in rates:
        found = _made_by(population, amounts, bases, rate, seen, taken)
        if found is not None and found[0] not in made:
            own, way = found
            made.add(own)
            yield Proposal(
                f"{own} of {table.name} is {way.told}",
                settings_of(what="product", on=own, expect=way.expression),
                f"Rows whose {own} is not what the rate makes it.",
                f"it holds for {way.checked - way.differing:,} of {way.checked:,} rows",
            )


def proposed_one_rate(
    population: Population, amount: Column, asked: Priced | None
) -> Iterator[Proposal]:
    """Amounts of a row that are one and the same multiple of another of its numbers, such as of the kilometres that were
    driven or of the net: the first that nearly all rows with both keep. Of the quantity, whose price is ``asked`` for
    already, the multiple would be that price."""
    table = population.table
    amounts = [amount, *further(table, amount)]
    taken = set(table.roles.values()) - {table.roles.get("quantity")}
    numbers = [c for c in table.columns if c.type == "number" and not c.is_place]
    others = [c for c in numbers if c.name not in taken and c not in amounts]
    bases = [*amounts, *others][:MOST_RATES]
    if len(bases) < 2 or population.account(None).used < LEAST_ROWS:
        return
    seen = _seen(population, bases, [])
    exact: list[_Multiple] = []
    left = MOST_WAYS
    for way in _multiples(table, amounts, bases, seen, asked):
        # What is no exception to one rule is none to what that makes of it.
        if not left or any(one.makes(way) for one in exact):
            continue
        left -= 1
        told = f"{way.rate.text} times {way.of.told}"
        own, expression = way.own, way.expression(seen)
        # Rows that need none are no part of this: a fee for being late.
        none = float((np.nan_to_num(seen[quoted_name(own.name)]) == 0).mean())
        where = f"{quoted_name(own.name)} <> 0" if none > NEED_NONE else None
        rows = Population(population.engine, table, where, population.set_aside, population.tables)
        found = held(rows, own, expression, told)
        if is_rule(found) and found.differing:
            yield Proposal(
                f"{own.name} of {table.name} is {told}",
                settings_of(where=where, what="product", on=own.name, expect=expression),
                f"Rows whose {own.name} is not what the rate makes it.",
                f"it holds for {found.checked - found.differing:,} of {found.checked:,} rows"
                f"{' that have some' if where or expression.startswith('nullif') else ''}",
            )
            return
        if is_rule(found):
            exact.append(way)


class _Multiple(NamedTuple):
    """An amount, what it is a multiple of, and which."""

    rate: _OneRate
    own: Column
    of: _Made

    def expression(self, seen: Mapping[str, np.ndarray]) -> str:
        """What the amount should be; nothing is said of rows with nothing of the number and something of the amount, such
        as a meal among kilometres."""
        of = self.of.expression(seen)
        nothing = np.nan_to_num(self.of.values(seen)) == 0
        apart = nothing & (np.nan_to_num(seen[quoted_name(self.own.name)]) != 0)
        return f"{f'nullif({of}, 0)' if apart.any() else of} * {self.rate.text}"

    def makes(self, other: _Multiple) -> bool:
        """Whether another multiple is of what this one makes, or of what it is made of."""
        return self.own.name in (other.own.name, *other.of.names) or other.own.name in self.of.names


def _multiples(
    table: Table,
    amounts: list[Column],
    bases: list[Column],
    seen: Mapping[str, np.ndarray],
    asked: Priced | None,
) -> list[_Multiple]:
    """Multiples that nearly all of some rows keep, those first that most do: others are what these make of some. Of
    equally good ones the plainest, and the fee as a part of its rent before the rent as a multiple of the fee."""
    made = [*map(_Made.of, bases), *_both_of(amounts, seen)]
    found = []
    for own in amounts:
        # Of the quantity it would be the price, which is asked for already.
        priced = asked is not None and own is amounts[0]
        for of in made:
            if own.name in of.names or (priced and of.names == (table.roles.get("quantity"),)):
                continue
            rate = _one_rate(seen[quoted_name(own.name)], of.values(seen), own.scale)
            if rate is not None:
                found.append(_Multiple(rate, own, of))

    def rank(way: _Multiple) -> tuple[float, int, bool, int]:
        size = abs(float(way.rate.text))
        return -way.rate.holds, len(way.of.names), size > 1, len(way.rate.text)

    return sorted(found, key=rank)


class _Made(NamedTuple):
    """What an amount may be a multiple of: one number, or two with a sign."""

    names: tuple[str, ...]
    sign: str = ""

    @classmethod
    def of(cls, column: Column) -> _Made:
        return cls((column.name,))

    @property
    def told(self) -> str:
        word = {"+": " and ", "-": " less "}.get(self.sign, "")
        return f"({word.join(self.names)})" if self.sign else self.names[0]

    def expression(self, seen: Mapping[str, np.ndarray]) -> str:
        """As SQL; a second number that some rows leave blank is nothing there."""
        if not self.sign:
            return quoted_name(self.names[0])
        one, two = map(quoted_name, self.names)
        if np.isnan(seen[two]).any():
            two = f"coalesce({two}, 0)"
        return f"({one} {self.sign} {two})"

    def values(self, seen: Mapping[str, np.ndarray]) -> np.ndarray:
        one, *rest = (seen[quoted_name(name)] for name in self.names)
        return one + sum(np.nan_to_num(two) * (-1 if self.sign == "-" else 1) for two in rest)


def _both_of(amounts: list[Column], seen: Mapping[str, np.ndarray]) -> Iterator[_Made]:
    """Amounts with, or less, another that some rows have, as a discount before tax."""
    has = {c.name: (np.nan_to_num(seen[quoted_name(c.name)]) != 0).sum() for c in amounts}
    some = [c.name for c in amounts if has[c.name] * SOME_HAVE >= LEAST_ROWS]
    for one, two in permutations(some, 2):
        yield _Made((one, two), "-")
        if one < two:
            yield _Made((one, two), "+")


class _OneRate(NamedTuple):
    """A multiple as it is written, and the share of the rows seen that have it."""

    text: str
    holds: float


def _one_rate(own: np.ndarray, of: np.ndarray, scale: int) -> _OneRate | None:
    """The multiple that nearly all rows with both have, by numbers that vary; None where there is none with six
    decimals or fewer, or it is one."""
    known = ~(np.isnan(own) | np.isnan(of)) & (of != 0) & (own != 0)
    if known.sum() < LEAST_ROWS or np.unique(of[known]).size < DIFFERENT:
        return None
    # Of the largest rounding tells the least.
    large = known & (np.abs(of) >= np.median(np.abs(of[known])))
    near, half = float(np.median(own[large] / of[large])), 0.5 * 10.0**-scale
    for decimals in RATE_DECIMALS:
        rate = round(near, decimals)
        same = np.abs(own - of * rate)[known] <= half * 1.000001
        if abs(rate) not in (0.0, 1.0) and same.mean() >= HOLDS:
            return _OneRate(format(Decimal(str(rate)).normalize(), "f"), float(same.mean()))
    return None


def _rates(population: Population, amounts: list[Column]) -> list[_Rate]:
    """Numbers of a row, and of the rows that it names, that are no amounts."""
    table = population.table
    none = {c.name for c in amounts} | {table.roles.get("quantity"), table.roles.get("id")}
    found = [_Rate(quoted_name(c.name), c.name) for c in table.columns if _may_rate(c, none)]
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        # What is billed is compared with its order, price and quantity, by a match.
        if other.name == table.name or in_three(population, other):
            continue
        # So is a price with the one of its list.
        own_price: Role = "price" if "price" in table.roles else "id"
        roles: tuple[Role, ...] = ("amount", "quantity", "id", own_price)
        apart = {other.roles.get(role) for role in roles}
        found += [
            _Rate(".".join(map(quoted_name, (column, c.name))), f"{c.name} of its {column}")
            for c in other.columns
            if _may_rate(c, apart)
        ]
    return found[:MOST_RATES]


def _may_rate(column: Column, none: set[str | None]) -> bool:
    return column.type == "number" and not column.is_place and column.name not in none


def _seen(population: Population, bases: list[Column], rates: list[_Rate]) -> dict[str, np.ndarray]:
    """Numbers of some rows, by their SQL; not a number where there is none."""
    table = population.table
    trees: dict[str, Tree] = {quoted_name(c.name): sql.column(c.name) for c in bases}
    trees |= {r.expression: expressions.scalar(r.expression, table, "--expect") for r in rates}
    return first_numbers(population, trees, MOST_SEEN)


def _made_by(
    population: Population,
    amounts: list[Column],
    bases: list[Column],
    rate: _Rate,
    seen: Mapping[str, np.ndarray],
    taken: Priced | None,
) -> tuple[str, Priced] | None:
    """The amount that nearly all rows have by this rate, and the way: of the plainest way that holds, the one that
    holds for the most."""
    roles = population.table.roles
    pairs = [
        (own, of)
        for own in amounts
        for of in bases
        if own.name != of.name
        and not (taken is not None and rate.told == roles.get("price") and _is_in(of, taken, roles))
    ]
    value = seen[rate.expression]
    level = not (_NAMED.search(rate.told) or TAX.search(rate.told))
    if level and _mostly_one(value):
        return None
    for way in WAYS:
        factor = way.factor(value)
        shares = [
            _share(seen[quoted_name(own.name)], seen[quoted_name(of.name)], factor, own.scale)
            for own, of in pairs
        ]
        if shares and max(shares) >= HOLDS:
            own, of = pairs[shares.index(max(shares))]
            expression = way.sql.format(of=quoted_name(of.name), rate=rate.expression)
            told = way.told.format(of=of.name, rate=rate.told)
            found = held(population, own, expression, told)
            return (own.name, found) if is_rule(found) else None
    return None


def _is_in(of: Column, way: Priced, roles: Mapping[str, str]) -> bool:
    """Whether a price is taken times a column by a way: of none written, times the quantity."""
    return of.name == roles.get("quantity") or quoted_name(of.name) in (way.expression or "")


def _mostly_one(value: np.ndarray) -> bool:
    """Whether nearly all rows have one number, of which something is a multiple by the way."""
    known = value[~np.isnan(value)]
    return not len(known) or int(np.unique(known, return_counts=True)[1].max()) > ONE * len(known)


def _share(own: np.ndarray, of: np.ndarray, factor: np.ndarray, scale: int) -> float:
    """Of the rows seen, the share whose amount is made so, if most of them tell anything by it."""
    made = of * factor
    known = ~(np.isnan(own) | np.isnan(made))
    if known.sum() < LEAST_ROWS:
        return 0.0
    half = 0.5 * 10.0**-scale
    same = np.abs(own - made) <= half * 1.000001
    # A rate of nothing, or of the whole, says nothing of how an amount is made.
    tells = same & (own != 0) & (np.abs(own - of) > half)
    return float(same[known].mean()) if tells[known].mean() >= SOME else 0.0
