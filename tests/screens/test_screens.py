"""Each test's JSON equals an independent NumPy/SciPy calculation on the same rows."""

from __future__ import annotations

from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from conftest import screened
from sabueso.base.errors import UserError

cents = st.integers(-(10**15), 10**15).map(lambda c: Decimal(c).scaleb(-2))
measures = st.lists(st.one_of(st.none(), st.just(Decimal("0.00")), cents), min_size=1, max_size=80)


def _rows(values):
    return [{"id": f"R{i}", "amount": v, "who": "ab"[i % 2]} for i, v in enumerate(values)]


def _ledger(n=4000, seed=11):
    """Lognormal amounts with credits, zeros, gaps and groups of unequal size."""
    rng = np.random.default_rng(seed)
    units = np.round(rng.lognormal(8, 1.4, n)).astype(int) * np.where(rng.random(n) < 0.08, -1, 1)
    units[rng.random(n) < 0.02] = 0
    start = date(2024, 1, 1)
    return [
        {
            "id": f"R{i}",
            "day": start + timedelta(days=int(rng.integers(0, 731))),
            "account": f"A{int(rng.integers(0, 30)) ** 2 // 40}",
            "amount": None if rng.random() < 0.01 else Decimal(int(u)).scaleb(-2),
            "units": Decimal(int(rng.integers(0, 50))),
            "hours": Decimal(int(rng.integers(100, 900))).scaleb(-1),
        }
        for i, u in enumerate(units)
    ]


def _amounts(rows, key=None):
    groups = defaultdict(list)
    for row in rows:
        if row["amount"] is not None:
            groups[row[key] if key else ""].append(float(row["amount"]))
    return groups


@given(measures.filter(lambda v: any(v)))
def test_digits_count_every_row_and_cent(populate, values):
    found = screened(populate(_rows(values)), "digits", on="amount", min_group=1)
    kept = [v for v in values if v]
    group = found["groups"][0]
    assert group["n"] == len(kept) == found["population"]["used"]
    assert sum(Decimal(c["amount"]) for c in group["classes"]) == sum(kept)
    assert found["population"]["total"] == str(sum(v for v in values if v is not None))
    for c in group["classes"]:
        leading = [str(abs(v)).replace(".", "").lstrip("0")[0] for v in kept]
        assert c["count"] == leading.count(c["digits"])
    angles = 2 * np.pi * np.log10([abs(float(v)) for v in kept])
    l2 = np.cos(angles).mean() ** 2 + np.sin(angles).mean() ** 2
    assert group["mantissa_l2"] == pytest.approx(l2, abs=1e-6)


@pytest.mark.parametrize("test", ["first", "second", "first-two", "first-three", "last-two"])
def test_digits_of_every_kind(populate, test):
    rows = _ledger()
    found = screened(populate(rows), "digits", on="amount", digits=test)
    texts = [f"{abs(r['amount']):.2f}".replace(".", "").lstrip("0") for r in rows if r["amount"]]
    if test == "last-two":
        classes = [t[-2:] for t in texts if len(t) >= 4]
    else:
        cut = {"first": (0, 1), "second": (1, 2), "first-two": (0, 2), "first-three": (0, 3)}[test]
        # An amount of fewer significant minor units than the test looks at is left out.
        classes = [t[slice(*cut)] for t in texts if len(t) >= cut[1]]
    assert [c["count"] for c in found["groups"][0]["classes"]] == [
        classes.count(c["digits"]) for c in found["groups"][0]["classes"]
    ]
    expected = scipy.stats.chisquare(
        [c["count"] for c in found["groups"][0]["classes"]],
        [c["expected"] * len(classes) for c in found["groups"][0]["classes"]],
    )
    assert found["groups"][0]["chi_square"] == pytest.approx(expected.statistic)


