"""What is proposed of tables that state figures once for a period or a thing: returns by quarter, sheets by month, a trial
balance, statements of a bank, a report by department."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, populated
from folders import asked_for, taken_in
from sabueso.screens.recompute.stated import proposed_stated

pytestmark = pytest.mark.long


def _day(rng):
    return date(2025, 1, 1) + timedelta(days=rng.randrange(365))


def _amount(rng, mean=5):
    return Decimal(f"{rng.lognormvariate(mean, 0.9):.2f}")


def _by(rows, key, number="amount"):
    sums = defaultdict(Decimal)
    for row in rows:
        sums[key(row)] += row[number]
    return sums


@pytest.fixture(scope="module")
def stated(tmp_path_factory):
    """A house that sells, spends and pays, and what it states of that."""
    rng = random.Random(4)
    ledger = [{"entry": f"J{n:05}", "posted": _day(rng), "account": f"{4000 + n % 12 * 10}", "amount": rng.choice([1, -1]) * _amount(rng)} for n in range(2000)]  # fmt: skip
    balance = [{"account": key, "name": f"Account {key}", "balance": total + (310 if key == "4070" else 0)} for key, total in sorted(_by(ledger, lambda r: r["account"]).items())]  # fmt: skip
    bank = [{"ref": f"B{n:04}", "value_date": _day(rng), "amount": rng.choice([1, 1, -1]) * _amount(rng)} for n in range(600)]  # fmt: skip
    moved, opening, statements = _by(bank, lambda r: r["value_date"].month), Decimal(12000), []
    for month in range(1, 13):
        closing, end = opening + moved[month], date(2025 + month // 12, month % 12 + 1, 1)
        statements.append({"statement_date": end - timedelta(days=1), "opening": opening, "closing": closing + (75 if month == 7 else 0)})  # fmt: skip
        opening = closing
    shops = [{"shop": f"S{n}", "region": ("North", "South", "West")[n % 3]} for n in range(9)]
    region = {row["shop"]: row["region"] for row in shops}
    sales = [{"line": f"L{n:05}", "sold": _day(rng), "shop": f"S{rng.randrange(9)}", "status": rng.choice(["sale"] * 8 + ["refund", "void"]), "amount": _amount(rng, 3.5)} for n in range(3000)]  # fmt: skip
    kept = _by(
        [row for row in sales if row["status"] != "void"],
        lambda r: (r["sold"].month, region[r["shop"]]),
    )
    sheet = [{"period": f"{month:02}/2025", "region": name, "sales": total + (450 if (month, name) == (5, "West") else 0)} for (month, name), total in sorted(kept.items())]  # fmt: skip
    wages = [{"employee": f"E{who:02}", "paid": date(year, month, 28), "gross": (gross := _amount(rng, 7)), "tax": (gross / 5).quantize(Decimal("0.01"))} for year in (2024, 2025) for month in range(1, 13) for who in range(20)]  # fmt: skip
    declared = _by(wages, lambda r: f"{r['paid'].year}-Q{(r['paid'].month + 2) // 3}", "tax")
    returns = [{"quarter": key, "declared": total - (1000 if key == "2025-Q2" else 0)} for key, total in sorted(declared.items())]  # fmt: skip
    costs = [{"claim": f"X{n:04}", "day": _day(rng), "department": rng.choice(["IT", "People"]), "category": rng.choice(["travel", "supplies", "services"]), "amount": _amount(rng)} for n in range(1200)]  # fmt: skip
    of_kind = _by(costs, lambda r: (r["day"].month, r["department"], r["category"]))
    report = [{"month": 202500 + month, "department": name, **{kind: of_kind[month, name, kind] - (88 if (month, name, kind) == (9, "IT", "travel") else 0) for kind in ("services", "supplies", "travel")}} for month in range(1, 13) for name in ("IT", "People")]  # fmt: skip
    tables = {"ledger": ledger, "trial_balance": balance, "bank": bank, "statements": statements, "shops": shops, "sales": sales, "regional_sheet": sheet, "payroll": wages, "tax_returns": returns, "costs": costs, "cost_report": report}  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("stated"), tables)
    return case, screens, asked_for(case)


STATED = {
    "balance of trial_balance and amount of ledger by account": {"account": "4070"},
    "closing less opening of statements and amount of bank by month": {"month": "2025-07"},
    "sales of regional_sheet and amount where status is not void of sales by region and month": {"region": "West", "month": "2025-05"},
    "declared of tax_returns and tax of payroll by quarter": {"quarter": "2025-Q2"},
    "travel of cost_report and amount where category is travel of costs by department and month": {"department": "IT", "month_of(month)": "2025-09"},
}  # fmt: skip


@pytest.mark.parametrize("name", STATED)
def test_the_one_period_that_is_stated_otherwise_is_asked_for(stated, name):
    (found,) = stated[2][name]
    assert found["subject"] == STATED[name]


def test_what_is_stated_as_it_is_is_not_asked_for(stated):
    """Each figure once, and no screen of those that tie throughout."""
    found = [s["name"] for s in stated[1].values() if s["test"] == "recompute"]
    assert sorted(found) == sorted(STATED)


def test_both_figures_are_told_as_they_are_made(stated):
    case, _, asked = stated
    (found,) = asked["closing less opening of statements and amount of bank by month"]
    said = " ".join(inside("why", found["id"], cwd=case).stdout.split())
    assert "(sum(closing) - sum(opening)) where amount of bank is" in said
    assert "75.00 above" in said and "All of its rows are of" not in said


def test_figures_that_no_row_of_a_period_has_are_compared_with_nothing(tmp_path):
    rows = [{"day": date(2025, m, 1), "amount": None} for m in range(1, 9)]
    rows.append({"day": None, "amount": Decimal("3.10")})
    moved = [{"day": date(2025, 1 + n % 8, 3), "amount": Decimal(n) / 4} for n in range(40)]
    tables = {"sheet": rows, "moved": moved}
    with populated(tmp_path, tables, amount="amount", date="day") as sheet:
        assert not list(proposed_stated(sheet))


def test_what_was_cancelled_is_no_part_of_what_is_paid_out(tmp_path):
    """Four in a hundred orders are cancelled: three in four sums of a seller and month are right with them all the same, and
    of what differs all but two are so without them."""
    rng, orders = random.Random(4), []
    for n in range(4_000):
        day = date(2025, 1, 2) + timedelta(days=n * 235 // 4_000)
        orders.append({
            "order": f"O{70_000 + n}", "placed": day, "seller": f"S{rng.randrange(90):02}", "total": Decimal(rng.randint(300, 9_000)) / 100,
            "status": "cancelled" if rng.random() < 0.04 else "shipped",
        })  # fmt: skip
    sums = defaultdict(Decimal)
    for row in orders:
        if row["status"] == "shipped":
            sums[row["seller"], f"{row['placed']:%Y-%m}"] += row["total"]
    payouts = [
        {"payout": f"P{n:04}", "month": month, "seller": seller, "gross": total}
        for n, ((seller, month), total) in enumerate(sorted(sums.items(), key=lambda each: each[0][::-1]))
    ]  # fmt: skip
    wrong = [payouts[50], payouts[410]]
    for row in wrong:
        row["gross"] += 120
    sellers = [{"seller": f"S{n:02}", "shop": f"Shop {n}"} for n in range(90)]
    case, screens = taken_in(tmp_path, {"orders": orders, "payouts": payouts, "sellers": sellers})
    name = next(name for name in screens if name.startswith("gross of payouts and total"))
    assert "where status is shipped" in name
    found = [item["subject"]["seller"] for item in asked_for(case)[name]]
    assert sorted(found) == sorted(row["seller"] for row in wrong)
