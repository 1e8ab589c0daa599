"""What is proposed of lists that are published: relief loans, sales of houses, claims of members, averages of providers; and
numbers that are met again by chance, against the law of it."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest

from conftest import inside, inside_json
from folders import PLAIN, Style, asked_for, taken_in
from sabueso.screens.match.proposed import _met_by_chance
from sabueso.screens.proposal import TAX

pytestmark = pytest.mark.long

AMERICAN = Style(days="%m/%d/%Y")
LAST = ("Abbott", "Baker", "Dunn", "Ellis", "Foster", "Garza", "Hobbs", "Kerr")


def _cents(rng, median, spread):
    return Decimal(f"{rng.lognormvariate(0, spread) * median:.2f}")


def _ids(case, item, column):
    rows = inside_json("dig", item["id"], "--rows", cwd=case)["rows"]
    return {row[column] for row in rows}


def _loans(rng):
    rows = [
        {"LoanNumber": f"{7_000_000_000 + n * 37}", "DateApproved": date(2020, 4, 3) + timedelta(days=n // 9),
         "BorrowerName": f"{rng.choice(LAST)} {rng.choice(['Farms', 'Cafe', 'Dental'])} {n}", "BorrowerAddress": f"{n * 7 + 11} Main St",
         "BorrowerZip": f"{40_000 + n % 700}", "ApprovalAmount": _cents(rng, 40_000, 1), "JobsReported": rng.randint(1, 40)}
        for n in range(700)
    ]  # fmt: skip
    shared = [rows[n] for n in (50, 210, 399)]
    for row in shared:
        row |= {"BorrowerAddress": "410 Dock St Ste 2", "BorrowerZip": "45011"}
    return rows, {row["LoanNumber"] for row in shared}


def test_borrowers_of_one_address_are_met(tmp_path):
    rows, wrong = _loans(random.Random(6))
    case, screens = taken_in(tmp_path, {"loans": rows}, AMERICAN)
    name = "BorrowerAddress and BorrowerZip of loans twice"
    assert "2 are met again" in screens[name]["because"]
    (item,) = asked_for(case)[name]
    assert _ids(case, item, "LoanNumber") == wrong
    assert item["label"] == "410 Dock St Ste 2 · 45011"
    # Nobody has several: amounts are held against all, and it is said why.
    assert "too few of BorrowerName have 12 rows" in screens["loans far from the rest"]["because"]


@pytest.mark.parametrize("room", [10**5, 10**7])
def test_numbers_that_are_any_are_met_again_as_often_as_the_law_says(room):
    drawn = np.random.default_rng(1).integers(0, room, 3000)
    again = len(drawn) - len(set(drawn.tolist()))
    expected = _met_by_chance([f"EFT{n:07}" for n in drawn])
    assert abs(again - expected) <= 4 * max(expected, 1) ** 0.5
    assert _met_by_chance([f"EFT{n:07}" for n in range(3000)]) == 0


def test_a_house_is_sold_for_its_price_and_once_in_a_while(tmp_path):
    rng = random.Random(7)
    rows = []
    for n in range(600):
        price = int(rng.lognormvariate(0, 0.4) * 2600) * 100
        rows.append(
            {"Parcel ID": f"{rng.randint(10, 49)}-{n:05}-{rng.randint(100, 999)}", "Sale Date": date(2023, 1, 2) + timedelta(days=n),
             "Sale Price": price, "Assessed Value": int(price * rng.uniform(0.84, 1.04)), "Buyer": rng.choice(LAST), "Seller": rng.choice(LAST)}
        )  # fmt: skip
    low, twice = rows[77], rows[300]
    low["Assessed Value"] = low["Sale Price"] // 4
    rows.append({**twice, "Sale Date": twice["Sale Date"] + timedelta(days=12), "Sale Price": twice["Sale Price"] * 2, "Assessed Value": int(twice["Sale Price"] * 1.9)})  # fmt: skip
    case, _ = taken_in(tmp_path, {"sales": rows}, PLAIN)
    roles = inside_json("survey", "sales", cwd=case)["columns"]
    told = {column["role"]: column["column"] for column in roles if column["role"]}
    assert (told["amount"], told["party"]) == ("Sale Price", "Seller")
    assert "preparer" not in told and "price" not in told
    found = asked_for(case)
    (again,) = found["Parcel ID of sales in two rows"]
    assert _ids(case, again, "Parcel ID") == {twice["Parcel ID"]}
    said = " ".join(inside("why", again["id"], cwd=case).stdout.split())
    assert "Parcel ID as in 1 row before it, that of sales.csv line 302." in said
    apart = found["Assessed Value of sales out of proportion to Sale Price"]
    assert {low["Parcel ID"]} <= {i for item in apart for i in _ids(case, item, "Parcel ID")}


def _claims(rng):
    kinds = {"Rail": 60, "Mileage": 0, "Telephone": 70, "Hotel": 140, "Rent": 1400}
    rows = []
    for n in range(1500):
        kind = rng.choice(list(kinds))
        miles = rng.randint(10, 320) if kind == "Mileage" else None
        claimed = Decimal(miles) * Decimal("0.45") if miles else _cents(rng, kinds[kind], 0.25)
        paid = (
            (claimed * Decimal("0.6")).quantize(Decimal("0.01")) if rng.random() < 0.05 else claimed
        )
        rows.append(
            {"Claim Number": f"{rng.randint(1, 9)}{n:05}", "Date": date(2023, 4, 1) + timedelta(days=n // 5),
             "MP's Name": f"{rng.choice(LAST)} {rng.choice('ABCD')}", "Expense Type": kind, "Miles": miles,
             "Amount Claimed": claimed, "Amount Paid": paid}
        )  # fmt: skip
    return rows


def test_claims_are_held_against_their_kind_and_never_paid_above(tmp_path):
    rng = random.Random(5)
    rows = _claims(rng)
    above = [rows[n]["Claim Number"] for n in (90, 700)]
    for n in (90, 700):
        rows[n]["Amount Paid"] = rows[n]["Amount Claimed"] + 25
    driven = next(
        row for row in rows if row["Miles"] and row["Amount Paid"] == row["Amount Claimed"]
    )
    driven |= {"Amount Claimed": driven["Miles"] * Decimal("0.55"), "Amount Paid": driven["Miles"] * Decimal("0.55")}  # fmt: skip
    case, screens = taken_in(tmp_path, {"mps": rows}, PLAIN)
    assert screens["mps unlike the Expense Type's others"]["settings"]["by"] == ["Expense Type"]
    rated = [name for name in screens if "0.45 times" in name]
    assert rated == ["Amount Claimed of mps is 0.45 times Miles"]
    found = asked_for(case)
    paid = found["Amount Paid of mps above Amount Claimed"]
    assert {i for item in paid for i in _ids(case, item, "Claim Number")} == set(above)
    assert {i for item in found[rated[0]] for i in _ids(case, item, "Claim Number")} == {
        driven["Claim Number"]
    }


def test_what_is_never_as_much_stands_apart_where_it_is(tmp_path):
    rng = random.Random(3)
    rows = []
    for n in range(500):
        allowed = _cents(rng, 80, 0.8)
        part = Decimal(rng.randint(770, 790)) / 1000
        rows.append({"npi": f"N{n:04}", "code": rng.choice("ABC"), "alowd_amt": allowed,
                     "pymt_amt": (allowed * part).quantize(Decimal("0.01"))})  # fmt: skip
    wrong = rows[111]
    wrong["pymt_amt"] = wrong["alowd_amt"] + 9
    case, _ = taken_in(tmp_path, {"prov": rows}, PLAIN)
    (item,) = asked_for(case)["pymt_amt of prov above alowd_amt"]
    assert _ids(case, item, "npi") == {wrong["npi"]}


def test_columns_without_names_may_be_days_and_numbers_of_two_rows(tmp_path):
    rng = random.Random(2)
    rows = [
        ["C1", f"{2024 * 10**9 + n * 7}", rng.choice(LAST), f"{date(2024, 1, 1) + timedelta(days=n % 360):%m%d%Y}", rng.randint(1, 900)]
        for n in range(400)
    ]  # fmt: skip
    rows.append(list(rows[17]))
    (tmp_path / "gifts.txt").write_text("".join("|".join(map(str, row)) + "\n" for row in rows))
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    report = inside_json("intake", "../gifts.txt", "--as", "gifts", cwd=case)
    assert report["roles"]["date"] == "column 4"
    notes = " ".join(str(note) for note in report["files"][0]["notes"])
    assert "which have roles is for you to say" in notes
    screens = inside_json("survey", "--propose", cwd=case)["screens"]
    assert {s["name"]: s["flagged"] for s in screens}["column 2 of gifts twice"] == 1


def test_words_of_a_name_are_told_however_they_are_joined():
    names = ("vat_amount", "VATAmount", "Betrag MwSt", "Sales Tax", "private", "elevator")
    assert [TAX.search(name) for name in names] == [True, True, True, True, False, False]
