"""Amounts under a limit: laws against SciPy, enumeration and simulation; planted splits; prices; many limits."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal
from itertools import permutations

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, screened
from folders import taken_in
from known import plain_bundles
from sabueso.base.errors import UserError
from sabueso.screens.split import judging
from sabueso.stats import bundles as bundling
from sabueso.stats.bundles import Amounts
from sabueso.stats.threshold import count_tail, excess_below


@given(st.integers(0, 400), st.floats(0.1, 200), st.floats(1.0, 30))
def test_tails_are_those_of_the_two_laws(count, mean, wider):
    assert count_tail(count, mean, mean) == pytest.approx(
        scipy.stats.poisson.sf(count - 1, mean), rel=1e-6, abs=1e-14
    )
    variance = mean * (wider + 0.01)
    size, share = mean**2 / (variance - mean), mean / variance
    assert count_tail(count, mean, variance) == pytest.approx(
        scipy.stats.nbinom.sf(count - 1, size, share), rel=1e-6, abs=1e-14
    )


AMOUNTS = st.lists(st.tuples(st.integers(0, 12), st.integers(1, 99)), max_size=6)


def _amounts(whose, limits):
    sizes = [len(rows) for rows in whose]
    days, units = (np.array([r[k] for rows in whose for r in rows], dtype=np.int64) for k in (0, 1))
    return Amounts(np.cumsum([0, *sizes]), days, units, np.array(limits))


@given(st.lists(st.tuples(AMOUNTS, st.sampled_from([60, 100, 150])), max_size=5), st.integers(0, 6))
def test_bundles_and_how_many_are_expected_by_enumeration(whose, within):
    listed, limits = [sorted(rows) for rows, _ in whose], [limit for _, limit in whose]
    listed = [
        [(d, min(u, limit - 1)) for d, u in rows]
        for rows, limit in zip(listed, limits, strict=True)
    ]
    owned, spans, means = _amounts(listed, limits), {}, []
    for place, (rows, limit) in enumerate(zip(listed, limits, strict=True)):
        days, units = [d for d, _ in rows], [u for _, u in rows]
        first = int(owned.starts[place])
        if found := plain_bundles(days, units, limit, within):
            spans[place] = [(a + first, b + first) for a, b in found]
        every = [len(plain_bundles(days, order, limit, within)) for order in permutations(units)]
        means.append(np.mean(every))
    assert owned.bundles(within) == spans
    for draw in (owned.own_streams(0), owned.one_stream(0)):
        assert owned.expected(within, draw).tolist() == pytest.approx(means)
    backwards = list(range(len(whose)))[::-1]
    chosen = owned.expected(within, owned.own_streams(0), which=backwards)
    assert chosen.tolist() == pytest.approx(means[::-1])


@pytest.mark.long
@pytest.mark.parametrize(("orders", "room"), [(400, 4_000_000), (400, 50), (40, 4_000_000)])
def test_expected_bundles_of_many_rows_are_those_of_a_long_simulation(orders, room, monkeypatch):
    rng = np.random.default_rng(3)
    days, units = np.sort(rng.integers(0, 90, 40)), rng.integers(20, 99, 40)
    plain = [len(plain_bundles(days, rng.permutation(units).tolist(), 100, 3)) for _ in range(4000)]
    near = pytest.approx(np.mean(plain), abs=4 * np.std(plain) / np.sqrt(orders))
    rows = list(zip(days.tolist(), units.tolist(), strict=True))
    both, alone = _amounts([rows, rows[:9], rows], [100] * 3), _amounts([rows[:9]] * 2, [100] * 2)
    whole = both.expected(3, both.own_streams(9), orders)
    # How much is held at once changes nothing, nor what others have.
    monkeypatch.setattr(bundling, "MOST_CELLS", room)
    found = both.expected(3, both.own_streams(9), orders)
    assert found.tolist() == whole.tolist() and found[0] == near and found[2] == near
    assert orders < 400 or found[0] != found[2]
    assert alone.expected(3, alone.own_streams(9), orders)[1] == found[1]
    assert both.expected(3, both.one_stream(9), orders)[0] == near


def test_a_limit_that_nobody_heeds_is_seldom_called_one():
    """Smooth amounts, 400 populations: the excess below has p under 0.05 in about 5 of 100, not more."""
    rng = np.random.default_rng(11)
    band = np.arange(18) == 7
    p = [excess_below(rng.poisson(120 * np.exp(-0.08 * np.arange(18))), band).p for _ in range(400)]
    assert np.mean(np.array(p) < 0.05) < 0.085
    assert np.mean(np.array(p) < 0.5) > 0.3
    with pytest.raises(ValueError, match="too few bins"):
        excess_below(np.ones(4), np.arange(4) == 1)


def _ledger(n=4000, seed=5):
    rng = np.random.default_rng(seed)
    start = date(2024, 1, 1)
    return [
        {
            "id": f"R{i:05d}", "day": start + timedelta(days=int(rng.integers(0, 700))),
            "who": f"S{rng.integers(0, 60):03d}", "clerk": f"c{rng.integers(0, 8)}",
            "unit": "yard" if i % 2 else "sea",
            "amount": Decimal(int(rng.lognormal(12.6, 1.0))) / 100,
        }
        for i in range(n)
    ]  # fmt: skip


ROLES = {"id": "id", "date": "day", "party": "who", "preparer": "clerk", "amount": "amount"}


def test_nothing_planted_nothing_found(populate):
    found = screened(populate(_ledger(), **ROLES), "split", limit="5000")
    assert found["flag_count"] == 0 and found["groups"][0]["p"] > 0.01
    (group,) = found["groups"]
    rows = [r["amount"] for r in _ledger()]
    assert group["count"] == sum(Decimal(4750) <= a < 5000 for a in rows)
    assert group["around"] == sum(3000 <= a < 7500 for a in rows)
    assert sum(b["count"] for b in group["bins"]) <= group["around"]
    assert (
        abs(group["clusters"] - group["expected_clusters"])
        < 4 * group["expected_clusters"] ** 0.5 + 3
    )


def _with_splits():
    rng = np.random.default_rng(2)
    rows, start = _ledger(), date(2024, 2, 1)
    for k in range(12):  # one clerk keeps a supplier's invoices under the limit
        for j in range(3):
            rows.append(
                {"id": f"X{k}{j}", "day": start + timedelta(days=30 * k + j), "who": "S900", "clerk": "c9",
                 "unit": "sea", "amount": Decimal(int(rng.integers(475_000, 499_999))) / 100}
            )  # fmt: skip
    for k in range(40):  # another is paid a price that lies just below, and is no split
        rows.append(
            {"id": f"Y{k}", "day": start + timedelta(days=17 * k), "who": "S901", "clerk": "c1", "unit": "sea",
             "amount": Decimal("4900.00")}
        )  # fmt: skip
    for k in range(8):  # a third in pieces far below the limit, on one day
        for j in range(3):
            rows.append(
                {"id": f"Z{k}{j}", "day": start + timedelta(days=60 * k), "who": "S902", "clerk": f"c{j}",
                 "unit": "sea", "amount": Decimal(int(rng.integers(170_000, 199_000))) / 100}
            )  # fmt: skip
        for j in range(12):
            rows.append(
                {"id": f"W{k}{j}", "day": start + timedelta(days=60 * k + 4 * j + 8), "who": "S902",
                 "clerk": f"c{j % 5}", "unit": "sea", "amount": Decimal(int(rng.integers(125_000, 132_000))) / 100}
            )  # fmt: skip
    return rows


def test_splits_are_found_by_who_and_in_pieces_and_prices_are_none(populate):
    found = screened(populate(_with_splits(), **ROLES), "split", limit="5000", within=2)
    by = {next(iter(f["subject"].items())): f for f in found["flags"]}
    assert set(by) == {("clerk", "c9"), ("who", "S900"), ("who", "S902")}
    assert by["who", "S900"]["below"] == 36 and "below" in by["who", "S900"]["reasons"]
    pieces = by["who", "S902"]
    assert pieces["reasons"] == ["in_pieces"] and pieces["cluster_count"] == 8
    assert all(Decimal(c["sum"]) >= 5000 > Decimal(c["largest"]) for c in pieces["clusters"])
    assert "repeated_prices" in {c["code"] for c in found["cautions"]}


def test_whoever_has_more_bundles_than_chance_is_told_alike_by_few_orders(populate, monkeypatch):
    population = populate(_with_splits(), **ROLES)
    full = screened(population, "split", limit="5000", within=2)
    monkeypatch.setattr(judging, "MANY", 10)
    brief = screened(population, "split", limit="5000", within=2)
    assert full["flags"] == brief["flags"]
    assert full["groups"][0]["expected_clusters"] != brief["groups"][0]["expected_clusters"]


def test_each_row_may_have_a_limit_of_its_own(populate):
    rows = _ledger()
    limit = "case when unit = 'yard' then 10000 when unit = 'sea' then 5000 end"
    rows[3]["unit"] = "none"
    found = screened(populate(rows, **ROLES), "split", limit=limit)
    assert [g["group"] for g in found["groups"]] == [{"limit": "5000.00"}, {"limit": "10000.00"}]
    assert found["population"]["left_out"] == {"no_limit": 1}
    assert found["groups"][1]["n"] == sum(r["unit"] == "yard" for r in rows)
    with pytest.raises(UserError, match="more than 12 limits"):
        screened(populate(rows, **ROLES), "split", limit="amount + 1")
    with pytest.raises(UserError, match="whole thousandths"):
        screened(populate(rows, **ROLES), "split", limit="5000", width="0.0505")


def test_the_rows_behind_are_those_below_the_limit(marisma, tmp_path):
    """On the sample: the three suppliers and their preparer, found without a limit being given."""
    import shutil

    case = tmp_path / "case"
    shutil.copytree(marisma, case, ignore=shutil.ignore_patterns("papers"))
    inside("try", "split", "payments", "--limit", "5000", "--keep", "limit", cwd=case)
    inside("screen", "limit", cwd=case)
    items = inside_json("queue", "--screen", "limit", cwd=case)
    named = {i["label"]: i for i in items}
    assert {"usuario rvc", "proveedor S1084", "proveedor S1311", "proveedor S1585"} == set(named)
    rows = inside_json("dig", named["proveedor S1084"]["id"], "--rows", "--limit", "200", cwd=case)[
        "rows"
    ]
    assert len(rows) == 104 and all(4750 <= Decimal(r["importe"]) < 5000 for r in rows)
    said = inside_json("why", named["usuario rvc"]["id"], cwd=case)["sentences"]
    assert said[0].startswith("324 rows just below, 81.8 expected (limit 5,000.00")
    assert all(s in said[1] for s in ("S1084", "S1311", "S1585"))
    inside("try", "split", "payments", "--limit", "5000", "--out", "a.png", cwd=case)


def test_a_limit_with_too_many_pieces_is_not_proposed_and_ends_nothing(tmp_path, monkeypatch):
    """Whoever proposes a programme asked for no limit, and is told of none that cannot be looked at."""
    rng = random.Random(4)
    rows = [
        {"Entry": f"E{n:04}", "Date": date(2025, 1, 2) + timedelta(days=n // 4), "Clerk": f"C{n % 5}", "Supplier": f"S{n % 11}",
         "Amount": Decimal(rng.randint(96_000, 99_900) if n % 20 == 0 else rng.randint(5_000, 160_000)) / 100}
        for n in range(600)
    ]  # fmt: skip
    case, screens = taken_in(tmp_path, {"bills": rows})
    assert "bills just under 1000" in screens
    monkeypatch.setattr("sabueso.screens.split.looking.MOST_PIECES", 5)
    again = inside_json("survey", "bills", "--propose", cwd=case)["screens"]
    assert {each["test"] for each in again} >= {"zscore", "repeats"}
    assert not any(each["test"] == "split" and not each["refused"] for each in again)
