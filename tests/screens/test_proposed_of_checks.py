"""What is proposed of a restaurant's checks, their lines, its drawers, deposits and shifts."""

from __future__ import annotations

import random
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

import pytest

from conftest import inside, inside_json
from folders import AMERICAN, asked_for, taken_in

pytestmark = pytest.mark.long

PEOPLE = [f"E{n}" for n in range(10, 22)]
GONE, SKIMS, TREATS = PEOPLE[2], PEOPLE[5], PEOPLE[7]
LEFT = date(2025, 2, 20)
DAYS = [date(2025, 1, 2) + timedelta(days=n) for n in range(110)]
TAX = Decimal("0.08875")
MENU = {f"M{n}": Decimal(300 + 75 * n) / 100 for n in range(20)}
REASONS = ["late", "staff meal", "courtesy"]
Row = dict[str, Any]


def _cents(amount: Decimal) -> Decimal:
    return amount.quantize(Decimal("0.01"))


def _priced(check: Row, lines: list[Row]) -> None:
    """What a check comes to by its lines."""
    check["subtotal"] = sum(line["amount"] for line in lines if not line["void"])
    check["discount"] = _cents(check["subtotal"] * check.pop("off", Decimal(0)))
    net = check["subtotal"] - check["discount"]
    check["tax"], check["tip"] = _cents(net * TAX), _cents(net * check.pop("tips"))
    check["total"] = net + check["tax"] + check["tip"]


def _world(rng: random.Random) -> dict[str, list[Row]]:
    checks: list[Row] = []
    items: list[Row] = []
    shifts: list[Row] = []
    drawers: list[Row] = []
    deposits: list[Row] = []
    for day in DAYS:
        on = rng.sample([who for who in PEOPLE if who != GONE or day < LEFT], 5)
        for who in on:
            begin = datetime(day.year, day.month, day.day, 15, rng.randrange(0, 60, 5))
            hours = Decimal(rng.randrange(20, 40)) / 4
            end = begin + timedelta(minutes=int(hours * 60))
            shifts.append(
                {
                    "shift_id": f"S{len(shifts):04}",
                    "emp_id": who,
                    "date": day,
                    "clock_in": begin,
                    "clock_out": end,
                    "hours": hours,
                }
            )
        for _ in range(18):
            number, who = 10_000 + len(checks), rng.choice(on)
            lines: list[Row] = []
            for _ in range(rng.randrange(3, 9)):
                dish, many = rng.choice(list(MENU)), rng.choice([1, 1, 2])
                void = "Y" if rng.random() < 0.02 else ""
                lines.append(
                    {
                        "line_id": f"L{len(items) + len(lines):06}",
                        "check_no": number,
                        "item": dish,
                        "qty": many,
                        "unit_price": MENU[dish],
                        "amount": MENU[dish] * many,
                        "void": void,
                    }
                )
            skims = who == SKIMS and rng.random() < 0.25
            if skims:
                lines[0]["void"] = "Y"
            treats = who == TREATS and rng.random() < 0.2
            some = treats or rng.random() < 0.05
            check: Row = {
                "check_no": number,
                "business_date": day,
                "server": who,
                "discount_reason": ("courtesy" if treats else rng.choice(REASONS)) if some else "",
                "off": Decimal(rng.choice([10, 20])) / 100 if some else Decimal(0),
                "tips": Decimal(str(round(rng.gauss(0.19, 0.02), 3)))
                if rng.random() < 0.7
                else Decimal(0),
            }
            _priced(check, lines)
            items += lines
            checks.append(check)
        expected = _cents(Decimal(rng.randrange(20_000, 90_000)) / 100)
        over = Decimal(rng.choice([0, 0, 0, 1, -1, 2])) / 4
        slip = 5_000 + len(drawers)
        drawers.append(
            {
                "drawer_id": f"D{len(drawers):03}",
                "date": day,
                "cashier": rng.choice(on),
                "expected_cash": expected,
                "counted_cash": expected + over,
                "over_short": over,
                "deposit_slip": slip,
            }
        )
        deposits.append(
            {
                "bank_ref": f"B{len(deposits):03}",
                "deposit_date": day + timedelta(days=rng.choice([1, 1, 2])),
                "slip": slip,
                "amount": expected + over,
            }
        )
    people = [
        {
            "emp_id": who,
            "name": f"Name {who}",
            "hired": date(2023, 3, 14) + timedelta(days=9 * n),
            "left": LEFT if who == GONE else "",
        }
        for n, who in enumerate(PEOPLE)
    ]
    return {
        "checks": checks,
        "items": items,
        "shifts": shifts,
        "drawers": drawers,
        "deposits": deposits,
        "employees": people,
    }


