"""What is proposed of stock that was counted, of trades and of gifts: values that are mostly nothing, parts that were rounded by
themselves, and amounts that many give."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside_json
from folders import asked_for, taken_in

CENT = Decimal("0.01")


def _counted(rng):
    """Hardly any count differs from the books; all were made within a few days, in no order."""
    for n in range(1_500):
        book, cost = rng.randrange(5, 500), Decimal(rng.randrange(50, 9_000)) / 100
        off = rng.choice((-3, -1, 2)) if n % 25 == 0 else 0
        yield {
            "sku": f"SKU{n:05}", "site": f"W{rng.randrange(4)}", "book qty": book, "counted qty": book + off, "difference": off,
            "unit cost": cost, "variance value": off * cost, "counted on": date(2024, 1, 1) + timedelta(days=rng.randrange(9)),
        }  # fmt: skip


def _traded(rng):
    """What is bought comes with the commission and what is sold without it, both made of figures before rounding."""
    for n in range(2_400):
        price, quantity = (
            Decimal(rng.randrange(10_000, 900_000)) / 10_000,
            rng.choice((10, 100, 100, 100, 500)),
        )
        gross, side = price * quantity, rng.choice(("BUY", "SELL"))
        fee = gross * Decimal("0.00137")
        yield {
            "trade": f"T{n:06}", "done": date(2024, 1, 2) + timedelta(days=n // 10), "side": side, "quantity": quantity,
            "price": price, "gross": gross.quantize(CENT), "commission": fee.quantize(CENT),
            "net": (gross + fee if side == "BUY" else gross - fee).quantize(CENT),
        }  # fmt: skip


def _given(rng):
    for n in range(2_000):
        yield {
            "gift": f"G{n:06}", "given": date(2023, 1, 2) + timedelta(days=rng.randrange(600)), "donor": f"D{rng.randrange(800)}",
            "amount": rng.choice((10, 25, 50, 250)), "method": rng.choice(("card", "cash")),
        }  # fmt: skip


@pytest.fixture(scope="module")
def found(tmp_path_factory):
    rng = random.Random(12)
    counted, traded, given = list(_counted(rng)), list(_traded(rng)), list(_given(rng))
    counted[50]["variance value"] *= 10
    wrong = next(row for row in traded[700:] if row["side"] == "SELL")
    wrong["net"] += Decimal("4.10")
    given[900] |= {"donor": "D9999", "amount": 9_000}
    tables = {"counted": counted, "traded": traded, "given": given}
    case, screens = taken_in(tmp_path_factory.mktemp("of_counts"), tables)
    return case, screens, asked_for(case), wrong["trade"]


def test_nothing_is_no_sign_of_a_rule(found):
    """That a value is nothing where a thousandth of another would be too makes it none; what is something tells."""
    _, screens, queued, _ = found
    of_counts = [name for name in screens if name.startswith("unit cost")]
    assert of_counts == ["unit cost times difference of counted"]
    assert [item["subject"]["sku"] for item in queued[of_counts[0]]] == ["SKU00050"]


def test_what_was_rounded_by_itself_is_off_by_a_cent(found):
    _, screens, queued, wrong = found
    names = [name for name in screens if " where side is " in name]
    assert len(names) == 2
    assert all(screens[name]["settings"]["tolerance"] == "0.01" for name in names)
    told = {item["subject"]["trade"] for name in names for item in queued.get(name, ())}
    assert told == {wrong}


def test_what_many_give_is_not_much_and_counts_of_a_few_days_have_no_order(found):
    case, _, queued, _ = found
    payees = next(name for name in queued if name.startswith("donor of given over time"))
    assert {item["subject"]["gift"] for item in queued[payees]} == {"G000900"}
    of_numbers = inside_json("try", "sequence", "counted", "--of", "sku", cwd=case)
    assert of_numbers["groups"][0]["out_of_order"] is None and not of_numbers["flags"]
    (caution,) = (c for c in of_numbers["cautions"] if c["code"] == "numbers_of_few_days")
    assert "rows of no more than 15 days in all" in caution["text"]
