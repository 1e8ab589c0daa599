"""What tables name and come to is worked out once and held against each other one here: as if the engine compared each two."""

from __future__ import annotations

import json
import random
from datetime import date, timedelta
from decimal import Decimal

import pytest

from conftest import inside, inside_json
from folders import taken_in
from sabueso.screens.match import either
from sabueso.screens.recompute import monthly


def _folder(rng):
    customers = [{"customer": f"C{n:03d}", "name": f"Firm {n}"} for n in range(60)]
    drops, paid = [], []
    for row in customers:
        for month in range(1, 7):
            days = [date(2024, month, 1) + timedelta(days=rng.randrange(28)) for _ in range(3)]
            amounts = [Decimal(rng.randint(1_000, 90_000)) / 100 for _ in days]
            drops += [
                {"drop": f"D{len(drops) + k:05d}", "customer": row["customer"], "date": day, "amount": amount}
                for k, (day, amount) in enumerate(zip(days, amounts, strict=True))
            ]  # fmt: skip
            wrong = Decimal("55.10") if (row["customer"], month) == ("C017", 4) else Decimal(0)
            paid.append(
                {"payout": f"P{len(paid):05d}", "customer": row["customer"], "date": date(2024, month, 28),
                 "amount": sum(amounts, wrong)}
            )  # fmt: skip
    fines = [{"fine": f"F{n:04d}", "place": rng.choice("NESW")} for n in range(400)]
    states = [("settled", range(220)), ("annulled", [*range(220, 300), 12])]
    told = {
        name: [
            {f"{name} no": f"{name[0].upper()}{k:04d}", "fine": f"F{n:04d}",
             "date": date(2024, 1, 5) + timedelta(days=rng.randrange(150))}
            for k, n in enumerate(of)
        ]
        for name, of in states
    }  # fmt: skip
    return {"customers": customers, "drops": drops, "paid": paid, "fines": fines, **told}


@pytest.mark.long
def test_it_is_the_same_as_compared_by_the_engine(tmp_path, monkeypatch):
    case, _ = taken_in(tmp_path, _folder(random.Random(4)))
    held = inside_json("survey", "--propose", cwd=case)
    names = {each["name"] for each in held["screens"]}
    assert "fine of annulled in settled too" in names
    assert any("by customer and month" in name for name in names)
    monkeypatch.setattr(either, "MOST_HELD", 0)
    monkeypatch.setattr(monthly, "MOST_GROUPS", 0)
    told = inside("survey", "--propose", "--format", "json", cwd=case, alone=True).stdout
    assert json.loads(told) == held
