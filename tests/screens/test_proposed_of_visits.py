"""What is proposed of a clinic: what was billed twice for a visit, of visits that nobody came to, after a death, above what
a list allows, and at another price than the payer's; and rows that have what an earlier row has, against a plain look."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import screened
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
FEES = {"E10": (62, 1), "E20": (98, 1), "X02": (85, 1), "T15": (41, 4), "J01": (28, 3), "S08": (75, 2)}  # fmt: skip
PAYERS = {"Lakeside": Decimal("1.00"), "Prairie": Decimal("0.95"), "State": Decimal("0.80")}


def _visits(rng, patients):
    rows, day = [], date(2024, 1, 1)
    while len(rows) < 1500:
        day += timedelta(days=1)
        if day.weekday() > 4:
            continue
        for _ in range(rng.randint(2, 6)):
            patient = rng.choice(patients)
            if patient["died"] and patient["died"] < day:
                continue
            rows.append({
                "visit_id": f"V{5000 + len(rows)}", "visit_date": day, "patient_id": patient["patient_id"],
                "status": rng.choices(("kept", "no-show", "cancelled"), (18, 1, 1))[0],
            })  # fmt: skip
    return rows


def _line(visit, code, payer, units, n):
    price = (FEES[code][0] * PAYERS[payer]).quantize(CENT)
    return {
        "claim_line": f"C{n}", "visit_id": visit["visit_id"], "service_date": visit["visit_date"],
        "patient_id": visit["patient_id"], "code": code, "units": units, "unit_price": price,
        "charge": price * units, "payer": payer,
    }  # fmt: skip


@pytest.fixture(scope="module")
def billed(tmp_path_factory):
    rng = random.Random(5)
    patients = [
        {"patient_id": f"P{n:03}", "name": f"Patient {n}", "payer": rng.choice(list(PAYERS)),
         "died": date(2024, 2, 1) + timedelta(days=9 * n) if n < 12 else None}
        for n in range(150)
    ]  # fmt: skip
    payers = {row["patient_id"]: row["payer"] for row in patients}
    visits = _visits(rng, patients)
    lines = []
    for visit in visits:
        if visit["status"] != "kept":
            continue
        for code in rng.sample(list(FEES), rng.choice((1, 1, 2, 3))):
            units = rng.randint(1, FEES[code][1])
            lines.append(_line(visit, code, payers[visit["patient_id"]], units, 8000 + len(lines)))
    wrong = defaultdict(set)
    for row in rng.sample(lines, 5):
        lines.append({**row, "claim_line": f"C{8000 + len(lines)}"})
        wrong["twice"].add(lines[-1]["claim_line"])
    for visit in rng.sample([row for row in visits if row["status"] != "kept"], 4):
        lines.append(_line(visit, "E20", payers[visit["patient_id"]], 1, 8000 + len(lines)))
        wrong["nobody came"].add(lines[-1]["claim_line"])
    for row in rng.sample([row for row in lines if row["code"] == "T15"], 4):
        row["units"] = 6
        row["charge"] = row["unit_price"] * 6
        wrong["too many"].add(row["claim_line"])
    for row in rng.sample([row for row in lines if row["code"] in ("X02", "E10")], 6):
        row["unit_price"] = (row["unit_price"] * Decimal("1.2")).quantize(CENT)
        row["charge"] = row["unit_price"] * row["units"]
        wrong["dearer"].add(row["claim_line"])
    for patient in patients[:3]:
        day = patient["died"] + timedelta(days=20)
        visits.append({"visit_id": f"V{5000 + len(visits)}", "visit_date": day, "patient_id": patient["patient_id"], "status": "kept"})  # fmt: skip
        lines.append(_line(visits[-1], "E10", patient["payer"], 1, 8000 + len(lines)))
        wrong["after a death"].add(lines[-1]["claim_line"])
    # Of what is not known nothing is said: a visit without a status, and a line without a visit.
    next(v for v in visits if v["visit_id"] == lines[0]["visit_id"])["status"] = ""
    lines.append({**lines[1], "claim_line": f"C{8000 + len(lines)}", "visit_id": "V1"})
    fees = [{"code": c, "fee": fee, "max_units": most} for c, (fee, most) in FEES.items()]
    world = {"patients": patients, "visits": visits, "fee_schedule": fees, "claim_lines": lines}
    folder = tmp_path_factory.mktemp("clinic")
    case, _ = taken_in(folder, world)
    return asked_for(case), wrong


@pytest.mark.parametrize(
    ("kind", "screen"),
    [
        ("twice", "code and visit_id of claim_lines in two rows"),
        ("nobody came", "claim_lines whose visit_id.status is cancelled or no-show"),
        ("too many", "units of claim_lines above max_units of its code"),
        ("dearer", "unit_price of claim_lines unlike others of its payer and code"),
        ("after a death", "patient_id.died of claim_lines before service_date"),
    ],
)
def test_each_wrong_row_is_asked_for_and_no_other(billed, kind, screen):
    asked, wrong = billed
    assert {item["subject"]["claim_line"] for item in asked[screen]} == wrong[kind]


@given(
    st.lists(
        st.tuples(
            st.sampled_from([None, "a", "b"]), st.sampled_from([None, 1, 2]), st.integers(0, 3)
        ),
        min_size=1,
        max_size=12,
    )
)
@settings(max_examples=15)
def test_what_an_earlier_row_has_is_told_with_how_many_do(populate, drawn):
    rows = [
        {"n": f"N{i:02}", "who": who, "kind": kind, "day": date(2024, 1, 1) + timedelta(days=day)}
        for i, (who, kind, day) in enumerate(drawn)
    ]
    expected, before = {}, defaultdict(int)
    for row in sorted(rows, key=lambda row: row["day"]):
        key = row["who"], row["kind"]
        if None not in key:
            if before[key]:
                expected[row["n"]] = before[key]
            before[key] += 1
    found = screened(populate(rows, id="n", date="day"), "range", unique=["who", "kind"])
    assert {flag["subject"]["n"]: flag["again"] for flag in found["flags"]} == expected


def test_nobody_comes_after_their_death_however_few_have_died(tmp_path):
    people = [{"person": f"P{n:03}", "born": date(1940, 1, 1) + timedelta(days=200 * n), "died": date(2024, 6, 1) if n in (3, 8, 21) else None} for n in range(60)]  # fmt: skip
    came = [{"visit": f"V{n:04}", "day": date(2024, 1, 2) + timedelta(days=n // 2), "person": f"P{n * 7 % 60:03}", "place": "AB"[n % 2]} for n in range(600)]  # fmt: skip
    gone = {"P003", "P008", "P021"}
    came = [row for row in came if row["person"] not in gone or row["day"] < date(2024, 6, 1)]
    came += [{"visit": f"W{n}", "day": date(2024, 9, 3 + n), "person": who, "place": "A"} for n, who in enumerate(sorted(gone))]  # fmt: skip
    tariff = [{"place": "A", "amount": Decimal("41.50")}, {"place": "B", "amount": Decimal("38.00")}]  # fmt: skip
    paid = [{"bill": f"B{n:04}", "on": date(2024, 1, 3) + timedelta(days=n), "place": "AB"[n % 2], "charge": tariff[n % 2]["amount"] + 2 * (n in (44, 131)), "times": 1 + n % 3} for n in range(200)]  # fmt: skip
    for row in paid:
        row["total"] = row["charge"] * row["times"]
    case, screens = taken_in(tmp_path, {"people": people, "came": came, "tariff": tariff, "paid": paid})  # fmt: skip
    asked = asked_for(case)
    found = asked["person.died of came before day"]
    assert {item["subject"]["visit"] for item in found} == {"W0", "W1", "W2"}
    # The only number of a list is what each of its rows costs, and no sum.
    assert {item["subject"]["place"] for item in asked["charge of paid other than in tariff"]} == {"A", "B"}  # fmt: skip
    assert screens["charge of paid other than in tariff"]["settings"]["other_on"] == ["place", "amount"]  # fmt: skip
