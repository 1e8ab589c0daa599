"""What is proposed of a hotel: what lines of a stay have of its booking and those of breakfasts do not, what was paid of a stay
that ends in the month after, commissions on its nights, and the kind of its room."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import FRENCH, asked_for, taken_in

pytestmark = pytest.mark.long

PRICES = {"STD": Decimal("89.00"), "SUP": Decimal("119.00"), "STE": Decimal("189.00")}


@pytest.fixture(scope="module")
def stayed(tmp_path_factory):
    rng, wrong = random.Random(7), defaultdict(set)
    rooms = [{"Chambre": 101 + n, "Catégorie": list(PRICES)[n % 3], "Étage": 1 + n // 12} for n in range(36)]  # fmt: skip
    stays, lines, paid, commissions = [], [], [], []
    for n in range(500):
        room, nights = rooms[n % 36], rng.choice((1, 1, 2, 3, 5))
        came, price = date(2024, 1, 2) + timedelta(days=n * 340 // 500), PRICES[room["Catégorie"]] + rng.choice((0, 10, 30))  # fmt: skip
        stay = f"R{n:05}"
        stays.append({"Séjour": stay, "Arrivée": came, "Départ": came + timedelta(days=nights), "Nuits": nights, "Chambre": room["Chambre"], "Catégorie": room["Catégorie"], "Prix nuit": price})  # fmt: skip
        own = [("Hébergement", nights, price)]
        own += [("Petit déjeuner", rng.randint(1, 3), Decimal("14.50"))] * (n % 3)
        own += [("Bar", 1, Decimal(rng.randint(600, 6000)) / 100)] * (n % 2)
        own += [("Taxe", 2 * nights, Decimal("1.65"))]
        lines += [
            [stay, came + timedelta(days=i % (nights + 1)), *each] for i, each in enumerate(own)
        ]
        paid.append({"Encaissement": f"E{n:05}", "Séjour": stay, "Date": came + timedelta(days=nights), "Montant": None})  # fmt: skip
        if n % 3 == 1:
            commissions.append({"Commission": f"C{n:05}", "Séjour": stay, "Date": came + timedelta(days=30), "Base": price * nights, "Montant": price * nights / 10})  # fmt: skip
    named = [{"Ligne": f"L{i:05}", "Séjour": stay, "Date": day, "Article": what, "Quantité": n, "Prix unitaire": price} for i, (stay, day, what, n, price) in enumerate(lines)]  # fmt: skip
    beds = rng.sample([row for row in named if row["Article"] == "Hébergement"], 7)
    for row in beds[:4]:
        row["Prix unitaire"] -= 40
        wrong["price"].add(row["Séjour"])
    for row in beds[4:]:
        row["Quantité"] += 1
        wrong["nights"].add(row["Séjour"])
    for row in named:
        row["Montant"] = row["Quantité"] * row["Prix unitaire"]
    for row in paid:
        row["Montant"] = sum(line["Montant"] for line in named if line["Séjour"] == row["Séjour"])
    for row in rng.sample(paid, 5):
        row["Montant"] -= 20
        wrong["paid"].add(row["Séjour"])
    for row in rng.sample(commissions, 3):
        row["Base"] += 100
        wrong["base"].add(row["Commission"])
    for row in rng.sample(stays, 3):
        row["Catégorie"] = next(kind for kind in PRICES if kind != row["Catégorie"])
        wrong["kind"].add(str(row["Chambre"]))
    world = {"chambres": rooms, "séjours": stays, "lignes": named, "encaissements": paid, "commissions": commissions}  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("stayed"), world, FRENCH)
    return screens, asked_for(case), wrong


@pytest.mark.parametrize(
    ("kind", "screen", "key"),
    [
        ("price", "Prix unitaire of lignes other than in sejours where Article is Hébergement", "Séjour"),
        ("nights", "Quantité of lignes other than in sejours where Article is Hébergement", "Séjour"),
        ("base", "Base of commissions is Nuits times Prix nuit of its Séjour", "Commission"),
        ("kind", "Catégorie of sejours other than in chambres", "Chambre"),
    ],
)  # fmt: skip
def test_each_wrong_row_is_asked_for_and_no_other(stayed, kind, screen, key):
    _, asked, wrong = stayed
    assert {item["subject"][key] for item in asked[screen]} == wrong[kind]


def test_a_stay_has_one_sum_though_some_of_it_is_of_the_month_before(stayed):
    screens, asked, wrong = stayed
    assert {item["subject"]["Séjour"] for item in asked["amount by Séjour of encaissements and lignes"]} == wrong["paid"]  # fmt: skip
    assert not [name for name in screens if "month" in name]
