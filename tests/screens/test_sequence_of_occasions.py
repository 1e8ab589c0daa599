"""Occasions that columns name, of which a series has no row: looked for, proposed, opened and drawn."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json
from folders import asked_for, taken_in

TERMS = [(year, term, day) for year, start in (("2023/24", 2023), ("2024/25", 2024)) for term, day in (("Autumn", date(start, 9, 1)), ("Spring", date(start + 1, 1, 6)), ("Summer", date(start + 1, 4, 15)))]  # fmt: skip
LEFT_OUT = {("U006", "2023/24 Spring"), ("U031", "2023/24 Summer"), ("U050", "2024/25 Autumn")}


@pytest.fixture(scope="module")
def billed(tmp_path_factory):
    """Ninety pupils, some of whom come later, billed for each term but three."""
    rng = random.Random(5)
    pupils = [{"pupil": f"U{n:03}", "name": f"{chr(65 + n % 26)}. Pupil {n}"} for n in range(90)]
    bills = []
    for place, (year, term, day) in enumerate(TERMS):
        for n, pupil in enumerate(pupils):
            if place < n % 3 or (pupil["pupil"], f"{year} {term}") in LEFT_OUT:
                continue
            when = day + timedelta(days=rng.randrange(5))
            bills.append({"bill": f"I{len(bills):04}", "pupil": pupil["pupil"], "school year": year, "term": term, "day": when, "total": Decimal(rng.randrange(400_000, 600_000)) / 100})  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("terms"), {"pupils": pupils, "bills": bills})
    return case, screens, bills


def test_terms_without_a_bill_are_proposed_and_opened_by_those_beside_them(billed):
    case, screens, bills = billed
    name = "school year and term without a row by pupil of bills"
    assert screens[name]["settings"] == {"occasions": ['"school year"', "term"], "by": ["pupil"]}
    found = asked_for(case)[name]
    assert {(e["subject"]["pupil"], e["subject"]["occasion"]) for e in found} == LEFT_OUT
    item = next(e for e in found if e["subject"]["pupil"] == "U050")
    rows = inside_json("dig", item["id"], "--rows", cwd=case)["rows"]
    beside = [b["bill"] for b in bills if b["pupil"] == "U050" and (b["school year"], b["term"]) in (("2023/24", "Summer"), ("2024/25", "Spring"))]  # fmt: skip
    assert sorted(row["bill"] for row in rows) == beside
    said = inside("why", item["id"], cwd=case).stdout
    assert "1 occasion of the series, U050 · 2024/25 Autumn, has no row" in said


def test_each_occasion_is_counted_in_the_order_of_its_first_day(billed):
    case, _, _ = billed
    asked = "try", "sequence", "bills", "--occasions", '"school year",term', "--by", "pupil"
    found = inside_json(*asked, cwd=case)
    assert found["occasions"] == [f"{year} {term}" for year, term, _ in TERMS]
    assert found["subjects"] == sum(len(TERMS) - n % 3 for n in range(90)) - len(LEFT_OUT)
    inside(*asked, "--out", "terms.png", cwd=case)
    assert (case / "terms.png").read_bytes()[:4] == b"\x89PNG"


@pytest.mark.parametrize(
    ("table", "options", "said"),
    [
        ("bills", ["--occasions", "bill"], "expected columns that name occasions"),
        ("bills", ["--occasions", "term", "--each", "month"], "expected each or occasions, not both"),
        ("bills", ["--occasions", "term", "--find", "form"], "occasions looks for gaps alone"),
        ("bills", ["--occasions", "term", "--of", "total"], "takes a column of days"),
        ("bills", ["--occasions", "season"], "has no column 'season'"),
        ("pupils", ["--occasions", "name"], "needs a date in the role date"),
    ],
)  # fmt: skip
def test_what_names_no_occasions_is_refused(billed, table, options, said):
    done = inside("try", "sequence", table, *options, cwd=billed[0], code=2)
    assert said in done.stderr
