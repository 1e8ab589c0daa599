"""A window of days around a date, against plain counts of the days of random ledgers."""

from __future__ import annotations

from collections import Counter, defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal

import numpy as np
import pytest
import scipy.stats
from hypothesis import assume, given
from hypothesis import strategies as st

from conftest import screened
from sabueso.screens.event.test import LEAST_INSIDE as LEAST

START, LONG = date(2024, 2, 20), 60
CENT = Decimal("0.01")
rows_of_days = st.lists(
    st.tuples(
        st.one_of(st.none(), st.integers(0, LONG - 1)),
        st.sampled_from(["S1", "S2", "S3", None]),
        st.one_of(st.none(), st.integers(-500, 900)),
    ),
    min_size=6,
    max_size=40,
)


@given(
    rows_of_days, st.integers(10, LONG - 11), st.integers(1, 9), st.sampled_from(["before", "after", "around"]),
    st.integers(0, 9), st.booleans(), st.sampled_from([0.9, 0.3, 0.05]),
)  # fmt: skip
def test_windows_of_random_ledgers(populate, drawn, at_day, window, side, crowd, with_hours, alpha):
    day_of = {k: START + timedelta(days=k) for k in range(LONG)}
    crowded = [(at_day - 1 - k % window if side != "after" else at_day + 1 + k % window, "S1", 100) for k in range(crowd)]  # fmt: skip
    ends = [(0, "S2", 1), (LONG - 1, "S3", 1)]
    rows = []
    for i, (day, who, cents) in enumerate(ends + drawn + crowded):
        when = None if day is None else day_of[day]
        if with_hours and when is not None:
            when = datetime(when.year, when.month, when.day, 23, i % 60)
        amount = None if cents is None else cents * CENT
        rows.append({"id": f"R{i:02}", "day": when, "payee": who, "amount": amount})
    at = day_of[at_day]
    people = populate(rows, id="id", date="day", party="payee", amount="amount")
    found = screened(people, "event", at=at.isoformat(), window=window, side=side, alpha=alpha)
    first = at + timedelta(days=1) if side == "after" else at - timedelta(days=window)
    last = at - timedelta(days=1) if side == "before" else at + timedelta(days=window)
    used = [
        {**r, "day": r["day"].date() if with_hours else r["day"]}
        for r in rows
        if None not in r.values()
    ]
    inside = [r for r in used if first <= r["day"] <= last]
    (group,) = found["groups"]
    assert (group["rows"], group["rows_inside"]) == (len(used), len(inside))
    assert Decimal(group["sum"]) == sum((r["amount"] for r in inside), Decimal(0))
    assert found["population"]["left_out"] == {
        reason: n
        for reason, n in (
            ("missing", sum(r["amount"] is None for r in rows)),
            ("missing_date", sum(r["day"] is None and r["amount"] is not None for r in rows)),
            ("missing_key", sum(r["payee"] is None and None not in (r["day"], r["amount"]) for r in rows)),
        )
        if n
    }  # fmt: skip
    assert group["zero_days"] == LONG - len({r["day"] for r in used})
    daily = defaultdict(Decimal)
    for row in used:
        daily[row["day"]] += row["amount"]
    listed = [(date.fromisoformat(d["day"]), d["rows"], Decimal(d["sum"])) for d in group["days"]]
    on = Counter(r["day"] for r in used)
    span = [first + timedelta(days=k) for k in range((last - first).days + 1)]
    assert listed == [(day, on[day], daily[day]) for day in span]
    outside = np.array([float(daily[d]) for d in day_of.values() if not first <= d <= last])
    if outside.std(ddof=1) > 0:
        spread = outside.std(ddof=1) * np.sqrt(len(span) * (1 + len(span) / len(outside)))
        z = (float(group["sum"]) - len(span) * outside.mean()) / spread
        assert group["z"] == pytest.approx(z, abs=1e-9)

    # Who has more of the days of the window than of all days: days with rows, and not rows.
    days = {(r["payee"], r["day"]) for r in used}
    within = {pair for pair in days if first <= pair[1] <= last}
    p = {}
    for who in {r["payee"] for r in used}:
        own, here = (sum(pair[0] == who for pair in pairs) for pairs in (days, within))
        p[who] = float(scipy.stats.hypergeom.sf(here - 1, len(days), len(within), own)) if here else 1.0  # fmt: skip
    adjusted, most = {}, 0.0
    for place, who in enumerate(sorted(p, key=lambda w: p[w])):
        most = max(most, min(1.0, (len(p) - place) * p[who]))
        adjusted[who] = most
    assume(all(abs(a - alpha) > 1e-9 for a in adjusted.values()))
    told = {f["subject"]["payee"]: f for f in found["flags"]}
    assert set(told) == {
        who for who, a in adjusted.items() if a < alpha and sum(r["payee"] == who for r in inside) >= LEAST
    }  # fmt: skip
    assert found["tests_made"] == len(p)
    for who, flag in told.items():
        own = [r for r in used if r["payee"] == who]
        here = [r for r in inside if r["payee"] == who]
        assert (flag["rows"], flag["rows_in_all"]) == (len(here), len(own))
        assert flag["days"] == len({r["day"] for r in here})
        assert Decimal(flag["amount"]) == sum(r["amount"] for r in here)
        assert flag["p"] == pytest.approx(p[who], rel=1e-9)
        assert flag["p_adjusted"] == pytest.approx(adjusted[who], rel=1e-9)
        assert flag["expected_rows"] == pytest.approx(len(own) * len(inside) / len(used))
