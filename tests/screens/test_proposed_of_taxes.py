"""What is proposed of bills with a tax: a code for abroad on a bill to a customer at home, a credit note above nothing, and what
is a sum already, which is told by no rate."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
CODES = {"standard": Decimal("23.0"), "reduced": Decimal("13.5"), "none": Decimal("0.0"), "abroad": Decimal("0.0")}  # fmt: skip


def test_what_bills_with_a_tax_are_asked(tmp_path):
    rng, home, above = random.Random(2), set(), set()
    customers = [{"customer": f"C{n:03}", "name": f"{chr(65 + n % 26)} Foods {n}", "country": ("IE", "IE", "DE", "FR")[n % 4]} for n in range(80)]  # fmt: skip
    codes = [{"code": code, "described": f"{code} rate", "percent": rate} for code, rate in CODES.items()]  # fmt: skip
    bills = []
    for n in range(1600):
        who = customers[rng.randrange(80)]
        code = "abroad" if who["country"] != "IE" else rng.choice(["standard", "standard", "reduced", "none"])  # fmt: skip
        if who["country"] == "IE" and n % 310 == 7:
            code = "abroad"
            home.add(f"B{n:04}")
        kind = "credit" if n % 20 == 3 else "bill"
        net = Decimal(f"{rng.lognormvariate(6, 0.9):.2f}") * (-1 if kind == "credit" else 1)
        if n in (203, 803):
            net = -net
            above.add(f"B{n:04}")
        tax = (net * CODES[code] / 100).quantize(CENT)
        bills.append({"bill": f"B{n:04}", "day": date(2025, 1, 2) + timedelta(days=n // 5), "customer": who["customer"], "kind": kind, "code": code, "net": net, "tax": tax, "gross": net + tax + (n in (99, 700))})  # fmt: skip
    case, screens = taken_in(tmp_path, {"customers": customers, "codes": codes, "bills": bills})
    asked = asked_for(case)
    found = asked["code of bills hardly ever abroad where country of its customer is IE"]
    assert {item["subject"]["bill"] for item in found} == home != set()
    found = asked["net of bills above 0 where kind is credit"]
    assert {item["subject"]["bill"] for item in found} == above
    assert {item["subject"]["bill"] for item in asked["gross of bills is net and tax"]} == {"B0099", "B0700"}  # fmt: skip
    assert not [name for name in screens if name.endswith("by code")]