def test_digits_name_who_is_behind(populate):
    rng = np.random.default_rng(0)
    rows = [
        {
            "id": str(i),
            "amount": Decimal(int(10 ** rng.uniform(3, 7))).scaleb(-2),
            "user": "abcd"[i % 4],
        }
        for i in range(4000)
    ]
    rows += [{"id": f"x{i}", "amount": Decimal(4900 + i % 90), "user": "d"} for i in range(200)]
    found = screened(populate(rows), "digits", on="amount", digits="first-two", by_whom="user")
    assert [f["subject"]["first-two"] for f in found["flags"]] == ["49"]
    top = found["groups"][0]["behind"][0]
    inside = [r for r in rows if f"{r['amount']:.2f}".replace(".", "").lstrip("0")[:2] == "49"]
    mine = sum(r["user"] == "d" for r in inside)
    assert (top["value"], top["digits"], top["count"]) == ("d", "49", mine)
    p = scipy.stats.hypergeom.sf(mine - 1, 4200, 1200, len(inside))
    assert top["p"] == pytest.approx(p, rel=1e-6)


def test_digit_cautions_say_what_does_not_suit(populate):
    prices = [{"amount": Decimal(p)} for p in ["112.40", "94.80", "236.00"] * 200]
    codes = {c["code"] for c in screened(populate(prices), "digits", on="amount")["cautions"]}
    assert {"repeated_prices", "narrow_range"} <= codes
    numbers = [{"amount": Decimal(1000 + i)} for i in range(500)]
    codes = {c["code"] for c in screened(populate(numbers), "digits", on="amount")["cautions"]}
    assert "assigned_numbers" in codes
    few = screened(populate([{"amount": Decimal(x)} for x in (-5, 7, 900)]), "digits", on="amount")
    assert {c["code"] for c in few["cautions"]} >= {"too_few", "mixed_signs"}


def test_classical_accuracy_case(populate):
    rows = [{"amount": Decimal("10000000.2")}]
    rows += [{"amount": Decimal(f"10000000.{d}")} for d in (1, 3) * 500]
    group = screened(populate(rows), "zscore", on="amount")["groups"][0]
    assert (group["mean"], group["sd"]) == (10000000.2, 0.1)


def _deviate_p(z, n):
    return scipy.stats.beta.sf(n * z**2 / (n - 1) ** 2, 0.5, (n - 2) / 2)


@pytest.mark.parametrize("by", [None, "account"])
def test_zscore_equals_numpy(populate, by):
    rows = _ledger()
    found = screened(populate(rows), "zscore", on="amount", by=by or "", limit="2.5")
    expected = _amounts(rows, by)
    assert len(found["groups"]) + len(found["not_tested"]) == len(expected)
    flagged = set()
    for g in found["groups"]:
        x = np.array(expected[g["group"].get("account", "")])
        sd = x.std(ddof=1)
        assert (g["n"], g["mean"], g["sd"]) == (len(x), pytest.approx(x.mean()), pytest.approx(sd))
        assert g["median"] == pytest.approx(np.median(x))
        assert g["mad"] == pytest.approx(np.median(np.abs(x - np.median(x))))
        assert g["skewness"] == pytest.approx(scipy.stats.skew(x, bias=False), rel=1e-4, abs=1e-5)
        assert g["kurtosis"] == pytest.approx(
            scipy.stats.kurtosis(x, bias=False), rel=1e-4, abs=1e-5
        )
        assert g["low"] == pytest.approx(x.mean() - 2.5 * sd)
        inside = x[np.abs(x - x.mean()) <= 2.5 * sd]
        without = g["without_flags"]
        assert without["n"] == len(inside)
        assert without["mean"] == pytest.approx(inside.mean())
        assert without["p95"] == pytest.approx(np.quantile(inside, 0.95))
        assert Decimal(without["sum"]) == round(Decimal(inside.sum()), 2)
        flagged |= {
            (g["group"].get("account", ""), float(v)) for v in x if abs(v - x.mean()) > 2.5 * sd
        }
    got = {(f.get("group", {}).get("account", ""), float(f["amount"])) for f in found["flags"]}
    assert got == flagged
    scores = [abs(f["score"]) for f in found["flags"]]
    assert scores == sorted(scores, reverse=True)
    sizes = np.array([len(expected[f.get("group", {}).get("account", "")]) for f in found["flags"]])
    exact = _deviate_p(np.array(scores), sizes)
    assert [f["p"] for f in found["flags"]] == pytest.approx(exact.tolist(), rel=1e-6, abs=1e-300)
    sizes = np.array([g["n"] for g in found["groups"]])
    chance = (sizes * _deviate_p(np.full(len(sizes), 2.5), sizes)).sum()
    assert found["flags_by_chance"] == pytest.approx(chance)
    high = screened(populate(rows), "zscore", on="amount", by=by or "", limit="2.5", side="high")
    both = {f["subject"]["line"]: f["p"] for f in found["flags"]}
    assert high["flags"]
    for f in high["flags"]:
        assert f["p"] == pytest.approx(both[f["subject"]["line"]] / 2, rel=1e-9)


