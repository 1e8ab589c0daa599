"""What is proposed of a town's fines and of its weighbridge: numbers that are codes, whatever they are called; what is paid or
annulled and never both; moments of one day in their order; a price of a month; what a vehicle weighs empty, and whose it is."""

from __future__ import annotations

import random
from datetime import date, datetime, timedelta
from decimal import Decimal

import pytest

from conftest import inside
from folders import Style, asked_for, taken_in

pytestmark = pytest.mark.long

SPANISH = Style(";", ",", "%d/%m/%Y", "%d/%m/%Y %H:%M", "latin-1")
MONTHS = [date(2024, month, 1) for month in range(1, 7)]


def _fines(rng):
    base = {"30": 90, "31": 200, "32": 40, "33": 150}
    fines = []
    for n in range(700):
        at = datetime(2024, 1, 2, 8) + timedelta(hours=6 * n, minutes=rng.randrange(200))
        code = rng.choice(list(base))
        fines.append({"Boletin": 240_001 + n, "Fecha": at, "Delito": code, "Importe": Decimal(base[code]) + Decimal("0.50")})  # fmt: skip
    paid, void = [], []
    for fine in fines:
        day = fine["Fecha"].date() + timedelta(days=rng.randrange(1, 40))
        if rng.random() < 0.75:
            paid.append({"Recibo": f"R{len(paid):04}", "Fecha cobro": day, "Boletin": fine["Boletin"], "Cobrado": fine["Importe"]})  # fmt: skip
        elif rng.random() < 0.5:
            void.append({"Boletin": fine["Boletin"], "Fecha anulacion": day, "Usuario": rng.choice(["jefe1", "jefe2"])})  # fmt: skip
    for place in (50, 300):
        void.append({**void[0], "Boletin": paid[place]["Boletin"]})
    paid[99]["Boletin"] = 310_777
    return {"denuncias": fines, "cobros": paid, "anulaciones": void}


def _weighed(rng):
    grades = {"Blech": 185, "Kupfer": 6400, "Messing": 3700, "Blei": 1500}
    prices = [{"Grade": g, "Month": f"{m:%Y-%m}", "Price": Decimal(p + 7 * m.month)} for g, p in grades.items() for m in MONTHS]  # fmt: skip
    known = {(row["Grade"], row["Month"]): row["Price"] for row in prices}
    owner = {f"V{n:02}": f"S{n // 2:02}" for n in range(24)}
    empty = {vehicle: 2000 + 450 * n for n, vehicle in enumerate(owner)}
    tickets = []
    for n in range(600):
        vehicle, grade = rng.choice(list(owner)), rng.choice(list(grades))
        begun = datetime(2024, 1, 2, 8) + timedelta(hours=7 * n)
        begun = begun.replace(hour=8 + n % 9)
        tickets.append({
            "Ticket": f"T{n:04}", "Weighed in": begun, "Weighed out": begun + timedelta(minutes=rng.randrange(5, 30)),
            "Supplier": owner[vehicle], "Vehicle": vehicle, "Grade": grade, "Net kg": rng.randrange(90, 900),
            "Tare kg": empty[vehicle] + rng.randrange(-9, 10), "Price": known[grade, f"{begun:%Y-%m}"],
        })  # fmt: skip
    tickets[40]["Weighed out"] = tickets[40]["Weighed in"] - timedelta(minutes=12)
    tickets[80]["Price"] += 20
    tickets[120]["Tare kg"] -= 800
    tickets[160]["Supplier"] = "S00" if tickets[160]["Supplier"] != "S00" else "S01"
    suppliers = [{"Supplier": f"S{n:02}", "Name": f"Firma {n}"} for n in range(12)]
    return {"tickets": tickets, "prices": prices, "suppliers": suppliers}


def _billed(rng):
    lines, bills = [], []
    for n in range(60):
        fees = [rng.randrange(20, 90) * 10 for _ in range(rng.randrange(2, 5))]
        lines += [{"Invoice": f"I{n:03}", "Service": f"D{rng.randrange(30)}", "Fee": fee} for fee in fees]  # fmt: skip
        whole = sum(fees) + (500 if n == 33 else 0)
        bills.append({"Invoice": f"I{n:03}", "Invoice date": date(2024, 1, 5) + timedelta(days=2 * n), "Fees": whole, "Total": Decimal(whole) * Decimal("1.07")})  # fmt: skip
    return {"lines": lines, "bills": bills}


@pytest.fixture(scope="module")
def town(tmp_path_factory):
    rng = random.Random(5)
    tables = {**_fines(rng), **_weighed(rng), **_billed(rng)}
    case, screens = taken_in(tmp_path_factory.mktemp("town"), tables, SPANISH)
    return case, screens, asked_for(case)


@pytest.mark.parametrize(
    ("screen", "rows"),
    [
        ("Boletin of cobros not in denuncias", ["310777"]),
        ("Boletin of anulaciones in cobros too", None),
        ("Weighed out of tickets before Weighed in", ["T0040"]),
        ("Price of tickets other than in prices", None),
        ("Tare kg of tickets unlike the Vehicle's others", ["T0120"]),
        ("Supplier of tickets other than the Vehicle's", ["T0160"]),
        ("Fee by Invoice of lines and Fees of bills", ["I033"]),
    ],
)
def test_each_wrong_row_is_asked_for_and_no_other(town, screen, rows):
    found = [next(iter(item["subject"].values())) for item in town[2][screen]]
    assert found == rows or (rows is None and len(found) == {"B": 2, "P": 1}[screen[0]])


def test_numbers_that_name_rows_of_another_file_are_codes(town):
    case, _, _ = town
    plan = (case / "case.toml").read_text(encoding="utf-8")
    assert plan.count('read = {types = {Boletin = "text"}}') == 2


def test_what_is_told_of_moments_is_by_the_clock(town):
    case, _, asked = town
    (found,) = asked["Weighed out of tickets before Weighed in"]
    said = " ".join(inside("why", found["id"], cwd=case).stdout.split())
    assert "Weighed out is 12 minutes before Weighed in" in said
