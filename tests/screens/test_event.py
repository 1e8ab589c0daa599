"""A window of days against the others: by a plain look, by the law's own population, planted bursts."""

from __future__ import annotations

from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, screened
from sabueso.base.errors import UserError
from sabueso.stats.window import look

START = date(2024, 1, 1)


@given(
    st.lists(st.integers(0, 50), min_size=12, max_size=60), st.integers(0, 40), st.integers(1, 8)
)
def test_a_window_is_that_of_a_plain_look(daily, start, days):
    if start + days > len(daily):
        with pytest.raises(ValueError, match="does not lie within"):
            look(np.array(daily, dtype=float), start, days)
        return
    found = look(np.array(daily, dtype=float), start, days)
    outside = daily[:start] + daily[start + days :]
    total = sum(daily[start : start + days])
    assert (found.total, found.outside) == (total, len(outside))
    windows = [
        sum(daily[k : k + days])
        for k in range(len(daily) - days + 1)
        if k + days <= start or k >= start + days
    ]
    if windows:
        assert found.rank_p == (1 + sum(w >= total for w in windows)) / (1 + len(windows))
    spread = np.std(outside, ddof=1) if len(outside) > 1 else 0
    if spread > 0:
        expected = (total - days * np.mean(outside)) / (
            spread * np.sqrt(days * (1 + days / len(outside)))
        )
        assert found.z == pytest.approx(expected)
    else:
        assert found.z is None


def test_z_of_normal_days_is_students_and_the_rank_is_even():
    """Of 3,000 populations of normal days: z beyond 1.96 in about 5 of 100, ranks evenly spread."""
    rng = np.random.default_rng(2)
    found = [look(rng.normal(10, 3, 200), 90, 6) for _ in range(3000)]
    z = np.array([f.z for f in found])
    assert np.mean(np.abs(z) > 1.96) == pytest.approx(0.05, abs=0.014)
    ranks = np.array([f.rank_p for f in found])
    assert scipy.stats.kstest(ranks, "uniform").statistic < 0.05


def _rows(planted, n=1200, seed=1):
    rng = np.random.default_rng(seed)
    rows = []
    for i in range(n):
        day = START + timedelta(days=int(rng.integers(0, 500)))
        rows.append(
            {"id": f"R{i}", "day": day, "payee": f"S{rng.integers(0, 50):02d}", "amount": Decimal(int(rng.integers(100, 90_000))) / 100}
        )  # fmt: skip
    for k, day in enumerate(planted):
        rows.append({"id": f"X{k}", "day": day, "payee": "S07", "amount": Decimal("900.00")})
    return rows


ROLES = {"id": "id", "date": "day", "party": "payee", "amount": "amount"}
AT = date(2024, 9, 1)


def test_who_crowds_before_a_date_is_named(populate):
    planted = [AT - timedelta(days=1 + k % 7) for k in range(9)]
    rows = _rows(planted)
    found = screened(populate(rows, **ROLES), "event", at="2024-09-01", window=8)
    (flag,) = found["flags"]
    own = [r for r in rows if r["payee"] == "S07"]
    inside_ = [r for r in own if AT - timedelta(days=8) <= r["day"] < AT]
    assert (flag["subject"], flag["rows"], flag["rows_in_all"]) == (
        {"payee": "S07"},
        len(inside_),
        len(own),
    )
    assert Decimal(flag["sum"]) == sum(r["amount"] for r in inside_)
    daily = defaultdict(float)
    for r in own:
        daily[r["day"]] += float(r["amount"])
    first, last = min(r["day"] for r in rows), max(r["day"] for r in rows)
    series = np.array([daily[first + timedelta(days=k)] for k in range((last - first).days + 1)])
    plain = look(series, (AT - timedelta(days=8) - first).days, 8)
    assert flag["z"] == pytest.approx(plain.z) and flag["rank_p"] == plain.rank_p
    days = {(r["payee"], r["day"]) for r in rows}
    window = {d for d in days if AT - timedelta(days=8) <= d[1] < AT}
    mine = [d for d in days if d[0] == "S07"]
    p = scipy.stats.hypergeom.sf(
        sum(d[0] == "S07" for d in window) - 1, len(days), len(window), len(mine)
    )
    assert flag["p"] == pytest.approx(p) and flag["p_adjusted"] == pytest.approx(min(1, 50 * p))
    (group,) = found["groups"]
    assert group["days"][0]["day"] == "2024-08-24" and len(group["days"]) == 8
    assert sum(d["rows"] for d in group["days"]) == group["rows_inside"]


@pytest.mark.parametrize("side", ["before", "after", "around"])
def test_nothing_planted_nothing_named(populate, side):
    found = screened(populate(_rows([]), **ROLES), "event", at="2024-09-01", window=10, side=side)
    assert found["flag_count"] == 0 and found["tests_made"] == 50
    assert len(found["groups"][0]["days"]) == (21 if side == "around" else 10)


def test_a_window_beyond_the_rows_and_a_date_of_the_plan(populate, tmp_path):
    people = populate(_rows([]), **ROLES)
    with pytest.raises(UserError, match="does not lie within the days of the rows, 2024-01-01"):
        screened(people, "event", at="2024-01-05", window=8)
    with pytest.raises(UserError, match="at = 'soon'"):
        screened(people, "event", at="soon")
    planted = [AT - timedelta(days=1 + k % 7) for k in range(9)]
    lines = ["id,day,payee,amount"]
    lines += [f"{r['id']},{r['day']},{r['payee']},{r['amount']}" for r in _rows(planted)]
    (tmp_path / "pay.csv").write_text("\n".join(lines) + "\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "pay.csv", "--as", "pay", cwd=tmp_path)
    plan = tmp_path / "case.toml"
    plan.write_text(plan.read_text() + "\n[facts]\naward = 2024-09-01\n")
    inside("survey", "--propose", "--keep", cwd=tmp_path)
    assert 'at = "facts.award"' in plan.read_text()
    inside("screen", cwd=tmp_path)
    items = inside_json("queue", "--screen", "pay before award", cwd=tmp_path)
    (item,) = items
    assert item["label"] == "payee S07"
    rows = inside_json(
        "dig",
        item["id"],
        "--where",
        "day < '2024-09-01' and day >= '2024-08-24'",
        "--rows",
        cwd=tmp_path,
    )
    assert rows["population"]["used"] >= 9
    said = " ".join(inside_json("why", item["id"], cwd=tmp_path)["sentences"])
    assert (
        "from 2024-08-24 to 2024-08-31 (before 2024-09-01)" in said or "back from silence" in said
    )
    inside("redo", cwd=tmp_path)
    inside("try", "event", "pay", "--at", "facts.award", "--out", "a.png", cwd=tmp_path)
