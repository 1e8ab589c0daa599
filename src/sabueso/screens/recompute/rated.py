"""Amounts that are a rate of others, such as a retention, a commission or a tax, as they are proposed: found in some
rows, counted in all. The rate stands in the row, or in the row that it names."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import permutations
from typing import NamedTuple

import numpy as np

from sabueso.base.words import CalledSo
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.named_columns import measures_there
from sabueso.screens.named_numbers import named_numbers
from sabueso.screens.proposal import DISCOUNT, LEAST_OF_RULE, TAX, Proposal
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.made_of import both_of
from sabueso.screens.recompute.priced import Priced, held, is_rather_by, is_rule
from sabueso.screens.recompute.ties import in_three
from sabueso.stats.additive import HOLDS, same_but_rounded

MOST_SEEN = 2_000
"""Rows in which a rate is looked for before it is counted in all."""
MOST_OF_TWO = 7
"""Amounts of which one less another may be what a rate is of."""
MOSTLY = 0.5
"""Share of the rows that a way must hold for at least where the others have the most, or the least, that there may be."""
MOST_RATES, MOST_COUNTS, MOST_AMOUNTS, MOST_THERE = 12, 3, 8, 3
"""Numbers that are tried as a rate, whole numbers of a row that it may be of, such as days, further amounts, and amounts of what a
row names."""
SOME = 0.2
"""Share of the rows seen in which the amount, what it is of and the rate must be something, and not alike: many are in the
house's own currency, or owe nothing."""


ONE = 0.95
"""Share of the rows with one number from which it is a rate only if it is called one."""
_NAMED = CalledSo(
    r"%|rate|perc|pct|ratio|tasa|tipo|porcen|satz|prozent|taux|pourc|aliquota|taxa|tarief|stawka|retain|retent|commis|"
    r"comis|provision"
)


class _Way(NamedTuple):
    """How an amount is made by a rate: its SQL, how that is told, and what it is multiplied by."""

    sql: str
    told: str
    factor: Callable[[np.ndarray], np.ndarray]


_TIMES = _Way("{of} * {rate}", "{of} times {rate}", lambda rate: rate)
WAYS = (
    _Way("{of} * {rate} / 100", "{rate} percent of {of}", lambda rate: rate / 100),
    _TIMES,
    _Way("{of} * (1 + {rate} / 100)", "{of} with {rate} percent", lambda rate: 1 + rate / 100),
    _Way("{of} * (1 - {rate} / 100)", "{of} less {rate} percent", lambda rate: 1 - rate / 100),
    _Way("{of} * (1 + {rate})", "{of} with {rate} of it", lambda rate: 1 + rate),
    _Way("{of} * (1 - {rate})", "{of} less {rate} of it", lambda rate: 1 - rate),
)
"""The plainest first."""


class _Number(NamedTuple):
    """A number that may be a rate, or that something may be a rate of: its SQL, what it is called, and its name where it is one of
    the row."""

    expression: str
    told: str
    name: str | None = None

    @classmethod
    def of(cls, column: Column) -> _Number:
        return cls(quoted_name(column.name), column.name, column.name)


def proposed_rates(
    population: Population, amount: Column, taken: Priced | None
) -> Iterator[Proposal]:
    """Amounts of a row that are a rate of another; ``taken`` is the way that the amount is made by its price, where it
    is known."""
    table = population.table
    amounts = [amount, *further(table, amount, MOST_AMOUNTS)]
    rates = _rates(population, amounts)
    if not rates or population.account(None).used < LEAST_OF_RULE:
        return
    # Of what is sold one by one the price is what others are a rate of.
    beside = table.role("quantity") or table.role("price")
    bases = [*amounts, *([beside] if beside is not None else [])]
    counts = [c for c in table.columns if c.type == "number" and c.scale == 0 and not c.is_place]
    counts = [c for c in counts if c.name not in table.roles.values()]
    # Whole amounts are called as the others are: by their currency, for one.
    amounts += [c for c in counts if _words(c) & _words(amount)][:MOST_COUNTS]
    counts = [c for c in counts if c not in amounts][:MOST_COUNTS]
    bases += counts
    of = [*map(_Number.of, bases), *_amounts_there(population, amount)]
    seen = _seen(population, of, rates)
    numbers = {each.expression: each.told for each in (*of, *rates)}
    made: set[str] = set()
    for rate in rates:
        found = _made_by(population, amounts, of, rate, seen, taken, numbers)
        found = found or _of_two(population, amounts, rate, seen)
        found = found or _so_often(population, amounts, counts, rate, seen)
        if found is not None and found[0] not in made:
            own, way = found
            made.add(own)
            yield way.proposal(own, table.name, "what the rate makes it")


