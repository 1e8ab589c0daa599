"""What is proposed of a house that clocks its people in, and writes German: hours less a pause, days on leave, hours that were
paid and not worked, wages by hours, a share of the gross, allowances far above all others; and days after one that another
table has, against a plain look."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, time, timedelta
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import populated, screened
from folders import GERMAN, asked_for, taken_in
from sabueso.screens import find_screen
from sabueso.screens.match.view import MatchView

pytestmark = pytest.mark.long

CENT = Decimal("0.01")


def _clock(minutes):
    return time(minutes // 60, minutes % 60).strftime("%H:%M")


def _pay(row):
    row["Grundlohn"] = (row["Stunden"] * row["Stundensatz"]).quantize(CENT)
    extra = (row["Überstunden"] * row["Stundensatz"] * Decimal("1.25")).quantize(CENT)
    row["Brutto"] = row["Grundlohn"] + extra + row["Zulage"]
    row["Sozialversicherung"] = (row["Brutto"] * Decimal("0.2")).quantize(CENT)
    row["Netto"] = row["Brutto"] - row["Sozialversicherung"]


@pytest.fixture(scope="module")
def clocked(tmp_path_factory):
    rng = random.Random(21)
    staff = [{"Personalnr": f"M{n:03}", "Name": f"Person {n}", "Stundensatz": rng.choice((Decimal("14.50"), Decimal("18.40"), Decimal("22.75")))} for n in range(40)]  # fmt: skip
    leave, away = [], set()
    for person in staff:
        for _ in range(2):
            first = date(2025, 1, 6) + timedelta(days=rng.randint(0, 160))
            days = [first + timedelta(days=k) for k in range(rng.choice((5, 10)))]
            if any((person["Personalnr"], day) in away for day in days):
                continue
            away |= {(person["Personalnr"], day) for day in days}
            leave.append({"Antrag": f"U{len(leave):03}", "Personalnr": person["Personalnr"], "von": days[0], "bis": days[-1]})  # fmt: skip
    stamps, wrong, worked = [], defaultdict(set), defaultdict(Decimal)

    def stamp(who, day):
        come = rng.randint(400, 500)
        pause = rng.choice((30, 45))
        gone = come + rng.randint(300, 540)
        hours = (Decimal(gone - come - pause) / 60).quantize(CENT)
        stamps.append({"Nr": f"S{len(stamps):05}", "Personalnr": who, "Datum": day, "Kommen": _clock(come), "Gehen": _clock(gone), "Pause min": pause, "Stunden": hours})  # fmt: skip
        worked[who, day.month] += hours
        return stamps[-1]

    for k in range(180):
        day = date(2025, 1, 2) + timedelta(days=k)
        for person in staff if day.weekday() < 5 else ():
            if (person["Personalnr"], day) not in away and rng.random() < 0.97:
                stamp(person["Personalnr"], day)
    for row in rng.sample([row for row in leave if row["von"].weekday() < 4], 4):
        day = row["von"] + timedelta(days=1)
        wrong["on leave"].add(stamp(row["Personalnr"], day)["Nr"])
    for row in rng.sample(stamps, 4):
        row["Stunden"] += 2
        worked[row["Personalnr"], row["Datum"].month] += 2
        wrong["hours"].add(row["Nr"])
    stamps.sort(key=lambda row: (row["Datum"], row["Personalnr"]))
    wages = []
    for month in range(1, 7):
        for person in staff:
            who = person["Personalnr"]
            row = {
                "Abrechnung": f"L{month:02}{who}", "Personalnr": who, "Zahltag": date(2025, month, 27), "Stunden": worked[who, month],
                "Überstunden": Decimal(rng.choice((0, 0, 2, 4))), "Stundensatz": person["Stundensatz"], "Zulage": Decimal(rng.choice((0, 25, 50))),
            }  # fmt: skip
            _pay(row)
            wages.append(row)
    for place, row in enumerate(rng.sample([row for row in wages if row["Überstunden"]], 9)):
        kind = ("paid hours", "allowance", "insurance")[place % 3]
        wrong[kind].add(row["Abrechnung"] if kind != "paid hours" else row["Personalnr"])
        if kind == "paid hours":
            row["Stunden"] += 16
            _pay(row)
        elif kind == "allowance":
            row["Zulage"] = Decimal(rng.choice((180, 240, 300)))
            _pay(row)
        else:
            row["Sozialversicherung"] = (row["Sozialversicherung"] / 2).quantize(CENT)
            row["Netto"] = row["Brutto"] - row["Sozialversicherung"]
    world = {"mitarbeiter": staff, "urlaub": leave, "stempelungen": stamps, "lohn": wages}
    case, _ = taken_in(tmp_path_factory.mktemp("clocked"), world, GERMAN)
    return asked_for(case), wrong


@pytest.mark.parametrize(
    ("kind", "screen", "key"),
    [
        ("hours", "Stunden of stempelungen is the hours from Kommen to Gehen less Pause min", "Nr"),
        ("paid hours", "quantity by Personalnr and month of stempelungen and lohn", "Personalnr"),
        ("allowance", "Zulage of lohn far above all others", "Abrechnung"),
        ("insurance", "Sozialversicherung of lohn is 0.2 times Brutto", "Abrechnung"),
    ],
)
def test_each_wrong_row_is_asked_for_and_no_other(clocked, kind, screen, key):
    asked, wrong = clocked
    assert {item["subject"][key] for item in asked[screen]} == wrong[kind]


def test_days_on_leave_are_looked_for_where_many_would_be_by_chance(clocked):
    asked, wrong = clocked
    found = asked["Datum of stempelungen within urlaub"]
    assert len(found) == len(wrong["on leave"])
    # Six days of pay a person hardly ever lie in a span, and that is no rule.
    assert "Zahltag of lohn within urlaub" not in asked


@given(
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 9)), min_size=1, max_size=12),
    st.dictionaries(st.integers(0, 3), st.one_of(st.none(), st.integers(0, 9)), min_size=1),
)
@settings(max_examples=12)
def test_rows_after_the_day_that_another_table_has(tmp_path_factory, rows, ended):
    first = date(2024, 1, 1)
    bills = [{"n": f"N{i:02}", "who": f"W{who}", "day": first + timedelta(days=day), "amount": 1 + i} for i, (who, day) in enumerate(rows)]  # fmt: skip
    ends = [{"who": f"W{who}", "ended": None if day is None else first + timedelta(days=day)} for who, day in ended.items()]  # fmt: skip
    if all(row["ended"] is None for row in ends):
        return
    expected = {
        (f"W{who}", (first + timedelta(days=day)).isoformat())
        for who, day in rows
        if ended.get(who) is not None and day > ended[who]
    }
    folder = tmp_path_factory.mktemp("ended")
    tables = {"bills": bills, "ends": ends}
    with populated(folder, tables, id="n", date="day", amount="amount") as population:
        found = screened(population, "match", other="ends", on=["who"], during=["ended"], find="present")  # fmt: skip
    told = {(flag["subject"]["who"], day) for flag in found["flags"] for day in flag["periods"]}
    assert told == expected
    view = MatchView(find_screen("match").recorded(found))
    for flag in found["flags"]:
        who = flag["subject"]["who"]
        day = first + timedelta(days=ended[int(who[1:])] or 0)
        assert view.reason(flag).endswith(f"after the ended of ends, {day}."), view.reason(flag)
