"""Months and quarters without a row: against a plain look, and through the queue where columns are called so."""

from __future__ import annotations

import itertools
from datetime import date
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, screened
from folders import FRENCH, asked_for, taken_in
from sabueso.screens.sequence.each import named, numbered


def _period(day, each):
    part, size = (day.month, 12) if each == "month" else ((day.month + 2) // 3, 4)
    return day.year * size + part


def _missing(periods):
    """Runs of periods between the first and the last that are not there."""
    runs, there = [], sorted(periods)
    for one, two in itertools.pairwise(there):
        if two > one + 1:
            runs.append((one + 1, two - 1))
    return runs


@given(
    st.sampled_from(["month", "quarter"]),
    st.lists(st.sets(st.integers(0, 47), min_size=20, max_size=44), min_size=1, max_size=3),
    st.integers(1, 3),
    st.integers(0, 26),
)
def test_they_are_those_of_a_plain_look(populate, each, months, rows_each, spread):
    rows = [
        {"flat": f"F{who}", "day": date(2021 + m // 12, m % 12 + 1, 1 + (7 * m + 11 * n) % (spread + 1)), "amount": Decimal(n + 1)}
        for who, own in enumerate(months)
        for m in sorted(own)
        for n in range(rows_each)
    ]  # fmt: skip
    people = populate(rows, date="day", amount="amount")
    # Of a series of which any share may be missing each gap is named.
    found = screened(people, "sequence", each=each, by="flat", least=3, incomplete=0.9)
    wanted, near = set(), 0
    longest = 1.5 * 365.25 / (12 if each == "month" else 4)
    for who in range(len(months)):
        days = sorted(row["day"] for row in rows if row["flat"] == f"F{who}")
        for first, last in _missing({_period(day, each) for day in days}):
            before = max(day for day in days if _period(day, each) < first)
            after = min(day for day in days if _period(day, each) > last)
            # Of rows that are hardly more than one apart none is missing between.
            if (after - before).days < longest:
                near += last - first + 1
                continue
            text = named(first, each) if first == last else f"{named(first, each)} – {named(last, each)}"  # fmt: skip
            wanted.add((f"F{who}", text, last - first + 1))
    flags = found["flags"]
    assert {(f["subject"]["flat"], f["subject"][each], f["missing"]) for f in flags} == wanted
    cautions = {c["code"]: c for c in found["cautions"]}
    assert cautions.get("between_near_rows", {"periods": 0})["periods"] == near
    assert all(f["p"] is None for f in flags)
    for f in flags:
        assert numbered(f["after"], each) - numbered(f["before"], each) == f["missing"] + 1


def _bills(column):
    """Bills of each flat and month, of which four were never made; whose share is another's; half of what is due."""
    flats = [
        {"lot": f"A{n:02}", "tantièmes": 60 + 7 * n % 41, "propriétaire": f"M. {n}"}
        for n in range(1, 31)
    ]
    bills = []
    for month in range(24):
        for flat in flats:
            day = date(2023 + month // 12, month % 12 + 1, 1)
            due = (Decimal("15333.33") * flat["tantièmes"] / 10_000).quantize(Decimal("0.01"))
            bills.append({"appel": f"AF{len(bills) + 1:05}", "lot": flat["lot"], column: day, "budget": Decimal("15333.33"), "tantièmes": flat["tantièmes"], "montant": due})  # fmt: skip
    wrong = bills[100:500:100]
    for bill in wrong:
        bill["montant"] /= 2
        bill["montant"] = bill["montant"].quantize(Decimal("0.01"))
    gone = bills[95:620:151]
    kept = [bill for bill in bills if bill not in gone]
    return {"lots": flats, "appels": kept}, gone, wrong


@pytest.mark.parametrize("column", ["date d'appel", "month", "Month"])
@pytest.mark.long
def test_bills_that_were_never_made_are_in_the_queue(tmp_path, column):
    world, gone, wrong = _bills(column)
    case, screens = taken_in(tmp_path, world, FRENCH)
    name = "months without a row by lot of appels"
    assert screens[name]["because"].endswith(f"{len(gone)} between them none")
    asked = asked_for(case)
    assert {item["subject"]["lot"] for item in asked[name]} == {bill["lot"] for bill in gone}
    for item in asked[name]:
        opened = inside_json("dig", item["id"], "--rows", cwd=case)["rows"]
        bill = next(b for b in gone if b["lot"] == item["subject"]["lot"])
        months = {row[column][:7] for row in opened}
        day = bill[column]
        assert len(opened) == 2 and {row["lot"] for row in opened} == {bill["lot"]}
        assert sorted(months) == [named(day.year * 12 + day.month + n, "month") for n in (-1, 1)]
        assert f"{named(day.year * 12 + day.month, 'month')}, has no row" in inside("why", item["id"], cwd=case).stdout.replace("\n", " ")  # fmt: skip
    made = asked["montant of appels is 0.0001 times budget times tantièmes"]
    assert {item["subject"]["appel"] for item in made} == {bill["appel"] for bill in wrong}
    shown = inside("try", "sequence", "appels", "--each", "month", "--by", "lot", cwd=case).stdout
    step = next(line for line in shown.splitlines() if "next: sabueso dig" in line)
    assert "and lot = " in step
    # The command that keeps it gives the same again, whatever was asked for.
    for asked_for_more in ((), ("--least", "30"), ("--incomplete", "0.05")):
        said = inside(
            "try", "sequence", "appels", "--each", "month", "--by", "lot", *asked_for_more, cwd=case
        ).stdout
        assert f"--each month --by lot {' '.join(asked_for_more)}".strip() + " --keep" in said
    inside(
        "try", "sequence", "appels", "--each", "month", "--by", "lot", "--out", "m.png", cwd=case
    )


def test_what_cannot_be_is_a_sentence(tmp_path):
    case, _ = taken_in(tmp_path, {"a": [{"id": f"A{n}", "amount": Decimal(n)} for n in range(9)]})
    asked = ("try", "sequence", "a", "--each")
    assert "has none: say with --of" in inside(*asked, "month", cwd=case, code=2).stderr
    said = inside(*asked, "quarter", "--of", "id", cwd=case, code=2).stderr
    assert "--each quarter takes a column of days" in said
    assert "looks for gaps alone" in inside(*asked, "month", "--find", "order", cwd=case, code=2).stderr  # fmt: skip
