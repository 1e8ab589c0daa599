"""What an amount may be a multiple of: a number, two or three added up or one less another, two times one another, or one by
another."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import combinations, permutations
from typing import NamedTuple

import numpy as np

from sabueso.population.expressions import quoted_name
from sabueso.population.table import Column
from sabueso.screens.proposal import DISCOUNT

SOME_HAVE = 10
"""Rows that must have something of a second amount."""
MOST_OF_THREE = 6
"""Amounts of which three may be added up."""
MOST_PERCENTS = 2
"""Columns of hundredths that are tried."""


class MadeOf(NamedTuple):
    """What an amount may be a multiple of: one number, two with a sign, three added up, one less hundredths of it or by
    another, or the product of two less a discount in hundredths."""

    names: tuple[str, ...]
    sign: str = ""

    @classmethod
    def of(cls, column: Column) -> MadeOf:
        return cls((column.name,))

    @property
    def times(self) -> bool:
        """Whether it is a product."""
        return self.sign == "*"

    @property
    def by(self) -> bool:
        """Whether it is one number by another: what was invoiced, at a rate of exchange."""
        return self.sign == "/"

    @property
    def is_once(self) -> bool:
        """Whether it tells something where it is taken once."""
        return self.times or self.less or self.by

    @property
    def less(self) -> bool:
        """Whether it is one number less hundredths of it."""
        return self.sign == "%"

    def is_made_by(self, name: str) -> bool:
        """Whether a column is among its numbers, but for a tax that is a part of what is left without it."""
        return name in self.names and not (self.sign == "-" and self.names[1] == name)

    @property
    def told(self) -> str:
        """What it is called."""
        if self.times:
            less = "".join(f" less {name} per cent" for name in self.names[2:])
            return f"{' times '.join(self.names[:2])}{less}"
        if self.less:
            return " less ".join(self.names) + ("" if "%" in self.names[1] else " per cent")
        if self.by:
            return " by ".join(self.names)
        word = {"+": " and ", "-": " less "}.get(self.sign, "")
        return f"({word.join(self.names)})" if self.sign else self.names[0]

    def expression(self, seen: Mapping[str, np.ndarray]) -> str:
        """As SQL; a second number that some rows leave blank is nothing there."""
        if not self.sign:
            return quoted_name(self.names[0])
        if self.times:
            less = "".join(map(less_hundredths, self.names[2:]))
            return f"{' * '.join(map(quoted_name, self.names[:2]))}{less}"
        one, *rest = map(quoted_name, self.names)
        if self.less:
            return one + less_hundredths(self.names[1])
        if self.by:
            return f"{one} / nullif({rest[0]}, 0)"
        rest = [f"coalesce({name}, 0)" if np.isnan(seen[name]).any() else name for name in rest]
        return f"({f' {self.sign} '.join([one, *rest])})"

    def values(self, seen: Mapping[str, np.ndarray]) -> np.ndarray:
        """Of the rows seen."""
        one, *rest = (seen[quoted_name(name)] for name in self.names)
        if self.times:
            less = (1 - np.nan_to_num(percent) / 100 for percent in rest[1:])
            return np.prod([one, rest[0], *less], axis=0)
        if self.less:
            return one * (1 - np.nan_to_num(rest[0]) / 100)
        if self.by:
            return np.divide(one, rest[0], out=np.full(len(one), np.nan), where=rest[0] != 0)
        return one + sum(np.nan_to_num(two) * (-1 if self.sign == "-" else 1) for two in rest)


def less_hundredths(name: str) -> str:
    """What takes hundredths off that stand in a row, none where they are blank, as SQL behind what they are taken off."""
    return f" * (1 - coalesce({quoted_name(name)}, 0) / 100)"


def _some(amounts: list[Column], seen: Mapping[str, np.ndarray]) -> list[str]:
    """Amounts of which some rows have something."""
    has = {c.name: (np.nan_to_num(seen[quoted_name(c.name)]) != 0).sum() for c in amounts}
    return [c.name for c in amounts if has[c.name] >= SOME_HAVE]


def both_of(amounts: list[Column], seen: Mapping[str, np.ndarray]) -> Iterator[MadeOf]:
    """Amounts with, or less, another that some rows have, as a discount before tax."""
    for one, two in permutations(_some(amounts, seen), 2):
        yield MadeOf((one, two), "-")
        if one < two:
            yield MadeOf((one, two), "+")


def three_of(amounts: list[Column], seen: Mapping[str, np.ndarray]) -> Iterator[MadeOf]:
    """Three amounts added up, as a tax is of all of them."""
    for three in combinations(_some(amounts, seen)[:MOST_OF_THREE], 3):
        yield MadeOf(three, "+")


def products_of(numbers: list[Column]) -> Iterator[MadeOf]:
    """Two numbers times one another, and that less a discount: the days of a hire at what a day costs."""
    discounts = [c.name for c in numbers if DISCOUNT.search(c.name)][:1]
    factors = [c.name for c in numbers if c.name not in discounts]
    for pair in combinations(factors, 2):
        yield MadeOf(pair, "*")
        if discounts:
            yield MadeOf((*pair, *discounts), "*")


def less_percent_of(numbers: list[Column], factors: list[Column]) -> Iterator[MadeOf]:
    """Numbers less hundredths of them that stand in the row: what was weighed without its impurities, a list price less a
    discount."""
    for percent in [c for c in factors if "%" in c.name or DISCOUNT.search(c.name)][:MOST_PERCENTS]:
        for number in numbers:
            if number.name != percent.name:
                yield MadeOf((number.name, percent.name), "%")


def quotients_of(amounts: list[Column], numbers: list[Column]) -> Iterator[MadeOf]:
    """Amounts by another number of the row that is none: what was invoiced, at a rate of exchange."""
    for amount in amounts:
        for number in numbers:
            if number not in amounts:
                yield MadeOf((amount.name, number.name), "/")
