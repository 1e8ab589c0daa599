"""What is proposed of a marketplace and of tenders: fees by the plan of their seller, the seller of an order and of its
articles, cards of refunds, sums of a month, awards that are not the lowest bid, and rows that are said to be there."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json, populated, screened
from folders import asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
FEES = {"basic": Decimal("0.12"), "plus": Decimal("0.09"), "charity": Decimal(0)}


def _price(rng, median):
    return Decimal(f"{rng.lognormvariate(0, 0.7) * median:.2f}")


def _sales(rng, wrong):
    plans = list(FEES)
    sellers = [{"seller": f"SL{n:02}", "joined": date(2022, 1, 1 + n), "plan": plans[n % 3]} for n in range(18)]  # fmt: skip
    items = [{"item": f"IT{n:03}", "seller": sellers[n % 18]["seller"], "list_price": _price(rng, 30)} for n in range(90)]  # fmt: skip
    orders, lines, refunds = [], [], []
    for n in range(900):
        seller = rng.choice(sellers)["seller"]
        own = rng.sample([i for i in items if i["seller"] == seller], rng.choice((1, 2)))
        day, card = date(2025, 1, 2) + timedelta(days=n * 180 // 900), f"4{rng.randrange(10**11)}"
        orders.append({"order": f"O{n:04}", "placed": day, "seller": seller, "card": card, "total": sum(i["list_price"] for i in own)})  # fmt: skip
        lines += [{"line": f"O{n:04}-{i}", "order": f"O{n:04}", "item": each["item"], "price": each["list_price"]} for i, each in enumerate(own)]  # fmt: skip
        if n % 4 == 1 and day.month < 6:
            refunds.append({"refund": f"R{n:04}", "order": f"O{n:04}", "on": day + timedelta(days=3), "card": card, "amount": orders[-1]["total"]})  # fmt: skip
    for each in rng.sample(refunds, 5):
        each["card"] = "499200007731"
        wrong["card"].add(each["order"])
    for each in rng.sample(lines, 4):
        named = next(o["seller"] for o in orders if o["order"] == each["order"])
        each["item"] = rng.choice([i["item"] for i in items if i["seller"] != named])
        wrong["seller"].add(each["order"])
    return sellers, items, orders, lines, refunds


def _payouts(rng, wrong, sellers, orders, refunds):
    seller_of = {o["order"]: o["seller"] for o in orders}
    found = []
    for month in range(1, 7):
        for each in sellers:
            own = [o["total"] for o in orders if (o["seller"], o["placed"].month) == (each["seller"], month)]  # fmt: skip
            back = [r["amount"] for r in refunds if (seller_of[r["order"]], r["on"].month) == (each["seller"], month)]  # fmt: skip
            found.append({"payout": f"P{len(found):03}", "seller": each["seller"], "month": f"2025-{month:02}", "gross": sum(own, Decimal(0)), "refunded": sum(back, Decimal(0))})  # fmt: skip
    plan_of = {each["seller"]: each["plan"] for each in sellers}
    for row in rng.sample(found, 4):
        row["gross"] += 250
        wrong["gross"].add((row["seller"], row["month"]))
    for row in rng.sample([row for row in found if row["refunded"] and (row["seller"], row["month"]) not in wrong["gross"]], 3):  # fmt: skip
        row["refunded"] = Decimal("0.00")
        wrong["refunded"].add((row["seller"], row["month"]))
    for row in found:
        row["fee"] = (row["gross"] * FEES[plan_of[row["seller"]]]).quantize(CENT)
    for row in rng.sample([row for row in found if row["gross"] > 100], 4):
        row["fee"] = (row["gross"] * Decimal("0.05")).quantize(CENT)
        wrong["fee"].add(row["payout"])
    for row in found:
        row["net"] = row["gross"] - row["fee"] - row["refunded"]
    return found


@pytest.fixture(scope="module")
def sold(tmp_path_factory):
    rng, wrong = random.Random(3), defaultdict(set)
    sellers, items, orders, lines, refunds = _sales(rng, wrong)
    payouts = _payouts(rng, wrong, sellers, orders, refunds)
    world = {"sellers": sellers, "items": items, "orders": orders, "lines": lines, "refunds": refunds, "payouts": payouts}  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("sold"), world)
    return case, screens, asked_for(case), wrong


@pytest.mark.parametrize(
    ("kind", "screen", "key"),
    [
        ("fee", "fee of payouts by plan of its seller", "payout"),
        ("card", "card of refunds other than in orders", "order"),
        ("seller", "seller of lines by order other than by item", "order"),
    ],
)
def test_each_wrong_row_of_a_market_is_asked_for_and_no_other(sold, kind, screen, key):
    _, _, asked, wrong = sold
    assert {item["subject"][key] for item in asked[screen]} == wrong[kind]


@pytest.mark.parametrize(
    ("kind", "screen"),
    [
        ("gross", "gross by seller and month of payouts and orders"),
        # A refund names its order, and the order its seller; most months have none.
        ("refunded", "refunded by seller and month of payouts and refunds"),
    ],
)
def test_sums_of_a_month_are_those_of_its_rows(sold, kind, screen):
    case, _, asked, wrong = sold
    found = {(item["subject"]["seller"], rows(case, item)[0]["month"][:7]) for item in asked[screen]}  # fmt: skip
    assert found == wrong[kind]


def rows(case, item):
    return inside_json("dig", item["id"], "--rows", cwd=case)["rows"]


def test_a_rate_by_kind_is_told_with_its_kinds(sold):
    _, screens, asked, _ = sold
    screen = screens["fee of payouts by plan of its seller"]
    assert screen["settings"]["expect"].startswith("CASE seller.plan WHEN 'basic' THEN 0.12 WHEN")
    assert "gross times 0.12 for basic, 0 for charity and 0.09 for plus" in screen["because"]
    # A fee is no amount in its role: what differs is told, and no money is said of it.
    assert {item["amount"] for item in asked[screen["name"]]} == {None}


@pytest.fixture(scope="module")
def tendered(tmp_path_factory):
    rng, wrong = random.Random(8), defaultdict(set)
    vendors = [{"vendor": f"V{n:02}", "name": f"{chr(65 + n % 26)}{n} Works", "since": date(2019, 1, 1 + n % 28)} for n in range(30)]  # fmt: skip
    tenders, bids = [], []
    for n in range(120):
        own = [
            {"bid": f"B{len(bids) + i:04}", "tender": f"T{n:03}", "vendor": each["vendor"], "price": _price(rng, 40_000), "score": rng.randint(40, 95)}
            for i, each in enumerate(rng.sample(vendors, rng.choice((3, 4, 5))))
        ]  # fmt: skip
        best = sorted(own, key=lambda bid: bid["price"])
        won = best[1] if n in (40, 71, 99) else best[0]
        if won is not best[0]:
            wrong["lowest"].add(won["bid"])
        day = date(2024, 1, 2) + timedelta(days=2 * n)
        tenders.append({"tender": f"T{n:03}", "closed": day, "winner": won["vendor"], "value": won["price"], "received": len(own) - (n in (13, 88))})  # fmt: skip
        bids += own
    wrong["received"] = {"T013", "T088"}
    case, _ = taken_in(tmp_path_factory.mktemp("tendered"), {"vendors": vendors, "tenders": tenders, "bids": bids})  # fmt: skip
    return case, asked_for(case), wrong, tenders


def test_the_award_that_is_not_the_lowest_bid(tendered):
    case, asked, wrong, _ = tendered
    found = asked[
        "price of bids not the lowest of its tender where vendor is the winner of its tender"
    ]
    assert {item["subject"]["bid"] for item in found} == wrong["lowest"]
    said = inside("why", found[0]["id"], cwd=case).stdout
    assert "above the lowest of its tender, of bids.csv line" in " ".join(said.split())


def test_rows_that_are_said_to_be_there_and_are_not(tendered):
    case, asked, wrong, tenders = tendered
    found = asked["rows by tender of bids and received of tenders"]
    assert {item["subject"]["tender"] for item in found} == wrong["received"]
    # Rows are counted, and no money.
    assert {item["amount"] for item in found} == {None}
    said = inside("why", found[0]["id"], cwd=case).stdout
    n = next(t["received"] for t in tenders if t["tender"] == found[0]["subject"]["tender"])
    assert f"bids has {n + 1} rows where received of tenders is {n}: 1 above" in said


def test_what_is_chosen_against_a_plain_look(tmp_path):
    """Of equal ones each may be; rows without a number or a group are not compared."""
    rng = random.Random(4)
    plain = [
        {"id": f"B{n}", "lot": rng.choice(["A", "B", "C", None]), "score": rng.choice([None, 1, 2, 3]), "won": rng.choice(["y", "n"])}
        for n in range(60)
    ]  # fmt: skip
    with populated(tmp_path, {"bids": plain}, id="id") as bids:
        for end, best in (("highest", max), ("lowest", min)):
            found = screened(bids, "range", **{end: "score", "per": ["lot"], "chosen": "won = 'y'"})
            wanted = {}
            for row in plain:
                own = [
                    r["score"] for r in plain if r["lot"] == row["lot"] and r["score"] is not None
                ]
                if row["lot"] and row["score"] is not None and row["won"] == "y":
                    wanted[row["id"]] = abs(row["score"] - best(own))
            wanted = {key: by for key, by in wanted.items() if by}
            assert {f["subject"]["id"]: f["worse"] for f in found["flags"]} == wanted
