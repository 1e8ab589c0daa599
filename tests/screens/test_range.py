"""Readings that fall and values that are another, against a plain look at each owner's rows; and how both, with limits,
rates, kinds and second rows, are proposed of the files of a fleet and of a builder."""

from __future__ import annotations

import random
from collections import Counter, defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import inside, inside_json, populated, screened
from folders import taken_in
from sabueso.base.errors import UserError
from sabueso.screens.range.late import early_of, late_of
from sabueso.screens.range.orders import proposed_orders

readings = st.lists(
    st.lists(st.one_of(st.none(), st.integers(0, 12)), min_size=1, max_size=9),
    min_size=1,
    max_size=6,
)


def _rows(readings):
    """Rows of several owners, their days in order, put down by turns."""
    first = date(2024, 1, 1)
    rows = [
        {
            "who": f"W{owner}",
            "day": first + timedelta(days=step),
            "km": km,
            "kind": f"K{(km or 0) % 3}",
        }
        for owner, own in enumerate(readings)
        for step, km in enumerate(own)
    ]
    random.Random(len(rows)).shuffle(rows)
    return [{**row, "n": f"N{i:03}"} for i, row in enumerate(rows)]


@given(readings)
@settings(max_examples=15, deadline=None)
def test_readings_that_are_out_of_line(tmp_path_factory, readings):
    """Of a reading below the one before, the one is wrong without which the others rise: that before, or itself."""
    rows = _rows(readings)
    if all(row["km"] is None for row in rows):
        return
    expected = {}
    by_owner = defaultdict(list)
    for row in sorted(rows, key=lambda row: row["day"]):
        by_owner[row["who"]].append(row)
    for own in by_owner.values():
        km = [row["km"] for row in own]
        padded = [None, None, *km, None, None]
        for place, row in enumerate(own):
            earlier, before, value, after, later = padded[place : place + 5]
            if value is None:
                continue
            if before is not None and value < before:
                rises_without = earlier is None or value < earlier
                if rises_without or (after is not None and after >= before):
                    expected[row["n"]] = value - before
                    continue
            between = None not in (before, after) and before <= after < value
            if between and (later is None or later < value):
                expected[row["n"]] = value - after
    folder = tmp_path_factory.mktemp("readings")
    with populated(folder, {"ledger": rows}, id="n", date="day") as population:
        found = screened(population, "range", rising="km", per="who")
    flags = {flag["subject"]["n"]: flag["by"] for flag in found["flags"]}
    assert flags == expected
    assert all(flag["score"] == abs(flag["by"]) for flag in found["flags"])


@given(readings)
@settings(max_examples=10, deadline=None)
def test_values_that_most_rows_of_their_owner_do_not_have(tmp_path_factory, readings):
    rows = _rows(readings)
    sizes = Counter(row["who"] for row in rows)
    alike = Counter((row["who"], row["kind"]) for row in rows)
    expected = {
        row["n"]: sizes[row["who"]] - alike[row["who"], row["kind"]]
        for row in rows
        if 2 * alike[row["who"], row["kind"]] < sizes[row["who"]]
    }
    folder = tmp_path_factory.mktemp("values")
    with populated(folder, {"ledger": rows}, id="n", date="day") as population:
        found = screened(population, "range", same="kind", per="who")
    assert {flag["subject"]["n"]: flag["others"] for flag in found["flags"]} == expected


@given(
    st.lists(
        st.lists(st.tuples(st.integers(0, 2), st.integers(-9, 9)), min_size=1, max_size=9),
        min_size=1,
        max_size=5,
    )
)
@settings(max_examples=15, deadline=None)
def test_what_goes_out_and_is_not_there(tmp_path_factory, moves):
    """By days; what comes in on a day is there for what goes out on it."""
    rows, expected = [], {}
    for owner, own in enumerate(moves):
        day = date(2024, 1, 1)
        for step, amount in own:
            day += timedelta(days=step)
            n = f"N{len(rows):03}"
            rows.append({"who": f"W{owner}", "day": day, "units": amount, "n": n})
    for owner in {row["who"] for row in rows}:
        own = [row for row in rows if row["who"] == owner]
        so_far = 0
        for row in sorted(own, key=lambda row: (row["day"], row["units"] < 0)):
            so_far += row["units"]
            if row["units"] < 0 and so_far < 0:
                expected[row["n"]] = -so_far
    folder = tmp_path_factory.mktemp("moves")
    with populated(folder, {"ledger": rows}, id="n", date="day") as population:
        found = screened(population, "range", not_overdrawn="units", per="who")
    assert {flag["subject"]["n"]: flag["short"] for flag in found["flags"]} == expected