def test_modified_zscore_on_the_log_scale(populate):
    rows = _ledger()
    found = screened(
        populate(rows, where="amount > 0"),
        "zscore",
        on="amount",
        method="modified",
        scale="log",
        limit="3",
    )
    amounts = np.array([v for v in _amounts(rows)[""] if v > 0])
    hundredth = np.median(amounts) / 100
    x = np.log10(1 + amounts / hundredth)
    unit = np.median(np.abs(x - np.median(x))) / 0.6745
    z = (x - np.median(x)) / unit
    assert [f["score"] for f in found["flags"]] == pytest.approx(
        sorted(z[np.abs(z) > 3], key=lambda v: -abs(v)), abs=1e-5
    )
    middle = (10 ** np.median(x) - 1) * hundredth
    assert found["groups"][0]["median"] == pytest.approx(middle, rel=1e-6)
    assert found["groups"][0]["scale_unit"] == pytest.approx(hundredth)
    # Another unit of the amounts: the same rows.
    for factor in (Decimal(10), Decimal("0.125")):
        other = [r | {"amount": r["amount"] and round(r["amount"] * factor, 5)} for r in rows]
        again = screened(
            populate(other, where="amount > 0"), "zscore", on="amount", method="modified",
            scale="log", limit="3",
        )  # fmt: skip
        assert [f["subject"]["line"] for f in again["flags"]] == [
            f["subject"]["line"] for f in found["flags"]
        ]


def test_false_discovery_rate_over_all_rows(populate):
    rows = _ledger(600)
    found = screened(populate(rows), "zscore", on="amount", limit="1.5", adjust="bh")
    x = np.array(_amounts(rows)[""])
    p = _deviate_p((x - x.mean()) / x.std(ddof=1), len(x))
    expected = np.sort(scipy.stats.false_discovery_control(p))[: found["flag_count"]]
    assert sorted(f["p_adjusted"] for f in found["flags"]) == pytest.approx(expected.tolist())


@pytest.mark.parametrize("rule", ["linear", "weibull", "hinges"])
@pytest.mark.parametrize("by", [None, "account"])
def test_fences_equal_numpy(populate, rule, by):
    rows = _ledger()
    found = screened(populate(rows), "fences", on="amount", by=by or "", rule=rule)
    expected = _amounts(rows, by)
    for g in found["groups"]:
        x = np.sort(expected[g["group"].get("account", "")])
        if rule == "hinges":
            half = (len(x) + 1) // 2
            q1, q3 = np.median(x[:half]), np.median(x[-half:])
        else:
            q1, q3 = np.quantile(x, [0.25, 0.75], method=rule)
        assert (g["q1"], g["q3"]) == (pytest.approx(q1), pytest.approx(q3))
        assert g["high"] == pytest.approx(q3 + 1.5 * (q3 - q1))
        assert g["outer_low"] == pytest.approx(q1 - 3 * (q3 - q1))
        assert g["flagged"] == ((x < g["low"]) | (x > g["high"])).sum()
    outer = sum(f["fence"] == "outer" for f in found["flags"])
    assert 0 < outer < found["flag_count"] == sum(g["flagged"] for g in found["groups"])


