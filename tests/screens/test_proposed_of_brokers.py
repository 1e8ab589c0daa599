"""What is proposed of a broker's trades: commissions by tier with a minimum, what is paid by the side of a trade, when it
settles, and cash that goes the other way."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import pytest

from folders import PLAIN, asked_for, taken_in

pytestmark = pytest.mark.long

CENT = Decimal("0.01")
TIERS = {"retail": Decimal("0.0035"), "private": Decimal("0.0020"), "fund": Decimal("0.0008")}
LEAST = Decimal("9.95")


def _settles(day, working):
    while working:
        day += timedelta(days=1)
        working -= day.weekday() < 5
    return day


@pytest.fixture(scope="module")
def traded(tmp_path_factory):
    rng, wrong = random.Random(5), defaultdict(set)
    clients = [{"client": f"C{n:03}", "name": f"{chr(65 + n % 26)}. {'Holder' if n % 2 else 'Keeper'} {n}", "tier": list(TIERS)[n % 3], "opened": date(2018, 1, 1 + n % 28)} for n in range(60)]  # fmt: skip
    trades, cash = [], []
    for n in range(900):
        client, day = (
            rng.choice(clients),
            _settles(date(2025, 1, 1) + timedelta(days=n * 300 // 900), 1),
        )
        shares, price = rng.choice((10, 50, 100, 200)), Decimal(f"{rng.lognormvariate(4.5, 0.7):.2f}")  # fmt: skip
        # The worth is made by another rule, and the commission of it all the same.
        worth = shares * price
        charge = max((worth * TIERS[client["tier"]]).quantize(CENT), LEAST)
        if n in (100, 350, 601):
            charge = max((worth * Decimal("0.011")).quantize(CENT), Decimal("31.00"))
            wrong["commission"].add(f"T{n:04}")
        side, fee = (
            ("bought", Decimal(0))
            if rng.random() < 0.5
            else ("sold", Decimal(rng.randint(5, 90)) / 100)
        )
        net = worth + charge if side == "bought" else worth - charge - fee
        if n in (55, 222, 640, 801):
            net += 500
            wrong[side].add(f"T{n:04}")
        late = n in (77, 500, 733)
        if late:
            wrong["settled"].add(f"T{n:04}")
        trades.append({
            "trade": f"T{n:04}", "traded": day, "client": client["client"], "side": side, "shares": shares, "price": price, "worth": worth, "commission": charge,
            "duty": fee, "net": net, "settled": _settles(day, 2 + 5 * late),
        })  # fmt: skip
        booked = net if n not in (9, 444) else net - 250
        if booked != net:
            wrong["cash"].add(f"T{n:04}")
        cash.append({"movement": f"M{n:04}", "booked": trades[-1]["settled"], "trade": f"T{n:04}", "amount": -booked if side == "bought" else booked})  # fmt: skip
    case, screens = taken_in(tmp_path_factory.mktemp("traded"), {"clients": clients, "trades": trades, "cash": cash}, PLAIN)  # fmt: skip
    return screens, asked_for(case), wrong


@pytest.mark.parametrize(
    ("kind", "screen", "key"),
    [
        # Small trades bear the least that is charged, which tells nothing of the rate.
        ("commission", "commission of trades by tier of its client", "trade"),
        ("bought", "net of trades is worth and commission where side is bought", "trade"),
        ("sold", "net of trades is worth less commission less duty where side is sold", "trade"),
        ("settled", "settled of trades more than 4 days after traded", "trade"),
        # One table tells the way by the sign, and the other in words.
        ("cash", "amount by trade of cash and trades", "trade"),
    ],
)
def test_each_wrong_trade_is_asked_for_and_no_other(traded, kind, screen, key):
    _, asked, wrong = traded
    assert {item["subject"][key] for item in asked[screen]} == wrong[kind] != set()


def test_what_is_proposed_is_told_with_what_it_is_taken_from(traded):
    screens, _, _ = traded
    charge = screens["commission of trades by tier of its client"]
    assert charge["settings"]["expect"].startswith(
        "greatest(CASE client.tier WHEN 'fund' THEN 0.0008"
    )
    assert charge["because"].endswith("0.002 for private and 0.0035 for retail, at least 9.95")
    assert screens["amount by trade of cash and trades"]["settings"]["equals"] == "abs(sum(amount))"
    late = screens["settled of trades more than 4 days after traded"]
    assert late["settings"]["most_days"] == 4 and "far" not in late["purpose"]