@given(
    spans=st.lists(
        st.tuples(st.integers(0, 3), st.integers(0, 60), st.integers(0, 20), st.booleans()),
        min_size=1,
        max_size=25,
    ),
    moments=st.booleans(),
)
@settings(max_examples=15, deadline=None)
def test_spans_of_one_owner_that_overlap(populate, spans, moments):
    """The later of two; to begin where another ends is none, and one without an end has none."""
    size = timedelta(hours=7, minutes=30) if moments else timedelta(days=1)
    begin = datetime(2024, 1, 1, 6, 15) if moments else date(2024, 1, 1)
    rows: list[dict[str, Any]] = [
        {
            "n": f"N{i:02}",
            "day": date(2024, 1, 1),
            "who": f"W{who}",
            "from": begin + first * size,
            "to": begin + (first + length) * size if ends else None,
        }
        for i, (who, first, length, ends) in enumerate(spans)
    ]
    if not any(row["to"] for row in rows):
        return
    expected = {}
    whole = date(9999, 1, 1) if not moments else datetime(9999, 1, 1)
    for who in {row["who"] for row in rows}:
        own = [row for row in rows if row["who"] == who]
        ended = None
        for row in sorted(own, key=lambda r: (r["from"], r["to"] is None, r["to"] or whole, r["n"])):  # fmt: skip
            if ended is not None and row["from"] < ended:
                expected[row["n"]] = (ended - row["from"]) / timedelta(days=1)
            if row["to"] is not None:
                ended = row["to"] if ended is None else max(ended, row["to"])
    found = screened(populate(rows, id="n", date="day"), "range", apart=["from", "to"], per=["who"])
    told = {flag["subject"]["n"]: flag["over"] for flag in found["flags"]}
    assert told == pytest.approx(expected)


@given(
    gaps=st.lists(st.one_of(st.none(), st.integers(-9, 90)), min_size=1, max_size=30),
    most=st.integers(0, 60),
)
@settings(max_examples=15, deadline=None)
def test_days_that_are_out_of_order_or_too_far_apart(populate, gaps, most):
    first = date(2024, 1, 1)
    rows = [
        {"n": f"N{i:02}", "day": first, "paid": first + timedelta(days=gap)}
        for i, gap in enumerate(gaps)
        if gap is not None
    ]
    if not rows:
        return
    found = screened(
        populate(rows, id="n", date="day"), "range", in_order=["day", "paid"], most_days=most
    )
    told = {f["subject"]["n"]: (f.get("days"), f.get("after")) for f in found["flags"]}
    gap_of = {row["n"]: (row["paid"] - first).days for row in rows}
    assert told == {
        n: (-gap, None) if gap < 0 else (None, gap)
        for n, gap in gap_of.items()
        if gap < 0 or gap > most
    }


@pytest.mark.parametrize(
    ("late", "expected"),
    [
        # The lowest place where they part, above which are no more than a few; none where they do not.
        ([95, 200], (30, 2, 95)),
        ([95, 200, 210], (30, 3, 95)),
        ([95, 200, 210, 220], (95, 3, 200)),
        ([95, 96, 97, 98], None),
        ([59], None),
        ([60], (30, 1, 60)),
        ([], None),
    ],
)
def test_what_is_far_later_than_all_others(populate, late, expected):
    first = date(2024, 1, 1)
    days = [*(i % 31 for i in range(300)), *late, -4]
    rows = [{"n": f"N{i}", "day": first, "paid": first + timedelta(days=d)} for i, d in enumerate(days)]  # fmt: skip
    found = late_of(populate(rows, id="n", date="day"), ("day", "paid"), 3)
    assert found == (None if expected is None else (*expected, True))


