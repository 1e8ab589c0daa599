"""What is proposed of a cooperative's deliveries by weight, at the price of the day, and what is paid for them by month."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import ROUND_HALF_UP, Decimal

import pytest

from conftest import inside_json
from folders import FRENCH, taken_in

pytestmark = pytest.mark.long

CROPS = {"Blé": Decimal(212), "Orge": Decimal(188), "Colza": Decimal(455)}
WEIGHERS = ["Lucie Brun", "Karim Haddad", "Jean Petit"]
CENT = Decimal("0.01")


def _value(price: Decimal, paid: int) -> Decimal:
    return (price * paid / 1000).quantize(CENT, ROUND_HALF_UP)


def test_what_deliveries_by_weight_are_asked(tmp_path):
    rng = random.Random(11)
    days = [date(2025, 6, 2) + timedelta(days=n) for n in range(120)]
    members = [
        [
            f"A{n:04}",
            f"Ferme {n}",
            f"FR76{rng.randrange(10**22):023}",
            date(2001, 3, 1) + timedelta(days=n),
        ]
        for n in range(1, 61)
    ]
    members[17][1] = "PETIT Jean"
    prices, now = {}, dict(CROPS)
    for day in days:
        for crop in now:
            now[crop] += Decimal(rng.randint(-4, 4)) / 2
            prices[day, crop] = now[crop]
    loads = []
    for n in range(1_500):
        day, crop = days[n * len(days) // 1_500], rng.choice(list(CROPS))
        gross, tare = rng.randrange(18_000, 40_000, 20), rng.randrange(7_000, 13_000, 20)
        paid, price = gross - tare - rng.randrange(0, 400), prices[day, crop]
        loads.append(
            [
                f"T{4_000 + n}",
                day,
                rng.choice(members)[0],
                crop,
                gross,
                tare,
                gross - tare,
                paid,
                price,
                _value(price, paid),
                rng.choice(WEIGHERS),
            ]
        )
    for load in loads[100:900:100]:
        load[8] += 6
        load[9] = _value(load[8], load[7])
    for load in loads[950:955]:
        load[9] += 90
    paid_for: dict[tuple[str, str], Decimal] = {}
    for load in loads:
        key = str(load[2]), f"{load[1]:%Y-%m}"
        paid_for[key] = paid_for.get(key, Decimal(0)) + load[9]
    iban = {member[0]: member[2] for member in members}
    payments = [
        [
            f"V{n:04}",
            date(int(month[:4]), int(month[5:]) + 1, 10),
            member,
            month,
            amount,
            iban[member],
        ]
        for n, ((member, month), amount) in enumerate(
            sorted(paid_for.items(), key=lambda each: each[0][1])
        )
    ]
    for payment in payments[20:200:45]:
        payment[4] += 300
    prices_of_days = [[*at, price] for at, price in prices.items()]
    weighed = "N° ticket;Date;N° adhérent;Céréale;Poids brut;Tare;Poids net;Poids payé;Prix à la tonne;Montant;Peseur"
    folder = {
        "adherents": (["N° adhérent", "Nom", "IBAN", "Date d'adhésion"], members),
        "cours": (["Date", "Céréale", "Prix à la tonne"], prices_of_days),
        "livraisons": (weighed.split(";"), loads),
        "paiements": (["N° virement", "Date", "N° adhérent", "Mois", "Montant", "IBAN"], payments),
    }
    case, proposed = taken_in(tmp_path, folder, FRENCH)
    tables = {table["table"]: table for table in inside_json("survey", cwd=case)["tables"]}
    # A number's sign tells no letters of the Baltic, and a price of the tonne is no amount.
    assert tables["paiements"]["roles"]["party"] == "N° adhérent"
    assert tables["cours"]["roles"] == {"date": "Date", "price": "Prix à la tonne"}
    flagged = {name: screen["flagged"] for name, screen in proposed.items()}
    assert flagged["Prix à la tonne of livraisons other than in cours"] == 8
    assert flagged["Prix à la tonne times Poids payé / 1,000 of livraisons"] == 5
    assert flagged["amount by N° adhérent and Mois of paiements and livraisons"] == 4
    # What each price should have been is known: that it is unlike others says nothing more.
    assert "Prix à la tonne of livraisons unlike the Céréale's others" not in flagged
    # Whoever weighs is one of the house, and so may be who is called as a weigher is.
    assert flagged["Nom of adherents among livraisons too"] == 1
    # By the account of whom they name, payments are not asked what they are asked by whom they name.
    assert not any(name.startswith("Date of paiements before IBAN") for name in flagged)
