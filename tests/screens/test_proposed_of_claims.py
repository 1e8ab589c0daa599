"""What is proposed of the expenses that people of the house claim, beside rates of exchange and kilometres."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json
from folders import taken_in

pytestmark = pytest.mark.long

PLACES = {
    ("Graz", "Linz"): 219,
    ("Graz", "Wels"): 205,
    ("Villach", "Linz"): 290,
    ("Villach", "Wels"): 262,
}
PEOPLE = [f"P{n:03}" for n in range(1, 41)]
BEGIN = date(2025, 1, 6)


def _rates(rng):
    """A rate of each of 300 days and two currencies."""
    rates, now = {}, {"GBP": 1.17, "PLN": 0.23}
    for n in range(300):
        for currency in now:
            now[currency] *= 1 + rng.gauss(0, 0.004)
            rates[BEGIN + timedelta(days=n), currency] = Decimal(f"{now[currency]:.4f}")
    return rates


def _claims(rng, rates):
    """Journeys of some rows in one town, as each claims them, in the currency of the town."""
    rows = []
    for _ in range(700):
        who, day = rng.choice(PEOPLE), BEGIN + timedelta(days=rng.randrange(300))
        town, currency = rng.choice(
            [("York", "GBP"), ("Lodz", "PLN"), ("Graz", "EUR"), ("Linz", "EUR")]
        )
        for _ in range(rng.randint(2, 5)):
            kind = rng.choice(["Meals", "Meals", "Taxi", "Books"])
            amount = Decimal(rng.randint(800, 9_000)) / 100
            rate = rates.get((day, currency), Decimal(1))
            rows.append(
                [
                    who,
                    day,
                    kind,
                    rng.choice(["Corner Inn", "Blue Cab", "Print Hut"]),
                    town,
                    currency,
                    amount,
                    rate,
                ]
            )
    return rows


def test_what_expense_claims_are_asked(tmp_path):
    rng = random.Random(7)
    rates = _rates(rng)
    claims = _claims(rng, rates)
    foreign = [row for row in claims if row[5] != "EUR"]
    for row in foreign[100:500:50]:
        row[7] += Decimal("0.0300")
    one = [row for row in claims if row[0] == PEOPLE[3] and row[5] == "EUR"][:18]
    for n, row in enumerate(one):
        row[6] = Decimal(4_850 + 8 * n) / 100
    books = [row for row in claims if row[0] == PEOPLE[9]]
    for row in books:
        row[2] = "Books"
    claims += [list(row) for row in claims[700:703]]
    trips = []
    for _ in range(400):
        (begin, end), km = rng.choice(list(PLACES.items()))
        trips.append(
            [
                rng.choice(PEOPLE),
                BEGIN + timedelta(days=rng.randrange(300)),
                begin,
                end,
                round(km * rng.uniform(0.98, 1.03)),
            ]
        )
    for trip in trips[40:44]:
        trip[4] = trip[4] * 3 // 2
    told = [[f"C{n:05}", *row, f"{row[6] * row[7]:.2f}"] for n, row in enumerate(claims)]
    driven = [
        [f"T{n:04}", *row, "0.30", f"{Decimal(row[4]) * Decimal('0.30'):.2f}"]
        for n, row in enumerate(trips)
    ]
    claimed = (
        "Claim;Employee ID;Date;Category;Merchant;Town;Currency;Amount;Exchange Rate;Amount EUR"
    )
    folder = {
        "rates": (["Date", "Currency", "Rate"], [[*at, rate] for at, rate in rates.items()]),
        "claims": (claimed.split(";"), told),
        "mileage": (
            ["Trip", "Employee ID", "Date", "From", "To", "Km", "Rate per km", "Amount"],
            driven,
        ),
    }
    case, proposed = taken_in(tmp_path, folder)
    tables = {table["table"]: table for table in inside_json("survey", cwd=case)["tables"]}
    # Who spends for the house, where a merchant is who was paid; without one it is who was paid.
    assert (
        tables["claims"]["roles"]["preparer"] == "Employee ID"
        and tables["claims"]["roles"]["party"] == "Merchant"
    )
    assert (
        tables["mileage"]["roles"]["party"] == "Employee ID"
        and "preparer" not in tables["mileage"]["roles"]
    )
    flagged = {name: screen["flagged"] for name, screen in proposed.items()}
    assert flagged["Exchange Rate of claims other than in rates"] == 8
    assert flagged["claims just under 50"] == 1
    # The same by one person, apart from what several claim of one merchant.
    repeats = proposed["repeats of claims by one Employee ID"]
    found = inside_json(
        "try", "repeats", "claims", "--same", ",".join(repeats["settings"]["same"]), cwd=case
    )
    members = {m["id"] for flag in found["flags"] for m in flag["members"]}
    assert {f"C{n:05}" for n in (700, 701, 702, *range(len(claims) - 3, len(claims)))} <= members
    assert len(found["flags"]) == flagged[repeats["name"]] < 10
    assert (
        "repeats of claims by several Employee ID" in flagged and "repeats of claims" not in flagged
    )
    assert flagged["Category of claims by Employee ID"] == 1
    # Whoever travels somewhere has several rows of that town: that many have tells of nobody.
    assert not any(name.startswith("Town of claims by") for name in flagged)
    assert flagged["Km of mileage unlike the From and To's others"] == 4
    # A rate per kilometre is asked once, and not as the multiple of kilometres that amounts are besides.
    assert not any("0.3 times" in name for name in flagged)
    rate = proposed["Exchange Rate of claims other than in rates"]
    inside("screen", rate["name"], cwd=case)
    item = inside_json("queue", cwd=case)[0]
    day, own, stated = (
        item["subject"]["Date"],
        item["subject"]["Currency"],
        item["subject"]["Exchange Rate"],
    )
    right = rates[date.fromisoformat(day), own]
    assert Decimal(stated) == right + Decimal("0.0300")
    told = inside("why", item["id"], cwd=case).stdout
    assert f"which has {right} for {day} · {own}" in " ".join(told.split())