def _words(column: Column) -> set[str]:
    return {word for word in re.findall(r"[^\W\d_]+", column.name.casefold()) if len(word) > 2}


def _rates(population: Population, amounts: list[Column]) -> list[_Number]:
    """Numbers of a row, and of the rows that it names, that are no amounts."""
    table = population.table
    none = {c.name for c in amounts} | {table.roles.get("quantity"), table.roles.get("id")}
    found = [_Number.of(c) for c in table.columns if _may_rate(c, none)]
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
            _Number(".".join(map(quoted_name, (column, c.name))), f"{c.name} of its {column}")
            for c in other.columns
            if _may_rate(c, apart)
        ]
    far = named_numbers(population, 2, ("amount", "quantity", "id"))
    found += [_Number(number.sql, number.told) for number in far if number.links == 2]
    return found[:MOST_RATES]


def _may_rate(column: Column, none: set[str | None]) -> bool:
    return column.type == "number" and not column.is_place and column.name not in none


def _amounts_there(population: Population, amount: Column) -> list[_Number]:
    """The amounts of the rows that are named: what was collected may be less than what was assigned, of which the fee is."""
    found = []
    for there in measures_there(population):
        own = there.table.role("amount")
        if own == there.column and own.scale == amount.scale:
            found.append(_Number(there.sql, there.told))
    return found[:MOST_THERE]


def _seen(
    population: Population, bases: list[_Number], rates: list[_Number]
) -> dict[str, np.ndarray]:
    """Numbers of some rows, by their SQL; not a number where there is none."""
    table = population.table
    trees: dict[str, Tree] = {
        each.expression: expressions.scalar(each.expression, table, "--expect")
        if each.name is None
        else sql.column(each.name)
        for each in (*bases, *rates)
    }
    return first_numbers(population, trees, MOST_SEEN)


def _made_by(
    population: Population,
    amounts: list[Column],
    bases: list[_Number],
    rate: _Number,
    seen: Mapping[str, np.ndarray],
    taken: Priced | None,
    numbers: Mapping[str, str],
) -> tuple[str, Priced] | None:
    """The amount that nearly all rows have by this rate, and the way: of the plainest way that holds, the one that
    holds for the most."""
    roles = population.table.roles
    pairs = [
        (own, of)
        for own in amounts
        for of in bases
        if own.name != of.name
        and rate.expression != of.expression
        and not (taken is not None and rate.told == roles.get("price") and _is_in(of, taken, roles))
        # What it is by its price is known.
        and not (taken is not None and of.name == roles.get("price") and own is amounts[0])
    ]
    value = seen[rate.expression]
    level = not (_NAMED.search(rate.told) or TAX.search(rate.told))
    if level and mostly_one(value):
        return None
    # With the most that there may be where none holds without, or for so many more.
    nearly: list[tuple[float, _Way, Column, _Number]] = []
    for way in WAYS:
        factor = way.factor(value)
        shares = [
            _share(seen[quoted_name(own.name)], seen[of.expression] * factor, seen[of.expression], own.scale)
            for own, of in pairs
        ]  # fmt: skip
        best = max(shares, default=0.0)
        if best >= MOSTLY:
            nearly.append((best, way, *pairs[shares.index(best)]))
        if best >= HOLDS:
            nearly = nearly[-1:]
            break
    for share, way, own, of in nearly:
        expression = way.sql.format(of=of.expression, rate=rate.expression)
        told = way.told.format(of=of.told, rate=rate.told)
        told = told.removesuffix(" percent") if told.endswith("% percent") else told
        made = seen[of.expression] * way.factor(value)
        bound = _bound(seen, own, of, made, share) if share < 1 else None
        if bound is not None:
            limited = f"{bound.word}({expression}, {bound.sql})"
            found = held(population, own, limited, f"{told}, {bound.told} {numbers[bound.sql]}")
            if is_rule(found):
                return own.name, found
        if share >= HOLDS:
            found = held(population, own, expression, told)
            other = None if of.name is None else population.table.column(of.name)
            plain = (
                way is _TIMES
                and other is not None
                and is_rather_by(population, own, other, rate.expression, found)
            )
            return (own.name, found) if is_rule(found) and not plain else None
    return None


