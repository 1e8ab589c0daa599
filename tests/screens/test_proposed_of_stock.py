"""What is proposed of a wholesaler's stock: movements at the price of their article, bills of what came in, discounts."""

from __future__ import annotations

import random
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

import pytest

from conftest import inside_json
from folders import GERMAN, asked_for, taken_in

pytestmark = pytest.mark.long

BEGIN = date(2024, 1, 8)
PEOPLE = ["akern", "bweber", "cfuchs", "dhahn", "ewolf", "fotto"]
Rows = list[dict[str, Any]]


def _cents(amount: Decimal) -> Decimal:
    return amount.quantize(Decimal("0.01"))


def _working(day: date) -> date:
    return day + timedelta(days={5: 2, 6: 1}.get(day.weekday(), 0))


def _articles(rng: random.Random) -> Rows:
    return [
        {
            "Artikelnr": f"{10_000 + n}",
            "Bezeichnung": f"Artikel {n}",
            "EK-Preis": Decimal(rng.randint(200, 9_000)) / 100,
        }
        for n in range(60)
    ]


def _movements(rng: random.Random, articles: Rows) -> Rows:
    rows: Rows = []
    for n in range(3_000):
        day = _working(BEGIN + timedelta(days=n // 10))
        article, many = rng.choice(articles), -rng.choice([1, 2, 3, 5, 10])
        rows.append(
            {
                "Beleg": 40_001 + n,
                "Datum": day,
                "Artikelnr": article["Artikelnr"],
                "Menge": many,
                "Wert": article["EK-Preis"] * many,
                "Erfasser": rng.choice(PEOPLE),
                "Erfasst am": datetime.combine(day, time(rng.randint(6, 15), rng.randint(0, 59))),
            }
        )
    return rows


def _bought(rng: random.Random, articles: Rows) -> tuple[Rows, Rows, Rows]:
    """Orders, what came in of each, and the bill of that."""
    orders: Rows = []
    receipts: Rows = []
    bills: Rows = []
    for n in range(400):
        article, many = rng.choice(articles), rng.choice([10, 20, 24, 50])
        price, who = article["EK-Preis"], rng.choice(["psommer", "rwinter"])
        day = BEGIN + timedelta(days=n // 2)
        orders.append(
            {
                "Bestellnr": f"B{24_000 + n}",
                "Lieferant": f"L{rng.randint(1, 25)}",
                "Artikelnr": article["Artikelnr"],
                "Menge": many,
                "Einzelpreis": price,
                "Bestellwert": price * many,
                "Bestelldatum": day,
                "Besteller": who,
                "Freigabe": rng.choice(["gkraus", "hbecker"]),
            }
        )
        came = many - rng.choice([0] * 12 + [1, 2])
        at = day + timedelta(days=rng.randint(3, 12))
        receipts.append(
            {
                "WE-Nr": f"W{n:05}",
                "Bestellnr": orders[-1]["Bestellnr"],
                "Eingangsdatum": at,
                "Menge geliefert": came,
                "angenommen von": rng.choice(PEOPLE),
            }
        )
        billed = at + timedelta(days=rng.randint(1, 6))
        early = rng.random() < 0.5
        paid = billed + timedelta(days=rng.randint(6, 10) if early else rng.randint(28, 31))
        bills.append(_bill(n, orders[-1], receipts[-1], billed, paid, price * came, early=early))
    return orders, receipts, bills


def _bill(
    n: int, order: dict[str, Any], receipt: dict[str, Any], billed: date, paid: date, net: Decimal, *, early: bool
) -> dict[str, Any]:  # fmt: skip
    tax = _cents(net * Decimal("0.19"))
    off = _cents((net + tax) * Decimal("0.02")) if early else Decimal("0.00")
    return {
        "Rechnungsnr": f"R-{n * 37 + 11}",
        "Lieferant": order["Lieferant"],
        "WE-Nr": receipt["WE-Nr"],
        "Rechnungsdatum": billed,
        "Netto": net,
        "MwSt": tax,
        "Brutto": net + tax,
        "Bezahlt am": paid,
        "Skonto": off,
        "Zahlbetrag": net + tax - off,
    }


def _counts(rng: random.Random, articles: Rows) -> Rows:
    rows: Rows = []
    for article in articles:
        for quarter in range(4):
            should, off = rng.randint(20, 300), rng.choice([0, 0, 1, -1, -2])
            one, two = rng.sample(PEOPLE, 2)
            rows.append(
                {
                    "Stichtag": BEGIN + timedelta(days=90 * quarter),
                    "Artikelnr": article["Artikelnr"],
                    "Sollmenge": should,
                    "Istmenge": should + off,
                    "Differenz": off,
                    "Zähler": one,
                    "Prüfer": two,
                }
            )
    return rows


def _planted(world: dict[str, Rows]) -> dict[str, set[str]]:
    moved, bills, orders, counts = (
        world[name] for name in ("Lagerbewegungen", "Rechnungen", "Bestellungen", "Inventur")
    )
    for row in moved[100:500:100]:
        row["Wert"] *= 2
    for row in moved[1_050:1_350:100]:
        row["Erfasst am"] = row["Erfasst am"].replace(hour=2)
    late = [bill for bill in bills if not bill["Skonto"]][40:100:20]
    for bill in late:
        bill["Skonto"] = _cents(bill["Brutto"] * Decimal("0.02"))
        bill["Zahlbetrag"] = bill["Brutto"] - bill["Skonto"]
    more = [bill for bill in bills if bill not in late][20:320:100]
    for bill in more:
        bill["Netto"] += 50
        bill["MwSt"] = _cents(bill["Netto"] * Decimal("0.19"))
        bill["Brutto"] = bill["Netto"] + bill["MwSt"]
        bill["Zahlbetrag"] = bill["Brutto"] - bill["Skonto"]
    for order in orders[30:330:100]:
        order["Freigabe"] = order["Besteller"]
    for row in counts[10:50:20]:
        row["Differenz"] += 3
    for row in counts[60:66:2]:
        row["Prüfer"] = row["Zähler"]
    return {
        "Wert of lagerbewegungen is Menge times EK-Preis of its Artikelnr": {str(r["Beleg"]) for r in moved[100:500:100]},
        "lagerbewegungen recorded in hours of rest": {str(r["Beleg"]) for r in moved[1_050:1_350:100]},
        "Skonto of rechnungen long after Rechnungsdatum": {b["Rechnungsnr"] for b in late},
        "Netto of rechnungen is Menge geliefert times Einzelpreis of its Bestellnr of its WE-Nr": {b["Rechnungsnr"] for b in more},
        "traits of bestellungen": {o["Bestellnr"] for o in orders[30:330:100]},
    }  # fmt: skip


@pytest.fixture(scope="module")
def taken(tmp_path_factory):
    """The case, its programme by name, and what is wrong in it."""
    rng = random.Random(5)
    articles = _articles(rng)
    orders, receipts, bills = _bought(rng, articles)
    world = {
        "Artikel": articles, "Bestellungen": orders, "Wareneingang": receipts, "Rechnungen": bills,
        "Lagerbewegungen": _movements(rng, articles), "Inventur": _counts(rng, articles),
    }  # fmt: skip
    wrong = _planted(world)
    return *taken_in(tmp_path_factory.mktemp("stock"), world, GERMAN), wrong


def test_who_counts_is_told_by_who_checks_and_values_by_the_words_in_one(taken):
    case, _, _ = taken
    roles = {t["table"]: t["roles"] for t in inside_json("survey", cwd=case)["tables"]}
    assert (roles["inventur"]["preparer"], roles["inventur"]["approver"]) == ("Zähler", "Prüfer")
    assert roles["bestellungen"]["amount"] == "Bestellwert"
    assert roles["bestellungen"]["preparer"] == "Besteller"


def test_each_wrong_row_is_asked_for(taken):
    case, screens, wrong = taken
    exceptions = asked_for(case)
    for name, expected in wrong.items():
        assert name in screens, (name, sorted(screens))
        told = exceptions.get(name, [])
        opened: list[str] = []
        for each in told:
            rows = inside_json("dig", each["id"], "--rows", cwd=case)["rows"]
            opened += [str(value) for row in rows for value in row.values()]
        assert expected <= set(opened), (name, expected, opened)
        assert len(told) <= len(expected) + 2, name


def test_counts_without_amounts_add_up(taken):
    _, screens, _ = taken
    (sums,) = [s for name, s in screens.items() if name.startswith("Istmenge of inventur is")]
    assert sums["flagged"] == 2 and sums["settings"]["expect"] == "Sollmenge + Differenz"


def test_who_counts_and_checks_alone_is_asked_for(taken):
    _, screens, _ = taken
    assert screens["Prüfer of inventur is Zähler"]["flagged"] == 3
