"""Conditions that are bounds of a column: the rows they let through, beside those the engine does."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sabueso.population import sql
from sabueso.population.bounds import Bounds, widened
from sabueso.population.population import Defined, Population

CENTS = [-100_000, -5051, -5050, -1, 0, 1, 4, 5, 10, 100, 999, 1000, 1001, 123_456_789, None]
numbers = st.one_of(
    st.sampled_from(["0", "10", "-50.5", "0.05", ".05", "0.049", "-0.001", "9.99", "+10", "99999999999999"]),
    st.decimals(-60, 60, places=3).map(str),
)  # fmt: skip
names = st.sampled_from(["amount", "Amount", '"amount"', "(amount)"])
signs = st.sampled_from(["<", "<=", ">", ">=", "="])
sides = st.one_of(
    st.builds("{} {} {}".format, names, signs, numbers),
    st.builds("{} {} ({})".format, names, signs, numbers),
    st.builds("{} {} {}".format, numbers, signs, names),
    st.builds("{} between {} and {}".format, names, numbers, numbers),
)
conditions = st.one_of(
    sides, st.builds("{} and ({})".format, sides, sides), st.builds("({})".format, sides)
)


def _rows(population: Population) -> list[int]:
    base = population.base({"units": sql.minor_units(population.table.column("amount"))})
    found = population.query(base).column(0).to_pylist()
    return sorted(units for units in found if units is not None)


def _ledger(populate) -> Population:
    rows = [
        {"amount": None if c is None else Decimal(c) / 100, "text": f"t{c}", "paid": Decimal(i)}
        for i, c in enumerate(CENTS)
    ]
    return populate(rows, amount="amount")


@given(st.data())
def test_rows_within_the_bounds_are_those_that_meet_the_condition(populate, data):
    ledger = _ledger(populate)
    chosen, held = (data.draw(st.one_of(st.none(), conditions)) for _ in range(2))
    defined = None if held is None else Defined("named", held, "a reason")
    population = replace(ledger, where=chosen, defined=defined)
    wide, (least, greatest) = widened(population, ledger.table.column("amount"))
    assert wide.where is None and wide.defined is None
    low, high = (-(10**30) if least is None else least), (10**30 if greatest is None else greatest)
    assert _rows(population) == [units for units in _rows(wide) if low <= units <= high]


@pytest.mark.parametrize(
    "condition",
    ["amount > 0 or amount < -5", "not amount > 0", "abs(amount) > 5", "amount <> 0", "paid > 0",
     "amount > paid", "amount > 0 and text = 't1'", "amount in (1, 2)", "amount is not null",
     "amount not between 1 and 2", "amount + 1 > 0", "amount > 1 + 1", "amount > 1e3"],
)  # fmt: skip
def test_what_says_anything_else_stays_a_condition(populate, condition):
    ledger = _ledger(populate)
    population = replace(ledger, where=condition)
    wide, bounds = widened(population, ledger.table.column("amount"))
    assert wide == population and bounds == Bounds()
