"""What is proposed of loans and what is pledged for them: a pledge that is worth less than was lent, and a loan of a kind that
always has one, without."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import asked_for, taken_in

pytestmark = pytest.mark.long


def test_what_is_pledged_and_for_which_loans(tmp_path):
    rng, less, none = random.Random(6), set(), set()
    loans, pledges = [], []
    for n in range(600):
        kind, lent = ("house", "car", "personal", "study")[n % 4], rng.randint(20, 900) * 100
        loan, day = f"L{n:04}", date(2023, 1, 2) + timedelta(days=n)
        loans.append({"loan": loan, "granted": day, "product": kind, "amount": Decimal(lent)})
        if kind in ("personal", "study"):
            continue
        if n in (44, 200, 405):
            none.add(loan)
            continue
        share = rng.uniform(1.02, 1.8) if n not in (61, 320, 501) else rng.uniform(0.4, 0.8)
        less |= {loan} if share < 1 else set()
        pledges.append({"pledge": f"Z{n:04}", "loan": loan, "valued": day, "amount": Decimal(f"{lent * share:.2f}")})  # fmt: skip
    case, _ = taken_in(tmp_path, {"loans": loans, "pledges": pledges})
    asked = asked_for(case)
    of_loan = {each["pledge"]: each["loan"] for each in pledges}
    found = asked["amount of pledges below amount of its loan"]
    assert {of_loan[item["subject"]["pledge"]] for item in found} == less
    # Half of the loans have none, and are of kinds that never do.
    found = asked["loan of loans not in pledges, product car or house"]
    assert {item["subject"]["loan"] for item in found} == none
