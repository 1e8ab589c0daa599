"""What is proposed of a carrier and of a house that sells tickets and pays by the hour: repeats where one amount comes again and
again; prices less a discount; work after somebody left; amounts beside others of the kind of what they name."""

from __future__ import annotations

import random
import re
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside_json
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

ZONES = {f"Z{n}": Decimal(310 + 170 * n) / 50 for n in range(8)}
RANKS = {"Tutor": 28, "Reader": 120}


def _parcels(rng):
    rows = []
    for n in range(1200):
        zone, whose = rng.choice(list(ZONES)), rng.randrange(30)
        day = date(2024, 1, 1) + timedelta(days=n // 6)
        net = (ZONES[zone] * (100 - whose) * (100 + day.month) / 10_000).quantize(Decimal("0.01"))
        rows.append({"Shipment": 700_001 + n, "Shipped": day, "Customer": f"K{whose:02}", "Zone": zone, "Weight kg": Decimal(rng.randrange(3, 3000)) / 10, "Net": net})  # fmt: skip
    rows.append(
        {**rows[333], "Shipment": 701_201, "Shipped": rows[333]["Shipped"] + timedelta(days=2)}
    )
    return sorted(rows, key=lambda row: row["Shipped"])


def _tickets(rng):
    rows = []
    for n in range(400):
        price, less = Decimal(rng.randrange(30, 90)), rng.choice([0, 0, 10, 25])
        rows.append({"Ticket": f"T{n:04}", "Sold": date(2024, 1, 1) + timedelta(days=n // 2), "Price": price, "Discount %": less, "Paid": (price * (100 - less) / 100).quantize(Decimal("0.01"))})  # fmt: skip
    for row in (rows[40], rows[222]):
        row["Paid"] -= 7
    return rows


def _hours(rng):
    staff = [{"Staff": f"M{n:02}", "Rank": rng.choice(list(RANKS)), "End": date(2024, 6, 28) if n % 5 == 0 else None} for n in range(40)]  # fmt: skip
    sheets = []
    for week in range(8):
        for place, each in enumerate(staff):
            pay = Decimal(RANKS[each["Rank"]] * rng.randrange(300, 500)) / 100
            sheets.append({"Sheet": f"S{len(sheets):04}", "Week": date(2024, 4, 1) + timedelta(days=7 * week), "Staff": each["Staff"], "Pay": pay * 3 if (week, place) == (4, 7) else pay})  # fmt: skip
    sheets.append({"Sheet": f"S{len(sheets):04}", "Week": date(2024, 7, 15), "Staff": "M05", "Pay": Decimal("99.10")})  # fmt: skip
    return {"staff": staff, "sheets": sheets}


@pytest.fixture(scope="module")
def asked(tmp_path_factory):
    rng = random.Random(3)
    tables = {"shipments": _parcels(rng), "tickets": _tickets(rng), **_hours(rng)}
    case, screens = taken_in(tmp_path_factory.mktemp("parcels"), tables)
    return screens, asked_for(case), case


@pytest.mark.parametrize(
    ("screen", "rows"),
    [
        ("Price less Discount % of tickets", ["T0040", "T0222"]),
        ("Staff.End of sheets before Week", ["S0320"]),
    ],
)
def test_each_wrong_row_is_asked_for_and_no_other(asked, screen, rows):
    assert sorted(item["subject"].popitem()[1] for item in asked[1][screen]) == rows


def test_of_amounts_that_come_again_and_again_repeats_are_the_same_in_more(asked):
    screens, found, _ = asked
    assert "repeats of shipments" not in screens
    (repeated,) = found["repeats of shipments of one Weight kg"]
    assert repeated["subject"]["first"] in ("700334", "701201")


def test_amounts_are_beside_others_of_the_kind_of_what_they_name(asked):
    found = asked[1]
    (far,) = found["sheets unlike others of the Rank of its Staff"]
    assert far["subject"] == {"Sheet": "S0167"}


def test_what_a_row_was_held_against_is_told_where_its_peers_are_others(asked):
    case, found = asked[2], asked[1]
    (far,) = found["sheets unlike others of the Rank of its Staff"]
    first = inside_json("why", far["id"], cwd=case)["sentences"][0]
    assert re.fullmatch(
        r"[\d,.]+ is above [\d,.]+, the limit of the \d+ rows of Staff\.Rank (Tutor|Reader), whose median is [\d,.]+\.",
        first,
    )