@pytest.mark.parametrize("fit", ["classical", "robust"])
def test_distance_of_rows(populate, fit):
    rows = _ledger(800)
    found = screened(populate(rows), "distance", measures="amount,hours", fit=fit, alpha=0.01)
    kept = [r for r in rows if r["amount"] is not None]
    x = np.array([[float(r["amount"]), float(r["hours"])] for r in kept])
    g = found["groups"][0]
    assert found["population"]["left_out"] == {"missing_amount": 800 - len(kept)}
    if fit == "classical":
        assert g["center"] == pytest.approx(x.mean(0).tolist())
        assert np.array(g["covariance"]) == pytest.approx(np.cov(x, rowvar=False))
        limit = scipy.stats.beta.isf(0.01, 1, (len(x) - 3) / 2) * (len(x) - 1) ** 2 / len(x)
    else:
        # The law of 800 subjects is tabled: within some per cent of chi-square, and above it.
        limit = g["limit"]
        assert scipy.stats.chi2.isf(0.01, 2) < limit < 1.06 * scipy.stats.chi2.isf(0.01, 2)
    assert g["limit"] == pytest.approx(limit)
    off = x - np.array(g["center"])
    d2 = np.einsum("ij,jk,ik->i", off, np.linalg.inv(np.array(g["covariance"])), off)
    expected = {r["id"]: d for r, d in zip(kept, d2, strict=True) if d > limit}
    assert {
        f["subject"]["id"] if "id" in f["subject"] else f["subject"]["line"] for f in found["flags"]
    } == {int(i[1:]) + 2 for i in expected}
    assert [f["score"] for f in found["flags"]] == pytest.approx(
        sorted(expected.values(), reverse=True)
    )
    for f in found["flags"]:
        assert sum(f["contribution"].values()) == pytest.approx(100)


def test_distance_of_entities_by_peers(populate):
    rows = _ledger()
    for row in rows:
        row["team"] = f"T{int(row['account'][1:]) % 2}"
    found = screened(
        populate(rows, amount="amount"), "distance", measures="sum(amount),count(*),avg(hours)",
        per="account", by="team", fit="classical", alpha=0.4,
    )  # fmt: skip
    groups = defaultdict(list)
    for account in sorted({r["account"] for r in rows}):
        mine = [r for r in rows if r["account"] == account]
        total = float(sum(r["amount"] or 0 for r in mine))
        hours = np.mean([float(r["hours"]) for r in mine])
        groups[mine[0]["team"]].append((total, len(mine), hours))
    for g in found["groups"]:
        x = np.array(groups[g["group"]["team"]])
        assert g["n"] == len(x)
        assert g["center"] == pytest.approx(x.mean(0).tolist())
    assert found["tests_made"] == sum(g["n"] for g in found["groups"])


def test_distance_names_what_is_singular(populate):
    rows = [
        {
            "amount": Decimal(i),
            "double": Decimal(2 * i),
            "flat": Decimal(3),
            "other": Decimal(i * i % 17),
        }
        for i in range(40)
    ]
    found = screened(
        populate(rows), "distance", measures="amount,double,flat,other", fit="classical"
    )
    assert found["groups"][0]["measures"] == ["amount", "other"]
    caution = next(c for c in found["cautions"] if c["code"] == "singular")
    assert "double repeats amount" in caution["text"]
    assert "flat is constant" in caution["text"]


