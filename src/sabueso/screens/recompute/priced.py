"""Quantity times price, less a discount or with a tax where the table has a column of it: the way that holds for most rows."""

from __future__ import annotations

from dataclasses import dataclass

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column
from sabueso.screens.named_numbers import named_numbers
from sabueso.screens.proposal import DISCOUNT, LEAST_OF_RULE, TAX, Proposal, settings_of
from sabueso.screens.recompute.products import products
from sabueso.stats.additive import HOLDS

MOST_OF_EACH = 2
"""Columns of discounts, and of taxes, that are tried."""
MOST_DIFFERING, FEW_DIFFERING = 0.03, 10
"""Share of the rows that may differ where many ways are tried, and how many however few there are."""
FEW, FEW_OF_ALL = 300, 0.01
"""Rows that may differ, or their share: of more the way is not the one that the amounts were made by."""


@dataclass(frozen=True)
class Priced:
    """A way by which amounts are made: its SQL, None of the plain product; what it is called; of how many rows it
    holds."""

    expression: str | None
    told: str
    checked: int
    differing: int
    something: int
    """Rows in which the amount, or what it should be, is not nothing."""

    @property
    def because(self) -> str:
        """What speaks for it."""
        return f"it holds for {self.checked - self.differing:,} of {self.checked:,} rows"

    @property
    def hardly_differs(self) -> bool:
        """Whether so few differ that the way is no chance of many that were tried."""
        return self.differing <= max(FEW_DIFFERING, MOST_DIFFERING * self.checked)

    def proposal(self, own: str, table: str, purpose: str) -> Proposal:
        """The screen of a column that is made so."""
        return Proposal(
            f"{own} of {table} is {self.told}",
            settings_of(what="product", on=own, expect=self.expression),
            f"Rows whose {own} is not {purpose}.",
            self.because,
        )


def priced(
    population: Population, quantity: Column | None, price: Column, amount: Column
) -> Priced | None:
    """The way that holds for nearly all rows, the plainest of equally good ones; None where none does, or where of one alone it
    is the price itself."""
    table = population.table
    taken = {*table.roles.values(), amount.name}
    numbers = {
        c.name: quoted_name(c.name)
        for c in table.columns
        if c.type == "number" and c.name not in taken
    }
    numbers |= {each.told: each.sql for each in named_numbers(population, 2, ()) if each.links}
    one = quoted_name(price.name)
    if quantity is None:
        product, best = one, held(population, amount, one, price.name)
    else:
        product = f"{quoted_name(quantity.name)} * {one}"
        best = held(population, amount, None, f"{quantity.name} times {price.name}")
    for pattern, sign, word in ((DISCOUNT, "-", "less"), (TAX, "+", "with")):
        before, told = best.expression or product, best.told
        for name in [n for n in numbers if pattern.search(n)][:MOST_OF_EACH]:
            own = f"coalesce({numbers[name]}, 0)"
            ways = (
                f"({before}) * (1 {sign} {own} / 100)",
                f"({before}) * (1 {sign} {own})",
                f"{before} {sign} {own}",
            )
            for way in ways if best.differing else ():
                found = held(population, amount, way, f"{told} {word} {name}")
                if 2 * found.differing < best.differing:
                    best = found
    return best if is_rule(best) and best.expression != one else None


def is_rule(found: Priced) -> bool:
    """Whether amounts are made so: it holds for nearly all rows, and so few differ that each can be looked at."""
    # That nothing is nothing of anything is no rule.
    if found.checked < LEAST_OF_RULE or found.differing > (1 - HOLDS) * found.something:
        return False
    return are_few(found.differing, found.checked)


def are_few(differing: int, rows: int) -> bool:
    """Whether rows that are not made so are exceptions, and not another way of making them."""
    return differing <= max(FEW, FEW_OF_ALL * rows)


def held(population: Population, amount: Column, expression: str | None, told: str) -> Priced:
    """How many rows a way of making amounts holds for."""
    found = products(population, amount, expression, None)
    return Priced(expression, told, found.checked, found.differing, found.something)


def is_rather_by(
    population: Population, amount: Column, of: Column, rate: str, found: Priced
) -> bool:
    """Whether what an amount seems to be, times a rate, is rather that amount by the rate: what was converted is rounded
    itself, and so nearly never gives the amount back to the cent."""
    if not found.differing or not of.scale:
        return False
    by = held(population, of, f"{quoted_name(amount.name)} / nullif({rate}, 0)", "")
    return is_rule(by) and by.differing < found.differing
