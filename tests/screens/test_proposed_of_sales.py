"""What is proposed of a wholesaler who writes Italian: lines of delivery notes that neither table lists, discounts above an
agent's, prices below cost, bills due later than agreed, customers who are blocked, and numbers that begin anew each year."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import screened
from folders import Style, asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
ITALIAN = Style(";", ",", "%d/%m/%Y", "%d/%m/%Y %H:%M", "cp1252")


@pytest.fixture(scope="module")
def sold(tmp_path_factory):
    rng = random.Random(3)
    agents = [{"Agente": f"AG{n:02}", "Nome": f"Agente {n}", "Sconto massimo %": 5 + 5 * (n % 3)} for n in range(6)]  # fmt: skip
    most = {row["Agente"]: row["Sconto massimo %"] for row in agents}
    customers = [
        {"Codice cliente": f"C{n:03}", "Ragione sociale": f"Ditta {n}", "Giorni pagamento": rng.choice((30, 60, 90)),
         "Stato": "bloccato" if n < 5 else "attivo", "Agente": rng.choice(agents)["Agente"]}
        for n in range(80)
    ]  # fmt: skip
    articles = [{"Codice articolo": f"A{n:03}", "Costo": Decimal(rng.randint(200, 9000)) / 100} for n in range(60)]  # fmt: skip
    prices = {row["Codice articolo"]: (row["Costo"] * Decimal("1.4")).quantize(CENT) for row in articles}  # fmt: skip
    bills, lines, notes, wrong = [], [], [], defaultdict(set)
    day, number = date(2024, 8, 1), 0
    while len(bills) < 600:
        number = 0 if day.year != (day - timedelta(days=1)).year else number
        for _ in range(rng.randint(0, 3)):
            # One number of each year is never given.
            number += 1 if number != 99 else 2
            customer = rng.choice(customers[5:] if len(bills) != 300 else customers[:5])
            bill = {
                "Numero": f"{day.year}/{number:04}", "Data": day, "Codice cliente": customer["Codice cliente"],
                "Agente": customer["Agente"], "Scadenza": day + timedelta(days=customer["Giorni pagamento"]),
            }  # fmt: skip
            if len(bills) == 300:
                wrong["blocked"].add(bill["Numero"])
            bills.append(bill)
            for article in rng.sample(articles, rng.randint(1, 3)):
                code, quantity = article["Codice articolo"], rng.choice((10, 20, 50, 100))
                lines.append({
                    "Riga": f"R{len(lines):05}", "Numero": bill["Numero"], "DDT": f"D{len(bills):05}", "Codice articolo": code,
                    "Quantità": quantity, "Prezzo": prices[code], "Sconto %": rng.choice([s for s in (0, 0, 5, 10, 15) if s <= most[bill["Agente"]]]),
                })  # fmt: skip
                notes.append({"DDT": f"D{len(bills):05}", "Data DDT": day, "Codice cliente": bill["Codice cliente"], "Codice articolo": code, "Quantità": quantity})  # fmt: skip
        day += timedelta(days=1)
    for place, line in enumerate(rng.sample(lines, 18)):
        kind = ("discount", "below cost", "never delivered", "more than delivered")[place % 4]
        wrong[kind].add(line["DDT" if "delivered" in kind else "Riga"])
        at = lines.index(line)
        if kind == "discount":
            line["Sconto %"] = 30
        elif kind == "below cost":
            line["Prezzo"] = (line["Prezzo"] / 2).quantize(CENT)
        elif kind == "never delivered":
            notes[at] = None
        else:
            line["Quantità"] += 10
    for line in lines:
        line["Importo"] = (line["Prezzo"] * line["Quantità"] * (100 - line["Sconto %"]) / 100).quantize(CENT)  # fmt: skip
    for bill in rng.sample(bills, 4):
        bill["Scadenza"] += timedelta(days=45)
        wrong["due later"].add(bill["Numero"])
    for bill in bills:
        net = sum((line["Importo"] for line in lines if line["Numero"] == bill["Numero"]), Decimal(0))  # fmt: skip
        bill["Imponibile"], bill["IVA"] = net, (net * Decimal("0.22")).quantize(CENT)
        bill["Totale"] = net + bill["IVA"]
    world = {
        "agenti": agents, "clienti": customers, "articoli": articles, "fatture": bills, "righe": lines,
        "ddt": [note for note in notes if note is not None],
    }  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("sales"), world, ITALIAN)
    return screens, asked_for(case), wrong


@pytest.mark.parametrize(
    ("kinds", "screen", "key"),
    [
        (["discount"], "Sconto % of righe above Sconto massimo % of the Agente of its Numero", "Riga"),
        (["below cost"], "Prezzo of righe below Costo of its Codice articolo", "Riga"),
        (["due later"], "Scadenza of fatture later than Giorni pagamento of its Codice cliente after Data", "Numero"),
        (["blocked"], "fatture whose Codice cliente.Stato is bloccato", "Numero"),
    ],
)  # fmt: skip
def test_each_wrong_row_is_asked_for_and_no_other(sold, kinds, screen, key):
    _, asked, wrong = sold
    assert {item["subject"][key] for item in asked[screen]} == set().union(*map(wrong.get, kinds))


def test_lines_of_papers_that_no_table_lists_are_looked_for_in_the_other(sold):
    _, asked, wrong = sold
    found = asked["DDT, Codice articolo and Quantità of righe not in ddt"]
    lines = wrong["never delivered"] | wrong["more than delivered"]
    assert {item["subject"]["DDT"] for item in found} == lines


def test_numbers_that_begin_anew_each_year_are_a_series_of_each(sold):
    screens, asked, _ = sold
    assert screens["numbers of fatture"]["settings"] == {"of": "Numero"}
    assert {item["label"].partition(" ")[2] for item in asked["numbers of fatture"]} == {"2024/0100 missing", "2025/0100 missing"}  # fmt: skip


def test_what_is_not_so_is_not_asked(sold):
    screens, _, _ = sold
    # A list of articles orders nothing, and a tax is no measure beside what it is of.
    assert not [name for name in screens if " beside " in name or "unlike others" in name]


@given(
    st.lists(st.tuples(st.integers(0, 5), st.integers(0, 5), st.integers(0, 9), st.integers(0, 9)), min_size=1, max_size=12)
)  # fmt: skip
@settings(max_examples=12)
def test_what_is_below_a_column_or_later_than_one_says(populate, drawn):
    first = date(2024, 1, 1)
    rows = [
        {"n": f"N{i:02}", "price": price, "cost": cost, "terms": terms, "day": first, "due": first + timedelta(days=gap)}
        for i, (price, cost, terms, gap) in enumerate(drawn)
    ]  # fmt: skip
    population = populate(rows, id="n", date="day", amount="price")
    found = screened(population, "range", not_below="cost")
    below = {flag["subject"]["n"]: flag["below"] for flag in found["flags"]}
    assert below == {r["n"]: r["cost"] - r["price"] for r in rows if r["price"] < r["cost"]}
    found = screened(population, "range", in_order=["day", "due"], most_days_of="terms")
    after = {flag["subject"]["n"]: flag["after"] for flag in found["flags"]}
    apart = {row["n"]: (row["due"] - row["day"]).days for row in rows}
    assert after == {r["n"]: apart[r["n"]] for r in rows if apart[r["n"]] > r["terms"]}
