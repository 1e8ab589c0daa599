"""What is proposed of a charity's gifts and grants: what was banked of a day, orders of days in a few hundred rows, rules of
a table of some sixty."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside_json
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

METHODS = ["card", "standing order", "cheque", "cash"]


@pytest.fixture(scope="module")
def given(tmp_path_factory):
    rng = random.Random(5)
    first = date(2024, 1, 1)
    gifts = [
        {"gift": f"G{n:05}", "gift_date": first + timedelta(rng.randrange(120)), "donor": f"D{rng.randrange(300):03}", "method": rng.choice(METHODS), "amount": Decimal(rng.randint(100, 9_000)) / 100}
        for n in range(2_400)
    ]  # fmt: skip
    days = sorted({gift["gift_date"] for gift in gifts})
    banked = [
        {"slip": f"{500_100 + n}", "day": day, "banked": sum((g["amount"] for g in gifts if g["gift_date"] == day and g["method"] in ("cash", "cheque")), Decimal(0))}
        for n, day in enumerate(days)
    ]  # fmt: skip
    short = banked[10:100:30]
    for row in short:
        row["banked"] -= 40
    grants, reports = [], []
    for n in range(330):
        panel = first + timedelta(30 * (n % 12))
        grants.append({"grant": f"GR{n:03}", "applied": panel - timedelta(rng.randint(20, 80)), "panel_date": panel, "award": Decimal(rng.randint(20, 300) * 100)})  # fmt: skip
        reports.append({"report": f"R{n:03}", "grant": f"GR{n:03}", "received": panel + timedelta(rng.randint(90, 200)), "spent": grants[-1]["award"] * rng.randint(90, 100) / 100})  # fmt: skip
    late = grants[40:280:45]
    for row in late:
        row["applied"] = row["panel_date"] + timedelta(8)
    stalls = [{"stall": f"S{n:02}", "opened": first + timedelta(n), "takings": Decimal(rng.randint(5_000, 90_000)) / 100, "float": Decimal(rng.randint(2_000, 6_000)) / 100} for n in range(60)]  # fmt: skip
    for row in stalls:
        row["counted"] = row["takings"] + row["float"]
    wrong = stalls[20:60:20]
    for row in wrong:
        row["counted"] -= 10
    world = {"gifts": gifts, "bankings": banked, "grants": grants, "reports": reports, "stalls": stalls}  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("gifts"), world)
    return case, screens, asked_for(case), (short, late, wrong)


def test_what_was_banked_is_what_came_in_by_cash_and_cheque(given):
    case, screens, asked, (short, _, _) = given
    name = "amount by gift_date of gifts and bankings"
    assert screens[name]["settings"]["where"] == "method in ('cash', 'cheque')"
    assert {item["subject"]["gift_date"] for item in asked[name]} == {
        str(row["day"]) for row in short
    }
    opened = inside_json("dig", asked[name][0]["id"], "--rows", cwd=case)["rows"]
    assert {row["method"] for row in opened} <= {"cash", "cheque"} and opened


def test_few_days_out_of_order_and_a_rule_of_sixty_rows(given):
    _, _, asked, (_, late, wrong) = given
    before = asked["panel_date of grants before applied"]
    assert {item["subject"]["grant"] for item in before} == {row["grant"] for row in late}
    assert len(late) > 3
    sums = asked["counted of stalls is takings and float"]
    assert {item["subject"]["stall"] for item in sums} == {row["stall"] for row in wrong}
