"""Amounts by brackets, limits of kinds, and multiples of what is named, as they are proposed of the rows of a table."""

from __future__ import annotations

import random
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pytest

from conftest import populated, screened
from sabueso.population.table import Linked
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
    assert asked.settings == {"where": "how = 'cash'", "on": "amount", "greatest": "1000"}
    assert asked.because == "798 of 800 rows are within 1,000 (cash), and 2 above"
    settings = dict(asked.settings)
    found = screened(replace(population, where=settings.pop("where")), "range", **settings)
    assert {flag["subject"]["n"] for flag in found["flags"]} == {"N30", "N900"}
    # Of several kinds each has its own.
    for row in rows:
        if row["how"] == "card":
            row["amount"] = min(row["amount"], Decimal(500) - row["amount"] % 97)
    rows[31]["amount"] = Decimal("740.00")
    population = populate(rows, id="n", amount="amount")
    (asked,) = proposed_ends(population)
    limit = "CASE how WHEN 'card' THEN 500 WHEN 'cash' THEN 1000 END"
    assert asked.settings == {"on": "amount", "not_above": limit}
    found = screened(population, "range", **asked.settings)
    assert {flag["subject"]["n"] for flag in found["flags"]} == {"N30", "N31", "N900"}


def test_copies_at_so_much_for_each_page_of_the_deed(tmp_path):
    """A multiple of a number of what is named, which the stamp duty beside it would tell less plainly."""
    rng = random.Random(6)
    deeds = [{"deed": f"D{n:04}", "pages": rng.randint(4, 60)} for n in range(400)]
    bills = []
    for n, deed in enumerate(deeds):
        copies = (Decimal("3.01") * deed["pages"]).quantize(CENT)
        stamps = (Decimal("0.15") * deed["pages"]).quantize(CENT)
        fee = Decimal(f"{rng.lognormvariate(5, 0.6):.2f}")
        bills.append({"bill": f"B{n:04}", "deed": deed["deed"], "total": fee + copies + stamps, "fee": fee, "copies": copies, "stamps": stamps})  # fmt: skip
    for n in (40, 170):
        bills[n]["copies"] += 30
        bills[n]["total"] += 30
    roles = {"id": "bill", "amount": "total"}
    with populated(tmp_path, {"bills": bills, "deeds": deeds}, **roles) as population:
        deeds_table = replace(population.tables["deeds"], roles={"id": "deed"})
        linked = replace(population.table, links={"deed": Linked(deeds_table, "deed")})
        rows = replace(population, table=linked, tables={"bills": linked, "deeds": deeds_table})
        described = describe(np.array([1, 2]), np.array([1, 1]), 2)
        asked = _asked(rows, proposed_recomputations(rows, described))
        settings, because = asked["copies of bills is 3.01 times pages of its deed"]
        assert settings["expect"] == "deed.pages * 3.01"
        assert because == "it holds for 398 of 400 rows"
        assert not [name for name in asked if "times stamps" in name]
        found = screened(rows, "recompute", **settings)
        assert {f["subject"]["bill"] for f in found["flags"]} == {"B0040", "B0170"}


@pytest.mark.parametrize(
    ("fare", "name", "expect"),
    [
        (lambda km, minutes, bags: Decimal("3.40") + Decimal("1.35") * km + Decimal("0.28") * minutes,
         "fare of ledger is 3.4, 1.35 times km and 0.28 times minutes", "3.4 + 1.35 * km + 0.28 * minutes"),
        (lambda km, minutes, bags: max(Decimal(5) + Decimal("1.1") * km - Decimal("0.5") * bags, Decimal(9)),
         "fare of ledger is 5, 1.1 times km and -0.5 times bags, at least 9", "greatest(5 + 1.1 * km - 0.5 * bags, 9)"),
        (lambda km, minutes, bags: Decimal(12) + Decimal("0.021") * bags * minutes,
         "fare of ledger is 12 and 0.021 times minutes times bags", "12 + 0.021 * minutes * bags"),
    ],
)  # fmt: skip
def test_a_fixed_part_and_so_much_for_each(populate, fare, name, expect):
    rng = random.Random(9)
    rows = []
    for n in range(700):
        km, minutes = Decimal(rng.randint(5, 300)) / 10, rng.randint(3, 80)
        bags = rng.randint(1, 9)
        made = fare(km, minutes, bags).quantize(CENT)
        tip = Decimal(rng.choice(["0.00", "1.00", "2.50"]))
        rows.append({"trip": f"T{n:04}", "paid": made + tip, "km": km, "minutes": minutes, "bags": bags, "fare": made, "tip": tip})  # fmt: skip
    wrong = rng.sample(range(700), 4)
    for n in wrong:
        rows[n]["fare"] += 6
        rows[n]["paid"] += 6
    rows.append({**rows[0], "trip": "T9999", "km": None, "minutes": None, "bags": None})
    population = populate(rows, id="trip", amount="paid")
    described = describe(np.array([1, 2]), np.array([1, 1]), 2)
    asked = _asked(population, proposed_recomputations(population, described))
    settings, because = asked[name]
    assert settings["expect"] == expect
    assert because.startswith("it holds for 69")
    found = screened(population, "recompute", **settings)
    assert {f["subject"]["trip"] for f in found["flags"]} >= {rows[n]["trip"] for n in wrong}
    # The row that lacks what the fare is made of is not held against its minimum.
    assert found["flag_count"] <= 4
