"""What is proposed of customs, of a workshop, of stipends and of canteens: headings that are codes in parts, values at a rate of
exchange, a tax on three amounts, pieces beside their value by heading; a discount two links away; the account of whom a decision
is for; meals by place and month."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import Style, asked_for, taken_in

pytestmark = pytest.mark.long

PLAIN = Style(",", ".", "%Y-%m-%d", "%Y-%m-%d %H:%M", "utf-8")
CENT = Decimal("0.01")


def _customs(rng):
    duties = {"6109.10": (12, 7), "6403.99": (8, 19), "8518.30": (2, 24), "9403.60": (0, 60), "8712.00": (14, 150)}  # fmt: skip
    tariff = [{"Heading": h, "Goods": f"Goods {n}", "Duty %": Decimal(d)} for n, (h, (d, _)) in enumerate(duties.items())]  # fmt: skip
    declared = []
    for n in range(600):
        heading = rng.choice(list(duties))
        duty, worth = duties[heading]
        pieces, rate = rng.randrange(20, 1500), Decimal(10500 + n // 3) / 10000
        invoiced = Decimal(round(pieces * worth * rng.lognormvariate(0, 0.1), 2)).quantize(CENT)
        if n == 77:
            invoiced = (invoiced / 8).quantize(CENT)
        value = (invoiced / rate).quantize(CENT)
        freight = (value * rng.randrange(20, 60) / 1000).quantize(CENT)
        due = (value * duty / 100).quantize(CENT)
        tax = ((value + freight + due) / 5).quantize(CENT)
        declared.append({
            "MRN": f"24XX{n:05}", "Accepted": date(2024, 1, 2) + timedelta(days=n // 3), "Heading": heading, "Pieces": pieces,
            "Invoice value": invoiced, "Rate": rate, "Customs value": value, "Freight": freight, "Duty": due, "VAT": tax,
        })  # fmt: skip
    for n, row in enumerate(declared):
        row["Released"] = row["Accepted"] + timedelta(days=190 if n == 400 else 1 + n % 9)
    declared[100]["Customs value"] -= 700
    declared[200]["Duty"] += 30
    declared[300]["VAT"] -= 25
    return {"tariff": tariff, "declarations": declared}


def _workshop(rng):
    vans = [{"Plate": f"HB {100 + n}", "Model": "Transit", "Discount %": rng.choice([10, 12, 15])} for n in range(20)]  # fmt: skip
    orders, lines = [], []
    for n in range(220):
        van = rng.choice(vans)
        orders.append({"Job": f"J{n:04}", "Day": date(2024, 1, 2) + timedelta(days=n), "Plate": van["Plate"]})  # fmt: skip
        for _ in range(rng.randrange(1, 4)):
            count, price = rng.randrange(1, 5), Decimal(rng.randrange(400, 40000)) / 100
            cost = (count * price * (100 - van["Discount %"]) / 100).quantize(CENT)
            lines.append({"Line": f"L{len(lines):04}", "Job": f"J{n:04}", "Part": f"T{rng.randrange(900)}", "Quantity": count, "Unit price": price, "Amount": cost})  # fmt: skip
    lines[50]["Amount"] = (lines[50]["Quantity"] * lines[50]["Unit price"]).quantize(CENT)
    for n, line in enumerate(lines):
        line["Activity"] = f"{1 + n % 4}.{1 + n % 6:02}"
    lines[33]["Activity"] = "9.99"
    budget = [{"Activity": f"{a}.{b:02}", "Budget": Decimal(5000 * a + b)} for a in range(1, 5) for b in range(1, 7)]  # fmt: skip
    return {"vans": vans, "jobs": orders, "job_lines": lines, "budget": budget}


def _stipends(rng):
    students = [{"Student": f"S{700 + n}", "Name": f"Name {n}", "Bank account": f"{rng.randrange(10**9, 10**10)}-{n}"} for n in range(90)]  # fmt: skip
    decisions = [{"Decision": f"B{n:03}", "Decided": date(2024, 1, 2) + timedelta(days=n), "Student": s["Student"], "Granted": Decimal(rng.randrange(3000, 9000))} for n, s in enumerate(students)]  # fmt: skip
    paid = [{"Payment": f"U{n:03}", "Paid on": d["Decided"] + timedelta(days=9 + part * 60), "Decision": d["Decision"], "Paid": d["Granted"] / 2, "Account": s["Bank account"]} for n, (d, s, part) in enumerate((d, s, part) for d, s in zip(decisions, students, strict=True) for part in (0, 1))]  # fmt: skip
    paid[60]["Account"] = students[5]["Bank account"]
    students[5]["Bank account"] = "8888-1234567"
    paid[60]["Account"], paid[10]["Account"], paid[11]["Account"] = ["8888-1234567"] * 3
    return {"students": students, "decisions": decisions, "payments": paid}


def _canteens(rng):
    schools = [{"School": f"C{n:02}", "Town": f"Town {n}", "Places": rng.choice([60, 80, 100])} for n in range(12)]  # fmt: skip
    served, sums = [], defaultdict(int)
    for day in (date(2024, 1, 8) + timedelta(days=n) for n in range(140)):
        for school in schools if day.weekday() < 5 else ():
            meals = rng.randrange(school["Places"] * 7 // 10, school["Places"])
            served.append({"Sheet": len(served) + 1, "Served": day, "School": school["School"], "Meals served": meals})  # fmt: skip
            sums[school["School"], f"{day:%Y-%m}"] += meals
    bills = [{"Bill": f"CT{n:03}", "Month": m, "School": s, "Meals": many, "Total": many * Decimal("4.65")} for n, ((s, m), many) in enumerate(sorted(sums.items()))]  # fmt: skip
    bills[7].update({"Meals": bills[7]["Meals"] + 100, "Total": bills[7]["Total"] + 465})
    return {"schools": schools, "sheets": served, "bills": bills}


@pytest.fixture(scope="module")
def asked(tmp_path_factory):
    rng = random.Random(3)
    tables = {**_customs(rng), **_workshop(rng), **_stipends(rng), **_canteens(rng)}
    case, _ = taken_in(tmp_path_factory.mktemp("customs"), tables, PLAIN)
    return asked_for(case)


@pytest.mark.parametrize(
    ("screen", "rows"),
    [
        ("Customs value of declarations is Invoice value by Rate", ["24XX00100"]),
        ("Duty of declarations is Duty % of its Heading percent of Customs value", ["24XX00100", "24XX00200"]),
        ("VAT of declarations is 0.2 times (Customs value and Freight and Duty)", ["24XX00100", "24XX00200", "24XX00300"]),
        ("Pieces of declarations out of proportion to Invoice value by Heading", ["24XX00077"]),
        ("Quantity times Unit price less Discount % of the Plate of its Job of job_lines", ["L0050"]),
        ("Released of declarations long after Accepted", ["24XX00400"]),
        ("Activity of job_lines not in budget", ["9.99"]),
        ("Account of payments other than in students", ["S730"]),
        ("Meals of bills and Meals served of sheets by School and month", ["2024-03"]),
    ],
)  # fmt: skip
def test_each_wrong_row_is_asked_for_and_no_other(asked, screen, rows):
    found = [list(item["subject"].values())[-1] for item in asked.get(screen, [])]
    assert sorted(found) == rows
