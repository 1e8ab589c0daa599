"""What is proposed of a builder's certificates: what is kept back and withheld of a subcontractor by whose order it is, who is paid
for it, and what is paid far sooner than all else."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")


def _net(row):
    row["Net payable"] = row["This certificate"] - row["Retention"] - row["Withheld"]


def test_what_certificates_and_their_payments_are_asked(tmp_path):
    rng = random.Random(17)
    builders = [{"Subcontractor": f"SC{n:03}", "Trading name": f"{chr(65 + n % 26)} Roofing {n}", "Withholding rate": rng.choice([0, 20, 30])} for n in range(60)]  # fmt: skip
    rates = {b["Subcontractor"]: b["Withholding rate"] for b in builders}
    orders = [{"Order": f"SO{n}", "Subcontractor": rng.choice(builders)["Subcontractor"], "Ordered": date(2023, 1, 2) + timedelta(days=rng.randrange(500)), "Retention %": rng.choice([3, 5])} for n in range(2000, 2300)]  # fmt: skip
    certificates, payments = [], []
    for order in orders:
        for k in range(rng.randint(2, 6)):
            part = Decimal(f"{rng.lognormvariate(8, 0.8):.2f}")
            kept = (part * order["Retention %"] / 100).quantize(CENT)
            tax = ((part - kept) * rates[order["Subcontractor"]] / 100).quantize(CENT)
            day = order["Ordered"] + timedelta(days=150 + 30 * k + rng.randint(-3, 3))
            number = len(certificates) + 10001
            row = {"Certificate": f"C{number}", "Order": order["Order"], "Certified": day, "This certificate": part, "Retention": kept, "Withheld": tax}  # fmt: skip
            _net(row)
            certificates.append(row)
            payments.append({"Payment": f"P{number}", "Paid": day + timedelta(days=rng.choice([21, 22, 23, 25, 28])), "Certificate": row["Certificate"], "Subcontractor": order["Subcontractor"], "Paid amount": row["Net payable"]})  # fmt: skip
    taxed = [n for n, row in enumerate(certificates) if row["Withheld"]]
    odd = rng.sample(taxed, 8)
    for n in odd[:3]:
        certificates[n]["Withheld"] = (certificates[n]["Withheld"] / 2).quantize(CENT)
        _net(certificates[n])
        payments[n]["Paid amount"] = certificates[n]["Net payable"]
    for n in odd[3:6]:
        payments[n]["Subcontractor"] = next(b for b in rates if b != payments[n]["Subcontractor"])
    for n in odd[6:]:
        payments[n]["Paid"] = certificates[n]["Certified"] + timedelta(days=1)
    case, screens = taken_in(tmp_path, {"subcontractors": builders, "orders": orders, "certificates": certificates, "payments": payments})  # fmt: skip
    asked = asked_for(case)
    rate = "Withheld of certificates is Withholding rate of the Subcontractor of its Order percent of (This certificate less Retention)"  # fmt: skip
    found = {item["subject"]["Certificate"] for item in asked[rate]}
    assert found == {certificates[n]["Certificate"] for n in odd[:3]}
    found = asked["Subcontractor of payments other than in orders"]
    assert {item["subject"]["Subcontractor"] for item in found} == {payments[n]["Subcontractor"] for n in odd[3:6]}  # fmt: skip
    found = {item["subject"]["Payment"] for item in asked["Paid of payments soon after Certificate.Certified"]}  # fmt: skip
    assert found == {payments[n]["Payment"] for n in odd[6:]}
    assert screens["Paid of payments soon after Certificate.Certified"]["flagged"] == 2
