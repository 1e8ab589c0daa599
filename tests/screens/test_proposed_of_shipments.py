"""What is proposed of a forwarder's shipments: rates by carrier, origin and size, days beyond those that are free, rates of
exchange by month, carriers' bills beside the containers, cancelled shipments that are billed, and shipments that are not."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside_json
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
ORIGINS = ("Ningbo", "Santos", "Izmir")


def _lists(rng):
    carriers = [{"Carrier": f"CR{n}", "Name": f"Line {n}", "Free days": rng.choice((3, 5, 7)), "Demurrage per day": rng.choice((45, 60, 75))} for n in range(6)]  # fmt: skip
    rates = [
        {"Carrier": row["Carrier"], "Origin": origin, "Size": size, "Rate GBP": Decimal(rng.randint(90_000, 300_000)) / 100}
        for row in carriers for origin in ORIGINS for size in (20, 40)
    ]  # fmt: skip
    exchange = [
        {"Month": date(2024, month, 1), "Currency": currency, "Rate": Decimal(rng.randint(11_000, 13_000)) / 10_000}
        for month in range(1, 13) for currency in ("EUR", "USD")
    ]  # fmt: skip
    tariff = [
        {"HS code": f"{2000 + n}.{n:02}", "Duty %": n % 4 * Decimal("2.5")} for n in range(20)
    ]
    return carriers, rates, exchange, tariff


@pytest.fixture(scope="module")
def shipped(tmp_path_factory):
    rng = random.Random(9)
    carriers, rates, exchange, tariff = _lists(rng)
    carrier_of = {row["Carrier"]: row for row in carriers}
    rate_of = {(row["Carrier"], row["Origin"], row["Size"]): row["Rate GBP"] for row in rates}
    change_of = {(row["Month"].month, row["Currency"]): row["Rate"] for row in exchange}
    duty_of = {row["HS code"]: row["Duty %"] for row in tariff}
    shipments, containers, bills, invoices, entries = [], [], [], [], []
    wrong = defaultdict(set)
    for n in range(500):
        booked = date(2024, 1, 3) + timedelta(days=n * 320 // 500)
        ship = {
            "Shipment": f"SH{n:04}", "Booked": booked, "Carrier": rng.choice(carriers)["Carrier"], "Origin": rng.choice(ORIGINS),
            "Status": "cancelled" if n % 16 == 3 else "delivered",
        }  # fmt: skip
        shipments.append(ship)
        if ship["Status"] == "cancelled" and n not in (99, 259):
            continue
        terms = carrier_of[ship["Carrier"]]
        own = []
        for _ in range(rng.choice((1, 1, 2)) if ship["Status"] == "delivered" else 0):
            size, out = rng.choice((20, 40)), booked + timedelta(days=2)
            back = out + timedelta(days=rng.randint(1, 15))
            days = max((back - out).days - terms["Free days"], 0)
            own.append({
                "Container": f"MS{1_000_000 + 37 * len(containers) + len(own)}", "Shipment": ship["Shipment"], "Size": size,
                "Freight GBP": rate_of[ship["Carrier"], ship["Origin"], size], "Discharged": out, "Returned": back,
                "Demurrage days": days, "Demurrage GBP": days * terms["Demurrage per day"],
            })  # fmt: skip
        containers += own
        freight = sum((row["Freight GBP"] for row in own), Decimal(0)) or Decimal(1500)
        bills.append({"Bill": f"B{len(bills):04}", "Carrier": ship["Carrier"], "Shipment": ship["Shipment"], "Bill date": booked + timedelta(days=9), "Amount GBP": freight})  # fmt: skip
        if ship["Status"] == "cancelled":
            wrong["billed though cancelled"].add(bills[-1]["Bill"])
            wrong["above containers"].add(ship["Shipment"])
            continue
        code = rng.choice(tariff)["HS code"]
        entries.append({"Entry": f"E{len(entries):04}", "Shipment": ship["Shipment"], "Entry date": booked + timedelta(days=4), "HS code": code, "Value": Decimal(rng.randint(200_000, 900_000)) / 100, "Duty %": duty_of[code]})  # fmt: skip
        if n in (50, 200, 401):
            wrong["never invoiced"].add(ship["Shipment"])
            continue
        day, currency = booked + timedelta(days=8), rng.choice(("GBP", "GBP", "EUR", "USD"))
        rate = change_of.get((day.month, currency), Decimal(1))
        sold = (freight * Decimal(rng.randint(112, 130)) / 100).quantize(CENT)
        invoices.append({"Invoice": f"IN{len(invoices):04}", "Shipment": ship["Shipment"], "Invoice date": day, "Amount GBP": sold, "Currency": currency, "Exchange rate": rate, "In currency": (sold * rate).quantize(CENT)})  # fmt: skip
    long = [row for row in containers if row["Demurrage days"] > 1]
    for place, row in enumerate(rng.sample(long, 12)):
        kind = ("rate", "days", "per day")[place % 3]
        key = row["Container"]
        if kind == "rate":
            row["Freight GBP"] = (row["Freight GBP"] * Decimal("1.15")).quantize(CENT)
            bill = next(bill for bill in bills if bill["Shipment"] == row["Shipment"])
            bill["Amount GBP"] = sum(c["Freight GBP"] for c in containers if c["Shipment"] == row["Shipment"])  # fmt: skip
        elif kind == "days":
            row["Demurrage days"] += 3
            row["Demurrage GBP"] = row["Demurrage days"] * row["Demurrage GBP"] // (row["Demurrage days"] - 3)  # fmt: skip
        else:
            row["Demurrage GBP"] += 60
        wrong[kind].add(key)
    foreign = [row for row in invoices if row["Currency"] != "GBP"]
    for place, row in enumerate(rng.sample(foreign, 6)):
        kind = "exchange" if place % 2 else "product"
        if kind == "exchange":
            row["Exchange rate"] = (row["Exchange rate"] * Decimal("0.94")).quantize(Decimal("0.0001"))  # fmt: skip
            row["In currency"] = (row["Amount GBP"] * row["Exchange rate"]).quantize(CENT)
        else:
            row["In currency"] += 100
        wrong[kind].add(row["Invoice"])
    for row in rng.sample([bill for bill in bills if bill["Bill"] not in wrong["billed though cancelled"]], 3):  # fmt: skip
        row["Amount GBP"] += 250
        wrong["above containers"].add(row["Shipment"])
    for row in rng.sample([row for row in entries if row["Duty %"] > 3], 3):
        row["Duty %"] = Decimal("0.0")
        wrong["duty"].add(row["HS code"])
    world = {
        "carriers": carriers, "freight_rates": rates, "exchange": exchange, "tariff": tariff, "shipments": shipments,
        "containers": containers, "carrier_bills": bills, "invoices": invoices, "entries": entries,
    }  # fmt: skip
    case, _ = taken_in(tmp_path_factory.mktemp("shipped"), world)
    return case, asked_for(case), wrong


@pytest.mark.parametrize(
    ("kind", "screen", "key"),
    [
        ("days", "Demurrage days of containers is the days from Discharged to Returned beyond Free days of the Carrier of its Shipment, or nothing", "Container"),
        ("per day", "Demurrage GBP of containers is Demurrage days times Demurrage per day of the Carrier of its Shipment", "Container"),
        ("billed though cancelled", "carrier_bills whose Shipment.Status is cancelled", "Bill"),
        ("never invoiced", "Shipment of shipments not in invoices, Status delivered", "Shipment"),
        ("above containers", "amount by Shipment of carrier_bills and containers", "Shipment"),
        ("duty", "Duty % of entries other than in tariff", "HS code"),
    ],
)  # fmt: skip
def test_each_wrong_row_is_asked_for_and_no_other(shipped, kind, screen, key):
    _, asked, wrong = shipped
    assert {item["subject"][key] for item in asked[screen]} == wrong[kind]


@pytest.mark.parametrize(
    ("kind", "screen", "key"),
    [
        ("rate", "Freight GBP of containers other than in freight_rates", "Container"),
        # A column called Month is one, and the month of the days of its table is another.
        ("product", "In currency of invoices is Amount GBP times Exchange rate", "Invoice"),
        ("exchange", "Exchange rate of invoices other than in exchange", "Invoice"),
    ],
)  # fmt: skip
def test_what_a_list_has_for_several_things_or_a_month_leads_to_its_rows(
    shipped, kind, screen, key
):
    case, asked, wrong = shipped
    rows = [inside_json("dig", item["id"], "--rows", cwd=case)["rows"] for item in asked[screen]]
    assert {row["values"][key] if "values" in row else row[key] for each in rows for row in each} == wrong[kind]  # fmt: skip
