"""What is proposed of cars that are hired: days at a rate less a discount, odometers that go on, deposits, what expires."""

from __future__ import annotations

import random
from datetime import date, datetime, timedelta
from decimal import Decimal

import pytest

from conftest import inside_json
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
RATES = {"ECON": Decimal("39.00"), "COMP": Decimal("52.00"), "VAN": Decimal("95.00")}
DEPOSITS = {"ECON": 300, "COMP": 400, "VAN": 600}


def _hires(rng):
    rows = []
    for car in range(40):
        kind, now, odometer = rng.choice(list(RATES)), datetime(2023, 1, 1, 9), rng.randint(10, 900)
        while now < datetime(2024, 3, 1):
            now += timedelta(hours=rng.randint(30, 200))
            now = now.replace(hour=rng.randint(8, 18), minute=15)
            days, km = rng.randint(1, 9), rng.randint(40, 700)
            rows.append({
                "out": now, "back": now + timedelta(days=days), "plate": f"K-{1000 + 37 * car}", "class": kind,
                "customer": f"C{rng.randint(0, 149):03}", "days": days, "odometer_out": odometer,
                "odometer_in": odometer + km, "km": km, "daily_rate": RATES[kind],
                "discount_pct": rng.choice([0, 0, 5, 10]), "fuel": rng.choice([Decimal("0.00"), Decimal(rng.randint(900, 7000)) / 100]),
                "deposit": DEPOSITS[kind] + 50 * rng.randint(0, 1), "deposit_returned": 0,
            })  # fmt: skip
            now, odometer = now + timedelta(days=days), odometer + km
    rows.sort(key=lambda row: row["out"])
    for n, row in enumerate(rows):
        row["agreement"] = f"RA{1000 + n}"
        row["deposit_returned"] = row["deposit"]
        _charge(row, row["days"])
    return rows


def _charge(row, days):
    row["rental"] = (row["daily_rate"] * days * (100 - row["discount_pct"]) / 100).quantize(CENT)
    net = row["rental"] + row["fuel"]
    row["vat"] = (net * Decimal("0.21")).quantize(CENT)
    row["total"] = net + row["vat"]


@pytest.fixture(scope="module")
def hired(tmp_path_factory):
    rng = random.Random(11)
    rows = _hires(rng)
    customers = [{"customer": f"C{n:03}", "name": f"Customer {n}", "licence_expires": date(2026, 1, 1) + timedelta(days=7 * n)} for n in range(150)]  # fmt: skip
    repairs = []
    for n, row in enumerate(rng.sample(rows, 90)):
        cost = Decimal(rng.randint(6_000, 120_000)) / 100
        repairs.append({"claim": f"DM{n:03}", "agreement": row["agreement"], "reported": row["back"].date(), "repair_cost": cost, "excess": 300, "recovered": max(cost - 300, Decimal(0))})  # fmt: skip
    less, kept, taxed, jumped = (rows[at:700:150] for at in (60, 80, 100, 120))
    for row in less:
        _charge(row, row["days"] - Decimal("0.5"))
    for row in kept:
        row["deposit_returned"] = 0
    for row in taxed:
        row["vat"] = (row["vat"] / 2).quantize(CENT)
        row["total"] = row["rental"] + row["fuel"] + row["vat"]
    for row in jumped:
        row["odometer_out"] -= 35
        row["km"] += 35
    late = rows[300]
    customers[int(late["customer"][1:])]["licence_expires"] = late["out"].date() - timedelta(
        days=50
    )
    after = {row["agreement"] for row in rows if row["customer"] == late["customer"] and row["out"].date() > late["out"].date() - timedelta(days=50)}  # fmt: skip
    given = [row for row in repairs if row["recovered"]][5:60:20]
    for row in given:
        row["recovered"] = row["repair_cost"]
    first = ["agreement", *(name for name in rows[0] if name != "agreement")]
    world = {
        "agreements": [{name: row[name] for name in first} for row in rows],
        "customers": customers,
        "repairs": repairs,
    }
    case, screens = taken_in(tmp_path_factory.mktemp("hires"), world)
    return case, screens, asked_for(case), (less, kept, taxed, jumped, given, after)


def test_each_wrong_row_is_asked_for_and_no_other(hired):
    _, _, asked, (less, kept, taxed, _, given, _) = hired

    def found(name, key="agreement"):
        return {item["subject"][key] for item in asked[name]}

    def of(rows, key="agreement"):
        return {row[key] for row in rows}

    assert found("rental of agreements is days times daily_rate less discount_pct per cent") == of(
        less
    )
    assert found("deposit_returned of agreements is deposit") == of(kept)
    assert found("vat of agreements is 0.21 times (total less vat)") == of(taxed)
    name = "recovered of repairs is repair_cost less excess, or nothing"
    assert found(name, "claim") == of(given, "claim")


def test_an_odometer_goes_on_and_what_expires_ends(hired):
    case, screens, asked, (*_, jumped, _, after) = hired
    begins = (
        "the days of the table are those of out, and not back, which hardly any row has earlier"
    )
    again = inside_json("intake", "../in/agreements.csv", "--as", "again", cwd=case)
    assert begins in {each["text"] for each in again["assumed"]}, again["assumed"]
    # A car that went out with less than it came in with breaks what is carried forward once.
    wrong = {item["subject"].get("agreement") for item in asked["odometer_in of agreements carried forward"]}  # fmt: skip
    assert len(wrong) == len(jumped)
    assert screens["customer of agreements over time"]["settings"]["closed"] == "customer.licence_expires"  # fmt: skip
    assert after
