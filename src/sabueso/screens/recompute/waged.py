"""A rate times hours, and the hours beyond them at more than the rate, with a charge beside: what wages, bills of time and
of what was used are made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.proposal import DISCOUNT, LEAST_OF_RULE, TAX
from sabueso.screens.recompute.priced import Priced, held, is_rather_by, is_rule
from sabueso.stats.additive import HOLDS

TIMES = (0.5, 1.0, 1.25, 1.5, 1.75, 2.0, 2.5, 3.0)
"""How many rates an hour beyond the usual is paid."""
MOST_HOURS, MOST_COLUMNS, MOST_SEEN = 3, 8, 2_000
MANY = (1000, 100)
"""Of how many of what is counted a price may be."""
LEAST_MADE = 5
"""Rows that a further column must make up."""
Part = tuple[int, float]
"""The place of a column of hours, and how many rates each is paid."""


def waged(population: Population, price: Column, amount: Column) -> Priced | None:
    """The way that holds for nearly all rows; None where none does."""
    table = population.table
    taken = {name for role, name in table.roles.items() if role != "quantity"} | {amount.name}
    hours = [
        c.name
        for c in table.columns
        if c.type == "number"
        and c.name not in taken
        and not (DISCOUNT.search(c.name) or TAX.search(c.name))
    ][:MOST_COLUMNS]
    rows = _Seen.of(population, price, amount, hours) if hours else None
    if rows is None:
        return None
    if (found := _by_many(population, price, amount, hours, rows)) is not None:
        return found
    # A charge of its own may stand beside: of service, of delivery.
    for added in (None, *range(len(hours))):
        parts = rows.parts(added)
        if parts is not None:
            named = [(hours[at], times) for at, times in parts]
            return _told(population, price, amount, named, None if added is None else hours[added])
    return None


def _by_many(
    population: Population, price: Column, amount: Column, counts: Sequence[str], rows: _Seen
) -> Priced | None:
    """A price of a thousand, or a hundred, of what a column counts: kilograms, and a price of the tonne."""
    for unit in MANY:
        for name, column in zip(counts, rows.columns, strict=True):
            same = np.abs(rows.rates * column / unit - rows.amounts) <= rows.near
            some = (column != 0) | (rows.amounts != 0)
            if some.any() and same[some].mean() >= HOLDS:
                way = f"{quoted_name(price.name)} * {quoted_name(name)} / {unit}"
                found = held(population, amount, way, f"{price.name} times {name} / {unit:,}")
                return found if is_rule(found) else None
    return None


def _told(
    population: Population,
    price: Column,
    amount: Column,
    parts: Sequence[tuple[str, float]],
    added: str | None,
) -> Priced | None:
    """A way as SQL and in words, where it is the rule in all rows."""
    rate = quoted_name(price.name)
    each = [
        f"coalesce({quoted_name(name)}, 0)" + ("" if times == 1 else f" * {times:g}")
        for name, times in parts
    ]
    words = [name if times == 1 else f"{times:g} {name}" for name, times in parts]
    told = f"{price.name} times {' and '.join(words)}{f', and {added}' if added else ''}"
    ways = [f"{rate} * ({' + '.join(each)})"]
    if len(parts) > 1:
        # Each kind of hours may have been rounded by itself.
        ways.append(" + ".join(f"round({rate} * {one}, {amount.scale})" for one in each))
    if added:
        ways = [f"{way} + coalesce({quoted_name(added)}, 0)" for way in ways]
    found = min((held(population, amount, way, told) for way in ways), key=lambda p: p.differing)
    (first, times), *more = parts
    if not (more or added) and times == 1:
        of = population.table.column(first)
        if is_rather_by(population, amount, of, rate, found):
            return None
    return found if is_rule(found) else None


@dataclass(frozen=True)
class _Seen:
    """Some rows with a rate: amounts, rates and other numbers, each of shape (n,), and how near to one another two
    amounts are that are the same but for rounding."""

    amounts: np.ndarray
    rates: np.ndarray
    columns: list[np.ndarray]
    near: float

    @classmethod
    def of(
        cls, population: Population, price: Column, amount: Column, names: Sequence[str]
    ) -> _Seen | None:
        fields = [
            exp.alias_(sql.cast(sql.column(name), "DOUBLE"), f"c{place}")
            for place, name in enumerate((amount.name, price.name, *names))
        ]
        seen = population.query(population.used(exp.select(*fields)).limit(MOST_SEEN))
        every = [
            np.nan_to_num(seen.column(f"c{place}").to_numpy().astype(float))
            for place in range(len(names) + 2)
        ]
        used = every[1] != 0
        if used.sum() < LEAST_OF_RULE:
            return None
        amounts, rates, *rest = (column[used] for column in every)
        near = 10.0**-amount.scale + 1e-9
        if (np.abs(amounts - rates) <= near).mean() > 1 - HOLDS:
            return None  # the rate is the amount
        return cls(amounts, rates, rest, near)

    def parts(self, added: int | None) -> list[Part] | None:
        """Columns whose sum, some of them so many times, is the amount over the rate in nearly all of the rows, without
        the column that is ``added``, which must be something in some."""
        amounts = self.amounts
        if added is not None:
            if not np.any(self.columns[added]):
                return None
            amounts = amounts - self.columns[added]
        paid, near = amounts / self.rates, self.near / np.abs(self.rates)
        places = [place for place in range(len(self.columns)) if place != added]
        found: tuple[float, list[Part]] | None = None
        for place in places:
            share, parts = _added(paid, near, self.columns, (place, 1.0), places)
            if share < HOLDS:
                continue
            if found is None or (share, -len(parts)) > (found[0], -len(found[1])):
                found = share, parts
        return None if found is None else found[1]


def _added(
    paid: np.ndarray,
    near: np.ndarray,
    columns: Sequence[np.ndarray],
    first: Part,
    places: Sequence[int],
) -> tuple[float, list[Part]]:
    """A column with those that are most of what it lacks, and the share of rows that they make up."""
    parts, left = [first], paid - columns[first[0]]

    def off(rest: np.ndarray) -> int:
        return int((np.abs(rest) > near).sum())

    while len(parts) < MOST_HOURS:
        others = set(places) - {at for at, _ in parts}
        ways = [(off(left - times * columns[at]), at, times) for at in others for times in TIMES]
        if not ways or min(ways)[0] > off(left) - LEAST_MADE:
            break
        _, at, times = min(ways)
        parts.append((at, times))
        left = left - times * columns[at]
    return float((np.abs(left) <= near).mean()), parts