@pytest.mark.parametrize("by", [{}, pytest.param({"by": "account"}, marks=pytest.mark.long)])
def test_a_distance_flags_no_more_than_can_be_reviewed(populate, by):
    """The subjects of the smallest p over all groups, and the limit of each between them and the rest."""
    people = populate(_ledger())
    asked = {"measures": "amount,hours", "fit": "classical", **by}
    every = screened(people, "distance", **asked, alpha=0.4)
    for capacity in (1, 40):
        found = screened(people, "distance", **asked, aim=capacity)
        assert found["flag_count"] == capacity
        smallest = sorted(f["p"] for f in every["flags"])[:capacity]
        assert sorted(f["p"] for f in found["flags"]) == pytest.approx(smallest)
        assert found["solved"]["alpha"] == pytest.approx(smallest[-1])
        assert all(f["score"] > f["limit"] for f in found["flags"])
        assert found["flags_by_chance"] == pytest.approx(smallest[-1] * found["tests_made"])
    with pytest.raises(UserError, match="aim solves for the limit"):
        screened(people, "distance", **asked, aim=3, alpha=0.01)


def test_figures_of_a_distance_hold_every_flagged_subject(populate):
    found = screened(populate(_ledger()), "distance", measures="amount,hours", alpha=0.05)
    (group,) = found["groups"]
    assert group["axes"] == ["amount", "hours"] and len(group["ellipses"]) == 2
    drawn = {tuple(map(float, point)) for point in group["points"]}
    for flag in found["flags"]:
        assert (flag["values"]["amount"], flag["values"]["hours"]) in drawn
    both = {tuple(pair) for pair in group["distances"]}
    assert {(f["classical"], f["robust"]) for f in found["flags"]} <= both


def test_periods_equal_plain_sums(populate):
    rows = _ledger()
    found = screened(
        populate(rows, date="day", amount="amount"), "periods",
        per="account", base="2024", current="2025", amount_limit="100", percent_limit="10", quantity="units",
    )  # fmt: skip
    sums = defaultdict(lambda: [Decimal(0), Decimal(0), 0, 0])
    for r in rows:
        if r["amount"] is not None:
            side = r["day"].year - 2024
            if side in (0, 1):
                sums[r["account"]][side] += r["amount"]
                sums[r["account"]][2 + side] += int(r["units"])
    lines = found["groups"][0]["lines"]
    assert {line["key"]["account"] for line in lines} == set(sums)
    base_total = sum(v[0] for v in sums.values())
    for line in lines:
        before, now, q0, q1 = sums[line["key"]["account"]]
        assert (Decimal(line["base"]), Decimal(line["current"])) == (before, now)
        assert Decimal(line["change"]) == now - before
        assert line["change_percent"] == pytest.approx(float((now - before) / abs(before) * 100))
        assert line["base_share"] == pytest.approx(float(before / base_total))
        percent = abs((now - before) / before) >= Decimal("0.1")
        assert line["flagged"] == (percent and abs(now - before) >= 100)
        parts = {k: Decimal(v) for k, v in line["rate_volume"].items()}
        assert sum(parts.values()) == now - before
        assert float(parts["volume"]) == pytest.approx(float((q1 - q0) * before / q0), abs=0.01)
    total = found["groups"][0]["total"]
    assert Decimal(total["change"]) == sum(Decimal(line["change"]) for line in lines)


def test_periods_cautions(populate):
    rows = [
        {"day": date(2024, m, 3), "account": "a", "amount": Decimal(100)} for m in range(1, 13)
    ] + [{"day": date(2025, m, 3), "account": k, "amount": Decimal(v)} for m, k, v in
         [(1, "a", 100), (2, "new", 50), (3, "c", -20)]]  # fmt: skip
    found = screened(
        populate(rows, date="day", amount="amount"),
        "periods",
        per="account",
        base="2024",
        current="2025",
    )
    assert {c["code"] for c in found["cautions"]} == {"base_zero", "mixed_signs", "partial_period"}
    readings = {x["key"]["account"]: x["reading"] for x in found["groups"][0]["lines"]}
    assert readings["new"] == "new"
    assert (
        next(x for x in found["groups"][0]["lines"] if x["key"]["account"] == "new")[
            "change_percent"
        ]
        is None
    )


