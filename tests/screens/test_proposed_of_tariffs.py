"""What is proposed of a water company and of its dealers: charges of two parts, by the tariff of the account; a commission by the
plan of what was sold, in rows of one kind; what is there twice of a kind; write-offs too few for limits; numbers that are given
to what happens later too; and what happens on one day by chance."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
TARIFFS = {"DOM": ("12.50", "1.42"), "COM": ("35.00", "1.88"), "FARM": ("20.00", "0.95")}
PLANS = {"S10": "35.00", "M20": "60.00", "L35": "95.00"}


def _water(rng):
    accounts = [{"Account": f"K{n:03}", "Tariff": rng.choice(list(TARIFFS)), "Connected": date(2010, 1, 1) + timedelta(days=rng.randrange(1800))} for n in range(90)]  # fmt: skip
    charged, bills = {a["Account"]: TARIFFS[a["Tariff"]] for a in accounts}, []
    for n in range(450):
        account, used = accounts[n % 90]["Account"], rng.randrange(9, 90)
        fixed, rate = map(Decimal, charged[account])
        net = (fixed + rate * used).quantize(CENT)
        bills.append({"Bill": f"B{n:04}", "Account": account, "Bill date": date(2024, 1 + 2 * (n // 90), 1 + n % 25), "Volume": used, "Net": net * 2 if n in (70, 300) else net})  # fmt: skip
    off = [{"Write-off": f"W{n:02}", "Date": date(2024, 3, 1) + timedelta(days=3 * n), "Amount": Decimal(rng.randrange(500, 6000)) / 100 if n != 21 else Decimal("480.00")} for n in range(60)]  # fmt: skip
    tariffs = [{"Tariff": name, "Standing charge": Decimal(fixed), "Rate per m3": Decimal(rate)} for name, (fixed, rate) in TARIFFS.items()]  # fmt: skip
    return {"accounts": accounts, "tariffs": tariffs, "bills": bills, "writeoffs": off}


def _dealers(rng):
    sold = [{"Activation": f"AC{n:04}", "Activated": date(2024, 1, 2) + timedelta(days=n // 4), "Plan": rng.choice(list(PLANS))} for n in range(900)]  # fmt: skip
    lines = []
    for each in sold:
        amount = Decimal(PLANS[each["Plan"]])
        lines.append((each["Activated"], each["Activation"], "Commission", amount))
        if rng.random() < 0.08:
            later = each["Activated"] + timedelta(days=rng.randrange(40, 80))
            lines.append((later, each["Activation"], "Clawback", -amount))
    head = ["Line", "Day", "Activation", "Type", "Amount"]
    rows = [[f"L{n:04}", *line] for n, line in enumerate(lines)]
    rows[100][4] += 20
    rows.append([f"L{len(rows):04}", date(2024, 8, 20), *rows[200][2:]])
    del rows[500]
    plans = [{"Plan": name, "Commission": Decimal(paid)} for name, paid in PLANS.items()]
    return {"activations": sold, "plans": plans, "commissions": (head, rows)}


@pytest.fixture(scope="module")
def asked(tmp_path_factory):
    rng = random.Random(12)
    case, _ = taken_in(tmp_path_factory.mktemp("water"), {**_water(rng), **_dealers(rng)})
    return asked_for(case)


@pytest.mark.parametrize(
    ("screen", "rows"),
    [
        ("Net of bills is Standing charge of the Tariff of its Account and Volume times its Rate per m3", ["B0070", "B0300"]),
        ("Amount of writeoffs far above all others", ["W21"]),
        ("Amount of commissions is Commission of the Plan of its Activation where Type is Commission", ["L0100"]),
        ("Activation and Type of commissions in two rows", ["L0968"]),
        ("numbers of commissions", ["L0500"]),
    ],
)  # fmt: skip
def test_each_wrong_row_is_asked_for_and_no_other(asked, screen, rows):
    assert sorted(item["subject"].popitem()[1] for item in asked[screen]) == rows


def test_what_is_of_one_day_by_chance_is_nothing(asked):
    assert not [name for name in asked if "Tariff of accounts" in name]
