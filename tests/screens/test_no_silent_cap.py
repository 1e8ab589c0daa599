"""Where more is found than is kept or looked at, it is said or refused: nothing is left out in silence."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from decimal import Decimal

import pytest

from conftest import screened
from sabueso.base.errors import UserError
from sabueso.screens.recompute import products, totals
from sabueso.screens.sequence import series
from sabueso.screens.traits import entries, habits, marks

START = date(2024, 1, 1)
ENTRY = {
    "id": "id",
    "account": "account",
    "preparer": "who",
    "amount": "amount",
    "date": "day",
    "entered": "made",
}


def _rows(n=60):
    """Numbers from 1, of which some are there twice or on a day of long before; an amount that is no product."""
    rows = []
    for i in range(1, n + 1):
        day = START + timedelta(days=i + 335 - 300 * (i in (20, 40)))
        for _ in range(2 if i in (10, 30, 50) else 1):
            rows.append(
                {"id": f"N{i}", "day": day, "made": datetime(day.year, day.month, day.day, 9), "who": f"p{i % 3}",
                 "account": f"A{i % 4}", "quantity": 2, "price": Decimal("3.00"), "amount": Decimal("6.00") + i % 2}
            )  # fmt: skip
    return rows


def _codes(content):
    return {c["code"]: c for c in content["cautions"]}


def test_numbers_beyond_those_that_are_looked_at(populate, monkeypatch):
    people = populate(_rows(), id="id", date="day", amount="amount")
    whole = screened(people, "sequence", incomplete=0.1)
    assert whole["flag_count"] == 5 and "more_numbers" not in _codes(whole)
    monkeypatch.setattr(series, "MOST_FOUND", 1)
    found = screened(people, "sequence", incomplete=0.1)
    assert found["flag_count"] == 2
    assert _codes(found)["more_numbers"]["numbers"] == 3


def test_series_that_are_not_named_take_no_place(populate, monkeypatch):
    """An entry's lines have one number each: such a series hides no other's repeats."""
    lines = [{**row, "id": row["id"].replace("N", "E")} for row in _rows() for _ in range(3)]
    people = populate(_rows() + lines, id="id", date="day", amount="amount")
    monkeypatch.setattr(series, "MOST_FOUND", 3)
    found = screened(people, "sequence", find=["repeats"], incomplete=0.1)
    assert {flag["from"] for flag in found["flags"]} == {"N10", "N30", "N50"}


@pytest.mark.parametrize(
    ("module", "asked"),
    [(products, {}), (totals, {"what": "totals", "by": ["account"], "equals": "sum(amount)", "expect": "count(*)"})],
)  # fmt: skip
def test_what_differs_beyond_what_is_kept(populate, monkeypatch, module, asked):
    people = populate(
        _rows(), id="id", date="day", amount="amount", quantity="quantity", price="price"
    )
    whole = screened(people, "recompute", **asked)
    assert "not_all_kept" not in _codes(whole)
    monkeypatch.setattr(module, "MOST_KEPT", 3)
    found = screened(people, "recompute", **asked)
    (group,) = found["groups"]
    assert group["differing"] == whole["groups"][0]["differing"] > 3 == found["flag_count"]
    assert _codes(found)["not_all_kept"]["kept"] == 3


def test_entries_and_values_that_are_too_many(populate, monkeypatch):
    people = populate(_rows(), **ENTRY)
    monkeypatch.setattr(marks, "MOST_MATCHES", 0)
    rows = _rows()
    for day, sign in ((date(2024, 12, 30), 1), (date(2025, 1, 2), -1)):
        rows.append({**rows[0], "id": f"Z{sign}", "day": day, "amount": sign * Decimal("77.01")})
    found = screened(populate(rows, **ENTRY), "traits")
    assert "turned_back" in found["groups"][0]["not_looked_for"]
    monkeypatch.setattr(entries, "MOST_KEPT", 1)
    with pytest.raises(UserError, match="smaller --share"):
        screened(people, "traits", share=0.9, least=1, limit="7.2")
    monkeypatch.setattr(habits, "MOST_VALUES", 2)
    with pytest.raises(UserError, match="of so many it is not told which are rare"):
        screened(people, "traits")