def _planted(world: dict[str, list[Row]], rng: random.Random) -> dict[str, set[str]]:
    """What is wrong, by what asks for it."""
    checks, shifts, deposits = world["checks"], world["shifts"], world["deposits"]
    late = [c for c in checks if c["business_date"] > LEFT + timedelta(days=5)]
    after, absent = rng.sample(late, 3), rng.sample(checks[:400], 3)
    for check in after:
        check["server"] = GONE
    for check in absent:
        on = {s["emp_id"] for s in shifts if s["date"] == check["business_date"]}
        check["server"] = next(who for who in PEOPLE if who not in on and who != GONE)
    taxed = rng.sample([c for c in checks if c["tax"] > 1 and c not in after], 4)
    for check in taxed:
        check["tax"] -= Decimal("0.50")
        check["total"] -= Decimal("0.50")
    raised = rng.sample([c for c in checks if c["tip"] and c not in taxed], 5)
    for check in raised:
        more = _cents(check["subtotal"] * Decimal("1.1"))
        check["tip"] += more
        check["total"] += more
    again = [{**shift, "shift_id": f"T{n}"} for n, shift in enumerate(rng.sample(shifts, 3))]
    longer = rng.sample(shifts, 4)
    for shift in longer:
        shift["hours"] += 2
    shifts += again
    short, slow = deposits[30:33], deposits[60:62]
    for deposit in short:
        deposit["amount"] -= 100
    for deposit in slow:
        deposit["deposit_date"] += timedelta(days=12)
    return {
        "server.left of checks before business_date": {str(c["check_no"]) for c in after},
        "tax of checks is 0.08875 times (subtotal less discount)": {
            str(c["check_no"]) for c in taxed
        },
        "tip of checks out of proportion to subtotal": {str(c["check_no"]) for c in raised},
        "hours of shifts is the hours from clock_in to clock_out": {s["shift_id"] for s in longer},
        "amount by slip of deposits and drawers": {str(d["slip"]) for d in short},
        "deposit_date of deposits long after slip.date": {str(d["deposit_date"]) for d in slow},
        "server of checks without shifts": {c["server"] for c in [*after, *absent]},
        "emp_id of shifts twice in a day": {s["emp_id"] for s in again},
    }


@pytest.fixture(scope="module")
def taken(tmp_path_factory):
    """The case, its programme by name, and what is wrong in it."""
    rng = random.Random(3)
    world = _world(rng)
    wrong = _planted(world, rng)
    world["menu"] = [{"item": item, "price": price} for item, price in MENU.items()]
    return *taken_in(tmp_path_factory.mktemp("checks"), world, AMERICAN), wrong


def test_days_of_one_file_have_one_order(taken):
    case, _, _ = taken
    assert f"{LEFT:%Y-%m-%d}" in inside("dig", "employees", "--where", "left is not null", "--rows", cwd=case).stdout  # fmt: skip


def test_each_wrong_row_is_asked_for_and_next_to_nothing_else(taken):
    case, screens, wrong = taken
    exceptions = asked_for(case)
    for name, expected in wrong.items():
        assert name in screens, (name, sorted(screens))
        told = exceptions.get(name, [])
        labels = " ".join(str(e["label"]) for e in told).replace(" · ", " ")
        assert all(each in labels for each in expected), (name, expected, labels)
        assert len(told) <= len(expected) + 2, (name, labels)


def test_whoever_has_more_of_a_kind_is_asked_for_where_most_rows_have_none(taken):
    case, screens, _ = taken
    for name, table, who in (
        ("discount_reason of checks by server", "checks", TREATS),
        ("void of items by check_no.server", "items", SKIMS),
    ):
        settings = screens[name]["settings"]
        of, by = settings["of"][0], settings["by"][0]
        assert "coalesce" in of
        found = inside_json("try", "crosstab", table, "--of", of, "--by", by, cwd=case)
        assert {who in str(flag["subject"]) for flag in found["flags"]} == {True}


def test_sums_are_compared_without_the_kind_that_is_left_out_of_them(taken):
    _, screens, _ = taken
    sums = screens["amount by check_no of items and subtotal of checks"]
    assert "void" in sums["settings"]["where"] and "without rows whose void is Y" in sums["because"]