def _of_two(
    population: Population, amounts: list[Column], rate: _Number, seen: Mapping[str, np.ndarray]
) -> tuple[str, Priced] | None:
    """The amount that is what is called a rate of one amount less, or with, another: a discount after what is kept back."""
    if not (_NAMED.search(rate.told) or TAX.search(rate.told) or DISCOUNT.search(rate.told)):
        return None
    value, few = seen[rate.expression], amounts[:MOST_OF_TWO]
    for of in both_of(few, seen):
        base = of.values(seen)
        for way in WAYS[:2]:
            for own in few:
                made = base * way.factor(value)
                if own.name in of.names or _share(seen[quoted_name(own.name)], made, base, own.scale) < HOLDS:  # fmt: skip
                    continue
                expression = way.sql.format(of=of.expression(seen), rate=rate.expression)
                found = held(population, own, expression, way.told.format(of=of.told, rate=rate.told))  # fmt: skip
                if is_rule(found):
                    return own.name, found
    return None


def _so_often(
    population: Population,
    amounts: Sequence[Column],
    counts: Sequence[Column],
    rate: _Number,
    seen: Mapping[str, np.ndarray],
) -> tuple[str, Priced] | None:
    """The amount that is a rate of another, so often as a whole number of the row says: the interest of some months."""
    value = seen[rate.expression]
    if mostly_one(value) and not _NAMED.search(rate.told):
        return None
    for often in counts:
        times = seen[quoted_name(often.name)]
        if mostly_one(times):
            continue
        for own, of in permutations(amounts, 2):
            base = seen[quoted_name(of.name)]
            for way in WAYS[:2]:
                made = base * times * way.factor(value)
                if _share(seen[quoted_name(own.name)], made, base, own.scale) < HOLDS:
                    continue
                both = f"{quoted_name(of.name)} * {quoted_name(often.name)}"
                expression = way.sql.format(of=both, rate=rate.expression)
                told = way.told.format(of=of.name, rate=rate.told).replace("% percent", "%")
                found = held(population, own, expression, f"{told} times {often.name}")
                if is_rule(found):
                    return own.name, found
    return None


class _Bound(NamedTuple):
    """A number that nothing is above, or below: which function of SQL keeps it, and which number it is."""

    word: str
    told: str
    sql: str


def _bound(
    seen: Mapping[str, np.ndarray], own: Column, of: _Number, made: np.ndarray, share: float
) -> _Bound | None:
    """The number that most of the rows have that are not made so, where it is less than they would be, or more."""
    value, base = seen[quoted_name(own.name)], seen[of.expression]
    best, found = max(HOLDS, 1 - (1 - share) / 2), None
    for name, bound in seen.items():
        if name in (quoted_name(own.name), of.expression):
            continue
        for word, told, kept in (
            ("least", "at most", np.minimum(made, bound)),
            ("greatest", "at least", np.maximum(made, bound)),
        ):
            held_for = _share(value, np.where(np.isnan(bound), made, kept), base, own.scale)
            if held_for > best:
                best, found = held_for, _Bound(word, told, name)
    return found


def _is_in(of: _Number, way: Priced, roles: Mapping[str, str]) -> bool:
    """Whether a price is taken times a column by a way: of none written, times the quantity."""
    return of.name is not None and (
        of.name == roles.get("quantity") or of.expression in (way.expression or "")
    )


def mostly_one(value: np.ndarray) -> bool:
    """Whether nearly all rows have one number, of which something is a multiple by the way."""
    known = value[~np.isnan(value)]
    return not len(known) or int(np.unique(known, return_counts=True)[1].max()) > ONE * len(known)


def _share(own: np.ndarray, made: np.ndarray, of: np.ndarray, scale: int) -> float:
    """Of the rows seen, the share whose amount is ``made`` so of another, if most of them tell anything by it."""
    known = ~(np.isnan(own) | np.isnan(made))
    if known.sum() < LEAST_OF_RULE:
        return 0.0
    same = same_but_rounded(own, made, scale)
    # A rate of nothing, or of the whole, says nothing of how an amount is made.
    tells = known & ~(same & ((own == 0) | (np.abs(own - of) <= 0.5 * 10.0**-scale)))
    return float(same[tells].mean()) if tells[known].mean() >= SOME else 0.0
