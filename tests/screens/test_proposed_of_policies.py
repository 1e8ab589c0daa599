"""What is proposed of an insurer's policies: what is paid less a deductible, parts of a year, and payments of some claims."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import pytest

from folders import Style, asked_for, taken_in

pytestmark = pytest.mark.long

Rows = list[dict[str, Any]]


def _cents(amount: Decimal) -> Decimal:
    return amount.quantize(Decimal("0.01"), ROUND_HALF_UP)


def _interest(rng: random.Random) -> Rows:
    rows: Rows = []
    for deposit in range(12):
        day, balance = date(2024, 1, 1), Decimal(rng.randint(500_000, 90_000_000)) / 100
        rate = Decimal(rng.choice(["1.75", "2.10", "3.25"]))
        for _ in range(18):
            then = (day + timedelta(days=32)).replace(day=1)
            balance = _cents(balance * Decimal(str(round(rng.uniform(0.9, 1.1), 4))))
            part = balance * rate / 100 * (then - day).days / Decimal(365)
            rows.append(
                {
                    "Entry": f"IA{len(rows):04}",
                    "Deposit": f"DP{deposit}",
                    "From": day,
                    "To": then,
                    "Balance": balance,
                    "Rate %": rate,
                    "Interest": _cents(part),
                }
            )
            day = then
    return rows


def _world() -> tuple[dict[str, Rows], dict[str, set[str]]]:
    rng = random.Random(9)
    policies: Rows = []
    claims: Rows = []
    paid: Rows = []
    refunds: Rows = []
    for n in range(600):
        begin = date(2024, 1, 1) + timedelta(days=rng.randrange(300))
        policies.append(
            {
                "Policy No": f"PL{n:04}",
                "Start": begin,
                "Deductible": Decimal(rng.choice([100, 250, 500])),
                "Annual Premium": Decimal(rng.randint(18_000, 240_000)) / 100,
            }
        )
        if n % 4 == 0:
            left = rng.randint(20, 300)
            refund = _cents(policies[-1]["Annual Premium"] * left / Decimal(365))
            refunds.append({"Entry": f"RF{n:04}", "Policy No": f"PL{n:04}", "Cancelled": begin + timedelta(days=365 - left), "Days Left": left, "Refund": refund})  # fmt: skip
    for n in range(500):
        policy = rng.choice(policies)
        claimed = _cents(Decimal(str(rng.lognormvariate(7, 0.8))))
        payable = max(claimed - policy["Deductible"], Decimal("0.00"))
        day = policy["Start"] + timedelta(days=rng.randrange(340))
        claims.append({"Claim No": f"CL{n:04}", "Policy No": policy["Policy No"], "Loss Date": day, "Claimed": claimed, "Payable": payable, "Payee": f"Garage {n % 17}"})  # fmt: skip
        if payable:
            paid.append({"Payment": f"PY{n:04}", "Claim No": f"CL{n:04}", "Date": day + timedelta(days=20), "Payee": f"Garage {n % 17}", "Amount": payable})  # fmt: skip
    interest = _interest(rng)
    whole = [row for row in claims if row["Payable"]][10:50:10]
    for row in whole:
        row["Payable"] = row["Claimed"]
        next(p for p in paid if p["Claim No"] == row["Claim No"])["Amount"] = row["Claimed"]
    more = [row for row in paid if row["Claim No"] not in {w["Claim No"] for w in whole}][60:90:10]
    for row in more:
        row["Amount"] += 300
    for row in (*refunds[5:35:10], *interest[20:80:20]):
        name = "Refund" if "Refund" in row else "Interest"
        row[name] = _cents(row[name] * Decimal("1.2"))
    world = {
        "policies": policies,
        "claims": claims,
        "claim_payments": paid,
        "cancellations": refunds,
        "interest": interest,
    }
    return world, {
        "Payable of claims is Claimed less Deductible of its Policy No, or nothing": {
            r["Claim No"] for r in whole
        },
        "Amount by Claim No of claim_payments and Payable of claims": {r["Claim No"] for r in more},
        "Refund of cancellations is Annual Premium of its Policy No for Days Left of 365": {
            r["Entry"] for r in refunds[5:35:10]
        },
        "Interest of interest is Rate % percent of Balance for the days from From to To of 365": {
            r["Entry"] for r in interest[20:80:20]
        },
    }


@pytest.fixture(scope="module")
def taken(tmp_path_factory):
    world, wrong = _world()
    return *taken_in(tmp_path_factory.mktemp("policies"), world, Style(days="%d/%m/%Y")), wrong


def test_each_wrong_row_is_asked_for_and_no_other(taken):
    case, screens, wrong = taken
    exceptions = asked_for(case)
    for name, expected in wrong.items():
        assert name in screens, (name, sorted(screens))
        told = exceptions.get(name, [])
        labels = " ".join(str(each["label"]) for each in told)
        assert len(told) == len(expected) and all(each in labels for each in expected), (name, labels)  # fmt: skip


def test_payments_of_some_claims_are_compared_where_there_are_both(taken):
    _, screens, _ = taken
    settings = screens["Amount by Claim No of claim_payments and Payable of claims"]["settings"]
    assert settings["among"] == "both"