def test_limit_cautions(populate):
    small = [{"g": "abc"[i % 3], "amount": Decimal(i * i)} for i in range(24)]
    codes = {
        c["code"]: c for c in screened(populate(small), "zscore", on="amount", by="g")["cautions"]
    }
    assert "2.47" in codes["limit_unreachable"]["text"]  # (8 - 1)/sqrt(8)
    assert codes["too_few"]["smallest_n"] == 8
    flat = [{"g": "a", "amount": Decimal(5)}] * 20 + [
        {"g": "b", "amount": Decimal(i)} for i in range(20)
    ]
    found = screened(populate(flat), "zscore", on="amount", by="g")
    assert found["not_tested"][0]["group"] == {"g": "a"}
    assert "zero_spread" in {c["code"] for c in found["cautions"]}


def test_a_finding_without_flags(populate):
    rows = [{"amount": Decimal(2**k)} for k in range(40)]
    found = screened(populate(rows), "digits", on="amount")
    assert (found["flags"], found["flag_count"]) == ([], 0)


@given(measures.filter(lambda v: any(x is not None for x in v)))
def test_nothing_disappears(populate, values):
    for test in ("zscore", "fences"):
        found = screened(populate(_rows(values)), test, on="amount", by="who", min_group=2)
        tested = sum(g["n"] for g in found["groups"])
        assert tested + sum(t["rows"] for t in found["not_tested"]) == found["population"]["used"]


def test_missing_groups_are_groups(populate):
    rows = [{"g": None if i % 2 else "a", "amount": Decimal(i)} for i in range(40)]
    found = screened(populate(rows), "fences", on="amount", by="g")
    assert sorted(str(g["group"]["g"]) for g in found["groups"]) == ["None", "a"]


@pytest.mark.parametrize(
    ("test", "settings", "message"),
    [
        ("digits", {"on": "amuont"}, "did you mean 'amount'"),
        ("digits", {"on": "who"}, "holds text, not numbers"),
        ("zscore", {"on": "amount", "limit": "-1"}, "greater than 0"),
        ("zscore", {"on": "amount", "limt": 3}, "did you mean 'limit'"),
        ("distance", {}, "'measures' is required"),
        ("distance", {"measures": "lower(who)"}, "expected one per group"),
        (
            "periods",
            {"on": "amount", "per": "who", "current": "2024", "base": "20x4"},
            "is no period",
        ),
        ("digits", {}, "name the measure with --on"),
    ],
)
def test_settings_that_do_not_fit(populate, test, settings, message):
    population = populate(
        [{"id": "1", "amount": Decimal(1), "who": "a", "day": date(2024, 1, 1)}], date="day"
    )
    settings = {**settings, "per": "who"} if settings.get("measures") == "lower(who)" else settings
    with pytest.raises(UserError, match=message):
        screened(population, test, **settings)


@pytest.mark.parametrize("scale", ["amount", "log"])
@pytest.mark.parametrize("test", ["zscore", "fences"])
def test_order_statistics_in_slices_of_groups(populate, monkeypatch, test, scale):
    """Where rows are many, groups are looked at in slices: the same figures, the same order."""
    rows = _ledger(800)
    rows += [{**rows[0], "id": "x", "account": None}] * 5
    asked = {"on": "amount", "by": "account", "scale": scale}
    whole = screened(populate(rows), test, **asked)
    monkeypatch.setattr("sabueso.screens.worths.SLICE_ROWS", 100)
    assert screened(populate(rows), test, **asked) == whole
    assert None in {g["group"]["account"] for g in whole["groups"] + whole["not_tested"]}


