"""What is proposed of garages, of a press for olives, of a home and of lawyers: hours that were begun, with the most that a day
costs; what was banked of each place; what is weighed and never priced; what is settled with each member; and one price of all."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from math import ceil

import pytest

from folders import Style, asked_for, taken_in

pytestmark = pytest.mark.long

ITALIAN = Style(";", ",", "%d/%m/%Y", "%d/%m/%Y %H:%M", "utf-8")
CENT = Decimal("0.01")


def _garages(rng):
    places = [{"Parcheggio": p, "Tariffa oraria": Decimal(t), "Massimo giornaliero": Decimal(m)} for p, t, m in (("CENTRO", "2.50", "22.00"), ("PORTO", "1.50", "12.00"))]  # fmt: skip
    known = {row["Parcheggio"]: row for row in places}
    tickets = []
    for n in range(600):
        at = datetime(2024, 3, 1, 6) + timedelta(minutes=73 * n + rng.randrange(60))
        place, minutes = rng.choice(list(known)), min(int(rng.lognormvariate(4.6, 0.8)) + 5, 1300)
        hours = ceil(minutes / 60)
        cost = min(hours * known[place]["Tariffa oraria"], known[place]["Massimo giornaliero"])
        tickets.append({
            "Biglietto": 500_001 + n, "Parcheggio": place, "Ingresso": at, "Uscita": at + timedelta(minutes=minutes),
            "Targa": f"AB{n * 7 % 650:04}", "Ore": hours, "Importo": cost,
            "Pagamento": rng.choice(["contanti", "carta"]), "Annullato": "si" if n % 30 == 5 else "no",
        })  # fmt: skip
    long = [t for t in tickets if 3 < t["Ore"] < 8 and t["Pagamento"] == "carta"]
    long[0]["Importo"] = known[long[0]["Parcheggio"]]["Tariffa oraria"]
    long[1]["Ore"] -= 1
    long[1]["Importo"] -= known[long[1]["Parcheggio"]]["Tariffa oraria"]
    again = next(t for t in long[5:] if t["Annullato"] == "no")
    tickets.append({**again, "Biglietto": 501_300})
    cash = defaultdict(Decimal)
    for ticket in tickets:
        if ticket["Pagamento"] == "contanti" and ticket["Annullato"] == "no":
            cash[ticket["Ingresso"].date(), ticket["Parcheggio"]] += ticket["Importo"]
    banked = [{"Versamento": f"V{n:03}", "Giorno": d, "Parcheggio": p, "Versato": v} for n, ((d, p), v) in enumerate(sorted(cash.items()))]  # fmt: skip
    banked[30]["Versato"] -= 10
    wrong = {"charge": long[0]["Biglietto"], "hours": long[1]["Biglietto"], "twice": again["Biglietto"], "day": banked[30]["Giorno"]}  # fmt: skip
    return {"parcheggi": places, "biglietti": tickets, "versamenti": banked}, wrong


def _olives(rng):
    members = [{"Socio": n, "Nome": f"Socio {n}"} for n in range(1, 61)]
    brought = []
    for n in range(400):
        gross, empty = rng.randrange(1500, 5800, 20), rng.choice([520, 680, 740])
        dirt, oil = Decimal(rng.randrange(41)) / 10, Decimal(round(rng.gauss(17.5, 1.6), 1))
        paid = round((gross - empty) * (100 - dirt) / 100)
        brought.append({
            "Talao": n + 1, "Entregue": date(2024, 10, 21) + timedelta(days=n // 12), "Socio": rng.randrange(1, 61),
            "Peso bruto": gross, "Tara": empty, "Peso liquido": gross - empty, "Impurezas %": dirt,
            "Peso pago": paid, "Rendimento %": oil.quantize(Decimal("0.1")), "Azeite kg": (paid * oil / 100).quantize(CENT),
        })  # fmt: skip
    brought[100]["Azeite kg"] += 60
    brought[200]["Impurezas %"] = Decimal("9.9")
    brought.append({**brought[300], "Talao": 401})
    oil = defaultdict(Decimal)
    for row in brought:
        oil[row["Socio"]] += row["Azeite kg"]
    lent = [{"Adiantamento": f"A{n:03}", "Pago em": date(2024, 11, 2) + timedelta(days=n % 40), "Socio": 1 + n * 7 % 60, "Valor": Decimal(100 + 50 * (n % 9))} for n in range(80)]  # fmt: skip
    sums = defaultdict(Decimal)
    for row in lent:
        sums[row["Socio"]] += row["Valor"]
    settled = []
    for member in sorted(oil):
        gross = (oil[member] * Decimal("6.35")).quantize(CENT)
        settled.append({"Liquidacao": f"L{member:03}", "Data": date(2025, 2, 28), "Socio": member, "Azeite kg": oil[member], "Preco kg": Decimal("6.35"), "Bruto": gross, "Adiantamentos": sums[member], "A pagar": gross - sums[member]})  # fmt: skip
    settled[10].update({"Azeite kg": settled[10]["Azeite kg"] + 150})
    settled[20].update({"Adiantamentos": Decimal("0.00"), "A pagar": settled[20]["Bruto"]})
    settled[30].update({"Preco kg": Decimal("6.95")})
    return {"socios": members, "entregas": brought, "adiantamentos": lent, "liquidacoes": settled}


@pytest.fixture(scope="module")
def places(tmp_path_factory):
    rng = random.Random(8)
    tables, wrong = _garages(rng)
    case, screens = taken_in(tmp_path_factory.mktemp("garages"), {**tables, **_olives(rng)}, ITALIAN)  # fmt: skip
    return screens, asked_for(case), {name: str(value) for name, value in wrong.items()}


@pytest.mark.parametrize(
    ("screen", "rows"),
    [
        (
            "Importo of biglietti is Ore times Tariffa oraria of its Parcheggio, at most Massimo giornaliero of its Parcheggio",
            ["charge"],
        ),
        ("Ore of biglietti is the hours from Ingresso to Uscita, each begun one counted", ["hours"]),
        ("amount by Ingresso and Parcheggio of biglietti and versamenti", ["day"]),
        ("Azeite kg of entregas is Rendimento % percent of Peso pago", ["101"]),
        ("Peso pago of entregas is Peso liquido less Impurezas %", ["201"]),
        ("rows of entregas that are alike but for their Talao", ["401"]),
        ("Azeite kg of liquidacoes and Azeite kg of entregas by Socio", ["11"]),
        ("Adiantamentos of liquidacoes and Valor of adiantamentos by Socio", ["21"]),
        ("Preco kg of liquidacoes other than 6.35", ["L031"]),
    ],
)  # fmt: skip
def test_each_wrong_row_is_asked_for_and_no_other(places, screen, rows):
    _, asked, wrong = places
    found = [list(item["subject"].values())[-1] for item in asked.get(screen, [])]
    assert found == [wrong.get(row, row) for row in rows]


def test_what_was_recorded_twice_is_told_by_what_hardly_two_have(places):
    screens, asked, wrong = places
    found = asked["repeats of biglietti"]
    assert [item["subject"]["first"] for item in found] == [wrong["twice"]]
    assert screens["repeats of biglietti"]["settings"]["same"] == ["Targa"]
