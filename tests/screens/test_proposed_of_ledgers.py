"""What is proposed of a ledger whose papers are of several kinds and whose rows need not name anybody."""

from __future__ import annotations

import csv
import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json

pytestmark = pytest.mark.long

STAFF = ["Alma Reyes", "Bruno Sala", "Carla Vidal", "Dario Ponce", "Elena Roig", "Fermin Oca"]


def _ledger(rng):
    """Cheques of one series, bills without a payee, and receipts in cash; each kind has its own size."""
    rows, cheque, bill = [], 700_100, 41_000
    for n in range(1_400):
        day = date(2024, 1, 2) + timedelta(days=n // 4)
        kind = rng.choice(["Cheque", "Cheque", "Transfer", "Cash"])
        if kind == "Cheque":
            cheque += 1
            who, paper, low = f"Payee {rng.randint(1, 400)} Ltd", f"CHQ{cheque}", 90_000
        elif kind == "Transfer":
            bill += rng.randint(3, 40)
            who, paper, low = "", f"BILL{bill}", 900
        else:
            who, paper, low = f"Payee {rng.randint(1, 400)} Ltd", "CASH", 20
        amount = Decimal(rng.randint(100 * low, 130 * low)) / 100
        rows.append([day, kind, who, amount, paper, rng.choice(STAFF)])
    return rows


def test_what_a_ledger_of_several_kinds_of_papers_is_asked(tmp_path):
    rng = random.Random(3)
    rows = _ledger(rng)
    cheques = [row for row in rows if row[1] == "Cheque"]
    bills = [row for row in rows if row[1] == "Transfer"]
    cash = [row for row in rows if row[1] == "Cash"]
    for at in (61, 203):
        rows.remove(cheques[at])
    for row in bills[40:43]:
        rows.append([row[0] + timedelta(days=9), *row[1:]])
    for row in cheques[300:303]:
        row[2] = "Sala, Bruno"
    for row in cash[50:54]:
        row[3] *= 12
    rng.shuffle(rows)
    rows.sort(key=lambda row: row[0])
    folder = tmp_path / "in"
    folder.mkdir()
    head = ["Entry No", "Date", "Kind", "Payee", "Amount", "Reference", "Entered By"]
    with (folder / "ledger.csv").open("w", newline="") as file:
        csv.writer(file).writerows([head, *([f"E{n:05}", *row] for n, row in enumerate(rows))])
    with (folder / "employees.csv").open("w", newline="") as file:
        people = [[name, f"19{70 + n}-01-01"] for n, name in enumerate(STAFF)]
        csv.writer(file).writerows([["Name", "Born"], *people])
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    proposed = inside_json("intake", "../in", "--yes", cwd=case)["screens"]
    by_name = {screen["name"]: screen for screen in proposed}
    papers = by_name["Reference of ledger missing, CHQ …"]
    assert papers["flagged"] == 2
    assert f"{len(cheques) - 2:,} of {len(cheques):,} numbers" in papers["because"]
    # A word in place of a paper is none that several parties have, or that comes twice.
    several = by_name["one Reference of several Payee in ledger"]
    assert several["flagged"] == 0 and "CASH is no paper" in several["because"]
    assert by_name["one Reference twice in ledger, without Payee"]["flagged"] == 3
    assert by_name["Payee of ledger among employees too"]["flagged"] == 1
    # Nobody has rows enough to be beside one another: kinds of rows have.
    assert by_name["ledger unlike the Kind's others"]["flagged"] == 4
    inside("screen", cwd=case)
    queue = inside_json("queue", "--top", "60", cwd=case)
    assert "Sala, Bruno" in {value for item in queue for value in item["subject"].values()}
