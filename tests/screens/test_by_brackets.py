"""Amounts by brackets, and limits of kinds, as they are proposed of the rows of a table."""

from __future__ import annotations

import random
from decimal import Decimal

import numpy as np
import pytest

from conftest import screened
from sabueso.screens.range.kinds_ending import proposed_ends
from sabueso.screens.recompute.proposed import proposed_recomputations
from sabueso.stats.description import describe

CENT = Decimal("0.01")


def _premium(hammer: Decimal) -> Decimal:
    below, above = min(hammer, Decimal(50_000)), max(hammer - 50_000, Decimal(0))
    return (below * Decimal("0.25") + above * Decimal("0.2")).quantize(CENT)


def _rows(rng: random.Random, made, n: int = 900):
    rows = []
    for i in range(n):
        hammer = Decimal(round(rng.lognormvariate(8.5, 1.6) / 10 + 1) * 10)
        part = made(hammer)
        tax = (part * Decimal("0.2")).quantize(CENT)
        due = hammer + part + tax
        rows.append({"bill": f"B{i:04}", "due": due, "hammer": hammer, "premium": part, "tax": tax})
    return rows


def _asked(population, proposals):
    return {p.name: (p.settings, p.because) for p in proposals}


@pytest.mark.parametrize(
    ("made", "expect", "told"),
    [
        (_premium, "0.25 * least(hammer, 50000) + 0.2 * (hammer - least(hammer, 50000))",
         "0.25 of hammer up to 50,000 and 0.2 of what is above"),
        (lambda h: (max(h - 2_000, Decimal(0)) * Decimal("0.08")).quantize(CENT),
         "0.08 * (hammer - least(hammer, 2000))", "nothing up to 2,000 and 0.08 of what is above"),
        (lambda h: min(h * Decimal("0.015"), Decimal(150)).quantize(CENT),
         "CASE WHEN hammer <= 10000 THEN 0.015 * hammer WHEN hammer > 10000 THEN 150 END",
         "0.015 of hammer up to 10,000 and 150 above"),
        (lambda h: Decimal(25) if h <= 5_000 else Decimal(40) if h <= 20_000 else Decimal(95),
         "CASE WHEN hammer <= 5000 THEN 25 WHEN hammer <= 20000 THEN 40 WHEN hammer > 20000 THEN 95 END",
         "25 up to 5,000, 40 up to 20,000 and 95 above"),
    ],
)  # fmt: skip
def test_a_part_by_brackets_is_held_against_them(populate, made, expect, told):
    rng = random.Random(4)
    rows = _rows(rng, made)
    wrong = rng.sample(range(len(rows)), 5)
    for n in wrong:
        rows[n]["premium"] += Decimal("17.30")
        rows[n]["due"] += Decimal("17.30")
    rows.append({**rows[0], "bill": "B9999", "hammer": None})
    population = populate(rows, id="bill", amount="due")
    described = describe(np.array([1, 2]), np.array([1, 1]), 2)
    asked = _asked(population, proposed_recomputations(population, described))
    settings, because = asked["premium of ledger by brackets of hammer"]
    assert settings["expect"] == expect
    assert because == f"it holds for 895 of 900 rows: {told}"
    found = screened(population, "recompute", **settings)
    assert {flag["subject"]["bill"] for flag in found["flags"]} == {rows[n]["bill"] for n in wrong}
    # What the brackets make of the rest is no rule that larger amounts break.
    assert not any("times hammer" in name for name in asked)


def test_amounts_of_a_kind_that_end_are_held_against_where(populate):
    rng = random.Random(8)
    rows = []
    for i in range(2_400):
        how = ("cash", "card", "transfer")[i % 3]
        amount = rng.lognormvariate(6.5, 1.2)
        while how == "cash" and amount > 1_000:
            amount = rng.lognormvariate(6.5, 1.2)
        rows.append({"n": f"N{i}", "how": how, "amount": Decimal(amount).quantize(CENT)})
    assert not list(proposed_ends(populate(rows, id="n", amount="amount")))
    for n in (30, 900):
        rows[n]["amount"] = Decimal("1850.00") + n
    population = populate(rows, id="n", amount="amount")
    (asked,) = proposed_ends(population)
    assert asked.settings == {"on": "amount", "not_above": "CASE how WHEN 'cash' THEN 1000 END"}
    assert asked.because == "798 of 800 rows are within 1,000 (cash), and 2 above"
    found = screened(population, "range", **asked.settings)
    assert {flag["subject"]["n"] for flag in found["flags"]} == {"N30", "N900"}