def _priced(rng, months=24, lines=6):
    """A line a product: quantities that move at will, prices that hold but for one."""
    rows = []
    for month in range(months):
        for line in range(lines):
            price = 5 + line + (2 if line == 3 and month >= 12 else 0)
            items = int(rng.integers(40, 200))
            rows.append(
                {
                    "id": f"R{month}-{line}",
                    "day": date(2024 + month // 12, month % 12 + 1, 5 + line),
                    "product": f"P{line}",
                    "items": Decimal(items),
                    "amount": Decimal(items * price) + Decimal(line).scaleb(-2),
                }
            )
    return rows


def test_periods_find_a_price_however_the_volume_moved(populate):
    rows = _priced(np.random.default_rng(8))
    people = populate(rows, date="day", amount="amount")
    asked = {"per": "product", "base": "2024", "current": "2025", "quantity": "items"}
    found = screened(people, "periods", **asked, flag_by="rate", percent_limit="5")
    assert [flag["subject"]["product"] for flag in found["flags"]] == ["P3"]
    (flag,) = found["flags"]
    assert flag["reading"].startswith("rate up") and flag["rate_percent"] == pytest.approx(
        25, abs=0.1
    )
    old = sum(row["amount"] for row in rows if row["product"] == "P3" and row["day"].year == 2024)
    items = [
        sum(row["items"] for row in rows if row["product"] == "P3" and row["day"].year == year)
        for year in (2024, 2025)
    ]
    assert flag["volume_percent"] == pytest.approx(float(100 * (items[1] - items[0]) / items[0]))
    assert flag["base"] == str(old)
    # By volume it is another question, and the parts add to the change to the cent.
    by_volume = screened(people, "periods", **asked, flag_by="volume", percent_limit="5")
    for line in by_volume["groups"][0]["lines"]:
        parts = line["rate_volume"]
        total = sum(Decimal(parts[name]) for name in ("volume", "rate", "mix"))
        assert total == Decimal(line["change"])
        assert line["flagged"] == (abs(line["volume_percent"]) >= 5)
    with pytest.raises(UserError, match="needs a quantity"):
        screened(people, "periods", per="product", current="2025", base="2024", flag_by="rate")


def test_periods_by_words_and_against_the_mean_of_those_before(populate):
    import statistics

    rows = _priced(np.random.default_rng(9), months=23)
    people = populate(rows, date="day", amount="amount")

    def run(**settings):
        return screened(people, "periods", per="product", **settings)

    latest = run(current="latest-month", base="prior")
    assert latest["solved"] == {"base": "2025-10", "current": "2025-11"}
    assert run(current="latest quarter", base="year-before")["solved"]["base"] == "2024-Q4"
    assert run(current="2024-01", base="prior")["solved"]["base"] == "2023-12"
    found = run(current="latest-month", mean_of=6, deviate_limit=1.5, percent_limit="0")
    for line in found["groups"][0]["lines"]:
        name = line["key"]["product"]
        monthly = [row["amount"] for row in rows if row["product"] == name][-7:]
        mean, spread = statistics.mean(monthly[:6]), statistics.stdev(monthly[:6])
        assert abs(Decimal(line["base"]) - mean) <= Decimal("0.005")
        assert line["deviate"] == pytest.approx(float((monthly[6] - mean) / spread), abs=1e-4)
        assert line["flagged"] == (abs(line["deviate"]) >= 1.5)
    total = found["groups"][0]["total"]
    assert sum(Decimal(x["base"]) for x in found["groups"][0]["lines"]) == Decimal(total["base"])
    rows.append({**rows[-1], "id": "new", "product": "P9"})
    more = populate(rows, date="day", amount="amount")
    asked = {"per": "product", "current": "2025-11", "base": "2025-10"}
    assert "P9" in {f["subject"]["product"] for f in screened(more, "periods", **asked)["flags"]}
    left = screened(more, "periods", **asked, leave_out="new")
    assert "P9" not in {f["subject"]["product"] for f in left["flags"]}
    assert "left_out_lines" in {c["code"] for c in left["cautions"]}
    with pytest.raises(UserError, match="says what is compared with"):
        run(current="2025-11", base="2024", mean_of=3)
