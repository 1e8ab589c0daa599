"""What is proposed of pledges and of what becomes of them: redeemed once, with so much interest a month by their class; what
is sold for more than is owed goes back; of whom the list knows nothing; and what may still come is not missing yet."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json
from folders import Style, asked_for, taken_in

pytestmark = pytest.mark.long

BRITISH = Style(days="%d/%m/%Y")
CENT = Decimal("0.01")
CLASSES = {"GOLD": (70, "6.5"), "WATCH": (50, "7.5"), "CAMERA": (40, "9.0")}
LAST = date(2024, 12, 27)


def _pledges(rng):
    rows = []
    for n in range(1_500):
        day = date(2024, 1, 3) + timedelta(days=n * 359 // 1_500)
        kind = rng.choices(list(CLASSES), (6, 2, 1))[0]
        worth = Decimal(rng.randint(40, 900))
        rows.append({
            "Pledge": f"PL{20_000 + n}", "Date": day, "Customer": f"K{rng.randrange(400):04}", "Class": kind,
            "Valuation": worth, "Advance": (worth * CLASSES[kind][0] / 100).quantize(CENT),
        })  # fmt: skip
    return rows


def _redeemed(pledge, day, n):
    months = -(-(day - pledge["Date"]).days // 30)
    rate = Decimal(CLASSES[pledge["Class"]][1])
    interest = (pledge["Advance"] * rate * months / 100).quantize(CENT)
    return {
        "Receipt": f"RC{50_000 + n}", "Pledge": pledge["Pledge"], "Redeemed": day, "Months": months,
        "Advance repaid": pledge["Advance"], "Interest": interest, "Received": pledge["Advance"] + interest,
    }  # fmt: skip


def _sold(pledge, rng, n):
    owed = (pledge["Advance"] * Decimal("1.4")).quantize(CENT)
    got = (owed * Decimal(rng.randint(60, 130)) / 100).quantize(CENT)
    return {
        "Lot": f"L{3_000 + n}", "Pledge": pledge["Pledge"], "Sold": pledge["Date"] + timedelta(days=rng.randint(195, 230)),
        "Sold for": got, "Owed": owed, "Surplus": max(got - owed, Decimal(0)),
    }  # fmt: skip


@pytest.fixture(scope="module")
def found(tmp_path_factory):
    rng = random.Random(3)
    pledges = _pledges(rng)
    redeemed = [
        _redeemed(row, row["Date"] + timedelta(days=rng.randint(5, 178)), n)
        for n, row in enumerate(pledges)
        if rng.random() < 0.6
    ]
    back = {row["Pledge"] for row in redeemed}
    sold = [_sold(row, rng, n) for n, row in enumerate(pledges) if row["Pledge"] not in back]
    pledges[77]["Customer"] = "K9999"
    odd = rng.sample(redeemed, 5)
    for row in odd[:3]:
        row["Interest"] = (row["Interest"] / 2).quantize(CENT)
        row["Received"] = row["Advance repaid"] + row["Interest"]
    twice = [
        {**row, "Receipt": f"RC{90_000 + n}", "Redeemed": row["Redeemed"] + timedelta(days=3), "Received": row["Received"] + 1}
        for n, row in enumerate(odd[3:])
    ]  # fmt: skip
    kept = [row for row in sold if row["Surplus"] > 10][:2]
    for row in kept:
        row["Surplus"] = Decimal(0)
    wrong = {
        "unknown": {"K9999"},
        "interest": {row["Receipt"] for row in odd[:3]},
        "twice": {row["Receipt"] for row in twice},
        "kept": {row["Lot"] for row in kept},
    }
    tables = {
        "classes": [{"Class": k, "Advance %": a, "Monthly rate %": Decimal(m)} for k, (a, m) in CLASSES.items()],
        "customers": [{"Customer": f"K{n:04}", "Name": f"Customer {n}"} for n in range(400)],
        "pledges": pledges, "redemptions": sorted([*redeemed, *twice], key=lambda row: row["Redeemed"]), "auctions": sold,
    }  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("pledges"), tables, BRITISH)
    return case, screens, asked_for(case), wrong


@pytest.mark.parametrize(
    ("name", "column", "of"),
    [
        ("Customer of pledges not in customers", "Customer", "unknown"),
        ("Pledge of redemptions in two rows", "Receipt", "twice"),
        (
            "Interest of redemptions is Monthly rate % of the Class of its Pledge percent of Advance repaid times Months",
            "Receipt",
            "interest",
        ),
        ("Surplus of auctions is Sold for less Owed, or nothing", "Lot", "kept"),
    ],
)
def test_what_became_of_pledges(found, name, column, of):
    _, screens, items, wrong = found
    assert name in screens
    assert {item["subject"][column] for item in items[name]} == wrong[of]


def test_codes_called_as_amounts_are_no_amounts_that_could_not_be_read(found):
    case, *_ = found
    told = inside_json("intake", "../in/pledges.csv", "--as", "again", "--check", cwd=case)
    assert not any("PL20000" in each["text"] for each in told["assumed"])


def test_what_may_still_come_is_not_missing(tmp_path):
    """Bills that are paid within sixty days: of those of the last sixty it cannot be known yet."""
    rng = random.Random(8)
    bills = [
        {"bill": f"B{n}", "date": LAST - timedelta(days=(4_000 - n) // 11), "customer": f"C{rng.randrange(80)}", "amount": Decimal(rng.randint(100, 90_000)) / 100}
        for n in range(4_000)
    ]  # fmt: skip
    never = {row["bill"] for row in rng.sample(bills[:3_000], 4)}
    paid = [
        {"receipt": f"R{n}", "bill": row["bill"], "date": row["date"] + timedelta(days=rng.randint(3, 60)), "amount": row["amount"]}
        for n, row in enumerate(bills)
        if row["bill"] not in never
    ]  # fmt: skip
    paid = [row for row in paid if row["date"] <= LAST]
    waiting = len(bills) - len(paid) - len(never)
    case, screens = taken_in(tmp_path, {"bills": bills, "receipts": paid})
    name = "bill of bills not in receipts"
    assert waiting > 100 and "of later ones it cannot be known yet" in screens[name]["because"]
    items = asked_for(case)[name]
    assert {item["subject"]["bill"] for item in items} == never
    # Whoever asks for all of them gets all of them.
    all_of_them = inside("try", "match", "bills", "--on", "bill", "--other", "receipts", cwd=case)
    assert f"{waiting + len(never):,}" in all_of_them.stdout
