"""What is proposed of movements between wallets: by kind, what the balances before and after them come to."""

from __future__ import annotations

import random
from decimal import Decimal

import pytest

from folders import asked_for, taken_in

CENT = Decimal("0.01")
OUT, INTO = ("CASH_OUT", "TRANSFER", "DEBIT"), ("CASH_IN",)
PLANTED = 12


def _money(rng, mean):
    return Decimal(rng.lognormvariate(mean, 1)).quantize(CENT)


def _row(rng, n):
    kind = rng.choices((*OUT, *INTO, "PAYMENT"), (35, 9, 5, 22, 29))[0]
    amount, held = _money(rng, 7), rng.choice((Decimal(0), _money(rng, 6)))
    there = _money(rng, 9)
    left = held + amount if kind in INTO else max(held - amount, Decimal(0))
    got = there + amount if kind in OUT else max(there - amount, Decimal(0))
    if kind == "PAYMENT":  # shops tell nothing of what they hold
        there = got = Decimal(0)
    return {
        "step": n // 20 + 1, "type": kind, "amount": amount, "nameOrig": f"C{rng.randrange(10**9)}", "oldbalanceOrg": held,
        "newbalanceOrig": left, "nameDest": f"{'M' if kind == 'PAYMENT' else 'C'}{rng.randrange(4_000)}",
        "oldbalanceDest": there, "newbalanceDest": got, "isFraud": 0,
    }  # fmt: skip


@pytest.fixture(scope="module")
def found(tmp_path_factory):
    """Some transfers take all that is held, and are nothing where they should have arrived."""
    rng = random.Random(4)
    rows = [_row(rng, n) for n in range(6_000)]
    odd = rng.sample([n for n, row in enumerate(rows) if row["type"] in OUT[:2]], PLANTED)
    nothing = dict.fromkeys(("newbalanceOrig", "oldbalanceDest", "newbalanceDest"), Decimal(0))
    for n in odd:
        rows[n] |= nothing | {"oldbalanceOrg": rows[n]["amount"], "isFraud": 1}
    case, screens = taken_in(tmp_path_factory.mktemp("wallets"), {"moves": rows})
    return screens, asked_for(case), {n + 2 for n in odd}


def test_balances_are_what_they_come_to_by_kind(found):
    """That all that was held is what is missing of the wrong rows makes it no part of the others; and a mark of yes or no
    is none."""
    screens, queued, odd = found
    told = "newbalanceDest of moves is amount and oldbalanceDest where type is CASH_OUT, DEBIT or TRANSFER"
    assert screens[told]["settings"]["where"] == "type in ('CASH_OUT', 'DEBIT', 'TRANSFER')"
    assert {item["subject"]["line"] for item in queued[told]} == odd
    assert "newbalanceOrig of moves is amount and oldbalanceOrg where type is CASH_IN" in screens
    assert not any("isFraud" in name or "step" in name for name in screens)
