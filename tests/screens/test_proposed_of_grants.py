"""What is proposed of a foundation: what is drawn of a grant in all, spent with a card in a month, taken as leave in a year, and
added to a contract as a share of its sum."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")


@pytest.fixture(scope="module")
def funded(tmp_path_factory):
    rng = random.Random(8)
    grants = [{"grant": f"G{n:03}", "approved": date(2023, 1, 1) + timedelta(days=rng.randrange(400)), "award": Decimal(f"{rng.lognormvariate(9.5, 0.9):.2f}")} for n in range(160)]  # fmt: skip
    drawn = []
    for grant in grants:
        left, day = grant["award"], grant["approved"]
        for _ in range(rng.randrange(1, 5)):
            amount = (left * Decimal(rng.choice(["0.3", "0.5", "0.8"]))).quantize(CENT)
            day += timedelta(days=rng.randrange(20, 60))
            drawn.append({"grant": grant["grant"], "paid": day, "amount": amount})
            left -= amount
        if grant["grant"] in ("G011", "G090"):
            drawn.append({"grant": grant["grant"], "paid": day + timedelta(days=9), "amount": (left + grant["award"] / 7).quantize(CENT)})  # fmt: skip
    cards = [{"card": f"K{n:02}", "monthly limit": rng.choice([500, 1000, 3000])} for n in range(40)]  # fmt: skip
    spent = []
    for card in cards:
        for month in range(1, 13):
            left = card["monthly limit"]
            for day in sorted(rng.sample(range(1, 28), rng.randrange(2, 6))):
                amount = Decimal(rng.randrange(100, 35 * card["monthly limit"])) / 100
                if amount < left:
                    spent.append({"card": card["card"], "day": date(2024, month, day), "amount": amount})  # fmt: skip
                    left -= amount
            if (card["card"], month) in (("K07", 3), ("K31", 11)):
                spent += [{"card": card["card"], "day": date(2024, month, 28), "amount": (left + 90) / 2} for _ in range(2)]  # fmt: skip
    staff = [{"employee": f"E{n:02}", "leave days": rng.choice([20, 25, 30])} for n in range(60)]
    leave = []
    for person in staff:
        for year in (2023, 2024):
            left = person["leave days"]
            while left > 0 and rng.random() < 0.9:
                days = min(left, rng.choice([1, 2, 5, 10]))
                leave.append({"employee": person["employee"], "first day": date(year, 1, 2) + timedelta(days=rng.randrange(350)), "days": days})  # fmt: skip
                left -= days
            if (person["employee"], year) == ("E17", 2024):
                leave.append({"employee": "E17", "first day": date(2024, 12, 2), "days": left + 3})
    contracts = [{"contract": f"C{n:03}", "sum": Decimal(f"{rng.lognormvariate(11, 1):.2f}")} for n in range(90)]  # fmt: skip
    added = [{"variation": f"V{n:03}", "contract": (c := rng.choice(contracts))["contract"], "day": date(2024, 1, 1) + timedelta(days=n), "amount": (c["sum"] * Decimal("0.6" if n in (40, 140) else rng.randrange(10, 100)) / (1 if n in (40, 140) else 1000)).quantize(CENT)} for n in range(240)]  # fmt: skip
    tables = {"grants": grants, "drawdowns": sorted(drawn, key=lambda r: r["paid"]), "cards": cards, "card_spend": sorted(spent, key=lambda r: r["day"]), "staff": staff, "leave": leave, "contracts": contracts, "variations": added}  # fmt: skip
    case, _ = taken_in(tmp_path_factory.mktemp("funded"), tables)
    return case, asked_for(case)


UP_TO = {
    "amount of drawdowns by grant above award of its grant": [{"grant": "G011"}, {"grant": "G090"}],
    "amount of card_spend by card and month above monthly limit of its card": [
        {"card": "K07", "month": "2024-03"}, {"card": "K31", "month": "2024-11"},
    ],
    "days of leave by employee and year above leave days of its employee": [
        {"employee": "E17", "year": "2024"},
    ],
}  # fmt: skip


@pytest.mark.parametrize("name", UP_TO)
def test_what_is_more_in_all_than_was_granted_is_asked_for(funded, name):
    found = [item["subject"] for item in funded[1][name]]
    assert sorted(found, key=str) == UP_TO[name]


def test_a_sum_above_what_it_may_be_is_told_with_both(funded):
    case, asked = funded
    (found, _) = sorted(
        asked["amount of drawdowns by grant above award of its grant"],
        key=lambda item: item["subject"]["grant"],
    )
    said = " ".join(inside("why", found["id"], cwd=case).stdout.split())
    assert (
        "sum(amount) is " in said and ' where max("grant".award) is ' in said and " above." in said
    )


def test_a_share_far_above_all_others_is_asked_for(funded):
    (name,) = [name for name in funded[1] if name.startswith("amount of variations above")]
    assert name == "amount of variations above 0.1 times sum of its contract"
    assert {item["subject"]["variation"] for item in funded[1][name]} == {"V040", "V140"}