@pytest.mark.parametrize(
    ("late", "expected"),
    [
        # On the second or third working day, which is up to five days later: what ends there.
        ([6, 7, 9], (4, 3, 6, False)),
        ([], None),
        # No more than a few are later, and what only becomes rare does not end.
        ([6, 7, 8, 9], None),
        ([3, 5, 5], (4, 2, 5, False)),
    ],
)
def test_what_is_later_than_lags_that_end_sharply(populate, late, expected):
    first = date(2024, 1, 1)
    days = [*((2, 3, 4)[i % 3] for i in range(900)), *late]
    rows = [{"n": f"N{i}", "day": first, "paid": first + timedelta(days=d)} for i, d in enumerate(days)]  # fmt: skip
    assert late_of(populate(rows, id="n", date="day"), ("day", "paid"), 3) == expected
    slow = [d for d in range(1, 9) for _ in range(900 // 2**d)]
    rows = [{"n": f"N{i}", "day": first, "paid": first + timedelta(days=d)} for i, d in enumerate(slow)]  # fmt: skip
    assert late_of(populate(rows, id="n", date="day"), ("day", "paid"), 9) is None


@pytest.mark.parametrize(
    ("early", "expected"),
    [
        ([2, 0], (21, 2, 2)),
        ([6], (21, 1, 6)),
        # Those that are near the others are no few apart, and of more than a few nothing is said.
        ([8, 12, 17], None),
        ([1, 1, 2, 3], None),
        ([], None),
    ],
)
def test_what_is_far_sooner_than_all_others(populate, early, expected):
    first = date(2024, 1, 1)
    days = [*(21 + i % 31 for i in range(300)), *early, -4]
    rows = [{"n": f"N{i}", "day": first, "paid": first + timedelta(days=d)} for i, d in enumerate(days)]  # fmt: skip
    population = populate(rows, id="n", date="day")
    assert early_of(population, ("day", "paid"), 3) == expected
    if expected is None:
        return
    asked = [p for p in proposed_orders(population) if "soon after" in p.name]
    assert [p.settings["least_days"] for p in asked] == [21]
    found = screened(population, "range", **asked[0].settings)
    told = {f["subject"]["n"]: f["rule"] for f in found["flags"]}
    soon = {f"N{300 + i}": "paid at least 21 days after day" for i in range(len(early))}
    assert told == soon | {f"N{len(days) - 1}": "paid not before day"}


def _flagged(tmp_path, tables):
    """Screens that are proposed of tables as they are taken in, and what each flags."""
    _, screens = taken_in(tmp_path, tables)
    return {name: screen["flagged"] for name, screen in screens.items()}


@pytest.mark.long
def test_what_a_fleets_fuel_cards_are_asked(tmp_path):
    """Litres and the tank, the product and the vehicle's own, the odometer, a second fill of a day, a price of its own,
    a garage that is another."""
    rng = random.Random(5)
    fleet = []
    for i in range(40):
        tank, takes = rng.choice([(45, "petrol"), (60, "diesel"), (200, "diesel")])
        fleet.append([f"{1000 + 7 * i}XB", rng.choice(["car", "van", "truck"]), tank, takes])
    fills = []
    for vehicle, _, tank, takes in fleet:
        day, km, garage = date(2024, 1, 2), rng.randint(5_000, 90_000), f"G{rng.randint(1, 9)}"
        while day.year == 2024:
            litres = Decimal(rng.randint(50 * tank, 95 * tank)) / 100
            price = Decimal(rng.randint(1480, 1560)) / 1000
            fills.append([day, vehicle, takes, litres, price, km, garage])
            km += rng.randint(200, 700)
            day += timedelta(days=rng.randint(5, 12))
    planted = rng.sample(range(len(fills)), 21)
    for at in planted[:5]:
        fills[at][3] = Decimal(210 + at % 7)
    for at in planted[5:8]:
        fills[at][2] = "petrol" if fills[at][2] == "diesel" else "diesel"
    for at in planted[8:12]:
        fills[at][5] -= 3_000
    for at in planted[12:14]:
        fills[at][4] = Decimal("29.900")
    for at in planted[14:17]:
        fills[at][6] = "G0"
    fills += [[*fills[at][:3], Decimal(20), *fills[at][4:]] for at in planted[17:]]
    fills.sort(key=lambda fill: fill[0])
    rows = [
        [f"R{70000 + i}", *fill[:5], (fill[3] * fill[4]).quantize(Decimal("0.01")), *fill[5:]]
        for i, fill in enumerate(fills)
    ]
    head = [
        "Receipt",
        "Date",
        "Plate",
        "Product",
        "Litres",
        "Price/l",
        "Amount",
        "Odometer",
        "Home Garage",
    ]
    tables = {"fuel": (head, rows), "fleet": (["Plate", "Type", "Tank", "Takes"], fleet)}
    flags, case = _flagged(tmp_path, tables), tmp_path / "case"
    assert flags["Litres of fuel above Tank of its Plate"] == 5
    # The same few products under two names, and nothing else that both tell.
    assert flags["Product of fuel other than in fleet"] == 3
    assert 4 <= flags["Odometer of fuel falling"] <= 8
    assert flags["Plate of fuel twice in a day"] == 4
    assert flags["Price/l of fuel far from the rest"] == 2
    assert flags["Home Garage of fuel other than the Plate's"] == 3
    inside("screen", cwd=case)
    (item, *_) = [
        each
        for each in inside_json("queue", "--top", "100", cwd=case)
        if each["marks"][0]["screen"] == "Odometer of fuel falling"
    ]
    why = inside("why", item["id"], cwd=case).stdout
    assert "the one before it" in why or "the one after it" in why


@pytest.mark.long
def test_what_a_builders_bills_are_asked(tmp_path):
    """A retention by the rate of the contract, what has come together of each, and orders of days with few rows."""
    rng = random.Random(6)
    contracts = [
        [
            f"SC-{100 + i}",
            f"2024-01-{1 + i % 28:02}",
            rng.randint(200, 900) * 100,
            5 if i % 3 else 10,
        ]
        for i in range(30)
    ]
    bills, changes = [], []
    for number, begun, _, rate in contracts:
        day, total = date.fromisoformat(begun), Decimal(0)
        for _ in range(8):
            day += timedelta(days=rng.randint(25, 35))
            work = Decimal(rng.randint(100_000, 4_000_000)) / 100
            total += work
            held = (work * rate / 100).quantize(Decimal("0.01"))
            bills.append([number, day, work, total, held, work - held])
        for _ in range(4):
            changes.append(
                [
                    number,
                    date.fromisoformat(begun) + timedelta(days=rng.randint(5, 90)),
                    rng.randint(1, 99) * 100,
                ]
            )
    for at in (11, 77, 140):
        bills[at][4], bills[at][5] = Decimal(0), bills[at][2]
    bills[60][3] += 5_000
    for at in (20, 90):
        changes[at][1] = date(2023, 12, 20)
    bills.sort(key=lambda bill: bill[1])
    head = ["App", "Contract", "App Date", "Work", "Work To Date", "Retention", "Net Due"]
    tables = {
        "contracts": (["Contract", "Contract Date", "Value", "Retention %"], contracts),
        "bills": (head, [[f"PA{5000 + i}", *bill] for i, bill in enumerate(bills)]),
        "changes": (
            ["Change", "Contract", "Change Date", "Change Amount"],
            [[f"CO{300 + i}", *change] for i, change in enumerate(changes)],
        ),
    }  # fmt: skip
    flags = _flagged(tmp_path, tables)
    assert flags["Retention of bills is Retention % of its Contract percent of Work"] == 3
    # What does not follow from the one before, and what does not lead to the one after.
    assert flags["Work To Date of bills carried forward"] == 2
    assert flags["Change Date of changes before Contract.Contract Date"] == 2


@pytest.mark.long
def test_what_claims_for_expenses_are_asked(tmp_path):
    """A limit that is called one, though few come near it; a rate of each kilometre, with no column of it; days of rest."""
    rng = random.Random(8)
    staff = [
        [f"M{100 + i}", "Albers", rng.choice(["200,00", "500,00", "1.000,00"])] for i in range(60)
    ]
    rows = []
    for _ in range(3_000):
        day = date(2024, 1, 1) + timedelta(days=7 * rng.randrange(52) + rng.randrange(5))
        km = rng.randint(20, 600) if rng.random() < 0.3 else 0
        amount = Decimal(km) * 3 / 10 if km else Decimal(rng.randint(500, 9_000)) / 100
        rows.append([day, rng.choice(staff)[0], km or "", amount])
    limits = {
        number: Decimal(limit.replace(".", "").replace(",", ".")) for number, _, limit in staff
    }
    driven = [row for row in rows if row[2] and row[2] < 400]
    for row in rng.sample(driven, 4):
        row[3] = Decimal(row[2]) * 42 / 100
    for row in rng.sample([row for row in rows if not row[2]], 3):
        row[3] = limits[row[1]] + 50
    for row in rng.sample(rows, 5):
        row[0] += timedelta(days=6 - row[0].weekday())
    rows.sort(key=lambda row: row[0])
    claims = [
        [f"SP{i:04}", day.strftime("%d.%m.%Y"), number, km, f"{amount:.2f}".replace(".", ",")]
        for i, (day, number, km, amount) in enumerate(rows)
    ]
    tables = {
        "spesen": (["Beleg-Nr.", "Belegdatum", "Personalnr.", "Kilometer", "Betrag"], claims),
        "staff": (["Personalnr.", "Nachname", "Limit je Beleg"], staff),
    }
    flags = _flagged(tmp_path, tables)
    assert flags["Betrag of spesen above Limit je Beleg of its Personalnr."] == 3
    assert flags["Betrag of spesen is 0.3 times Kilometer"] == 4
    assert flags["spesen dated on Sun"] == 5


def test_what_is_no_rule_of_rows_is_refused(populate):
    rows = [{"n": f"N{i}", "day": date(2024, 1, 1), "km": i, "kind": "a"} for i in range(5)]
    for wrong, message in (
        ({"rising": "kind"}, "holds text, not numbers, and cannot be a reading"),
        ({"same": "kind"}, "same needs per"),
        ({"rising": "km", "most_days": 3}, "most-days needs in-order"),
        ({"per": ["kind"]}, "per goes with rising, not-overdrawn, apart, same, lowest or highest"),
        ({"apart": ["day", "day"]}, "apart needs two columns, and per"),
        ({"apart": ["day", "km"], "per": ["kind"]}, "'km' number"),
        ({"hours": ["8"]}, "hours has '8'; expected some of 00 to 23"),
        ({"hours": ["08"]}, "holds a time of day"),
        ({"weekdays": ["Mo"]}, "expected Mon, Tue, Wed, Thu, Fri, Sat, Sun"),
    ):
        with pytest.raises(UserError, match=message):
            screened(populate(rows, id="n", date="day"), "range", **wrong)


@pytest.mark.long
def test_what_a_wards_book_and_a_clients_money_are_asked(tmp_path):
    """What is in stock of each thing in each ward, whose patient is missing where rows of that kind have one, a price that
    is not the thing's, money of one client paid for another, and more than the row that is named allows."""
    rng = random.Random(8)
    wards, things = (
        ("North", "South", "East"),
        {f"M{i}": Decimal(310 + 37 * i) / 100 for i in range(6)},
    )
    stock = {(ward, thing): 200 for ward in wards for thing in things}
    book, lost = [], set(rng.sample(range(1500), 4))
    for n in range(1500):
        ward, thing = rng.choice(wards), rng.choice(sorted(things))
        kind = "Returned" if rng.random() < 0.1 else "Given"
        units = rng.randint(1, 3) * (1 if kind == "Returned" else -1)
        stock[ward, thing] += units - (5 if n in lost else 0)
        who = "" if kind == "Returned" or (n % 400 == 7 and kind == "Given") else f"P{n}"
        price = things[thing] + (1 if n % 500 == 11 else 0)
        day = date(2024, 1, 2) + timedelta(days=n // 5)
        book.append(
            [
                f"B{n:05}",
                day,
                ward,
                thing,
                kind,
                units,
                stock[ward, thing],
                who,
                price,
                abs(units) * price,
            ]
        )
    head = [
        "Entry No", "Date", "Ward", "Medicine", "Kind", "Quantity", "Stock", "Case", "Unit Price", "Amount",
    ]  # fmt: skip
    money, agreed = [], []
    for client in range(60):
        left, day = 0, date(2024, 1, 3)
        agreed.append([f"C{client:03}", f"Client {client}", Decimal(rng.randint(100, 900))])
        for _ in range(8):
            day += timedelta(days=rng.randint(1, 20))
            amount = (
                -rng.randint(1, left) if left > 40 and rng.random() < 0.6 else rng.randint(50, 900)
            )
            left += amount
            money.append([day, f"C{client:03}", amount])
        if client in (11, 47):
            money.append([day + timedelta(days=3), f"C{client:03}", -left - 250])
    rng.shuffle(money)
    ledger = [[f"L{i:04}", *row] for i, row in enumerate(sorted(money, key=lambda row: row[0]))]
    tables = {
        "book": (head, book),
        "clients": (["Client", "Name", "Agreed"], agreed),
        "ledger": (["Entry No", "Date", "Client", "Amount"], ledger),
    }
    flags = _flagged(tmp_path, tables)
    given = sum(row[4] == "Given" and row[7] == "" for row in book)
    assert flags["Case missing in book of Kind Given"] == given > 0
    # The last row of a thing has none after it by which what is lost would be seen.
    assert len(lost) - 1 <= flags["Stock of book carried forward"] <= len(lost)
    assert flags["Unit Price of book other than the Medicine's"] == 3
    assert flags["Amount of ledger beyond what Client has"] == 2


@pytest.mark.long
def test_what_hours_of_work_are_asked(tmp_path):
    """Hours on days of leave, entered twice, entered long after, and far more of one kind by one of those who have no
    preparer."""
    rng = random.Random(11)
    people = [f"E{n}" for n in range(12)]
    staff = [[who, f"Name {who}", 80 + 10 * (n % 3)] for n, who in enumerate(people)]
    projects = [[f"P{n}", f"C{n % 3}"] for n in range(8)]
    away, hours = [], []
    for who in people:
        first = date(2025, 1, 1) + timedelta(days=rng.randint(10, 150))
        away.append([who, first, first + timedelta(days=4)])
        for n in range(170):
            day = date(2025, 1, 1) + timedelta(days=n)
            if not first <= day <= away[-1][2]:
                for project, _ in rng.sample(projects, 2):
                    kind = "travel" if who == "E5" and rng.random() < 0.5 else rng.choice(("visit", "report", "review"))  # fmt: skip
                    entered = day + timedelta(days=rng.randint(0, 6))
                    hours.append([f"H{len(hours)}", who, project, day, rng.randint(4, 20) / 4, kind, entered])  # fmt: skip
    hours += [[f"H{len(hours) + n}", *row[1:]] for n, row in enumerate(hours[100:103])]
    hours += [[f"H{len(hours) + n}", who, "P1", first, 3.25, "visit", first] for n, (who, first, _) in enumerate(away[:3])]  # fmt: skip
    for row in hours[900:902]:
        row[6] = row[3] + timedelta(days=100)
    rates = {who: rate for who, _, rate in staff}
    hours = [[*row[:5], rates[row[1]], round(row[4] * rates[row[1]], 2), *row[5:]] for row in hours]
    flags = _flagged(
            tmp_path,
            {
                "staff": (["emp", "name", "rate"], staff),
                "projects": (["code", "client"], projects),
                "leave": (["emp", "first", "last"], away),
                "hours": (["entry", "emp", "project", "day", "hours", "rate", "value", "activity", "entered"], hours),
            },
    )  # fmt: skip
    assert flags["day of hours within leave"] == 3
    assert flags["emp and project of hours twice in a day"] == 3
    assert flags["entered of hours long after day"] == 2
    assert flags["activity of hours by emp"] == 1


@given(
    rows=st.lists(
        st.tuples(*[st.sampled_from(["ana", "Ana ", "luz", "Lúz", "eva", None])] * 2),
        min_size=1,
        max_size=20,
    )
)
@settings(max_examples=15, deadline=None)
def test_one_person_who_does_what_two_should(populate, rows):
    """Whatever the case, accents and blanks about a name."""
    named = [
        {"n": f"N{i:02}", "day": date(2024, 1, 1), "made": made, "checked": checked}
        for i, (made, checked) in enumerate(rows)
    ]
    if not any(row["made"] for row in named) or not any(row["checked"] for row in named):
        return
    found = screened(populate(named, id="n", date="day"), "range", two_people=["made", "checked"])
    plain = {"ana": 1, "Ana ": 1, "luz": 2, "Lúz": 2, "eva": 3}
    assert {flag["subject"]["n"] for flag in found["flags"]} == {
        row["n"]
        for row in named
        if row["made"] and row["checked"] and plain[row["made"]] == plain[row["checked"]]
    }
