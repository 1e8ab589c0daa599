"""Digits and limits in depth: each figure equals an independent calculation, and mistakes seen at
practitioners' desks cannot be made."""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections import Counter
from decimal import Decimal

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside as sabueso
from conftest import inside_json as as_json
from conftest import screened
from known import ROLES, definition, ledger
from sabueso.base.errors import UserError
from sabueso.screens.zscore.deviates import SHAPE, normal_middle


def digits_of(value, test):
    """Leading digits by text, padded on the right."""
    text = str(abs(int(value * 100))).ljust(3, "0")
    return {"first": text[0], "second": text[1], "first-two": text[:2], "first-three": text[:3]}[
        test
    ]


# --- digits


@given(
    st.lists(st.integers(-(10**15), 10**15), min_size=1, max_size=60).filter(any),
    st.sampled_from(["absolute", "positive", "negative", "each"]),
    st.sampled_from([None, Decimal("10"), Decimal("1234.56")]),
    st.sampled_from(["first", "second", "first-two"]),
)
def test_sign_and_floor_lose_no_row_and_no_cent(populate, cents, sign, floor, test):
    values = [Decimal(c).scaleb(-2) for c in cents]
    rows = [{"id": f"R{i}", "amount": v} for i, v in enumerate(values)]
    asked = {"sign": sign, "digits": test, "min_group": 1}
    asked |= {"at_least": str(floor)} if floor else {}
    found = screened(populate(rows, amount="amount"), "digits", **asked)
    kept = [
        v
        for v in values
        if v
        and (sign != "positive" or v > 0)
        and (sign != "negative" or v < 0)
        and (floor is None or abs(v) >= floor)
        and abs(v) * 100 >= (1 if test == "first" else 10)  # 0.05 has no second digit
    ]
    population = found["population"]
    assert population["used"] == len(kept)
    assert Decimal(population["used_total"]) == sum(kept)
    assert population["left_out"].get("zero", 0) == values.count(0)
    counted: Counter = Counter()
    for group in found["groups"]:
        side = group["group"].get("sign(amount)")
        mine = [v for v in kept if side is None or (v > 0) == (side == 1)]
        assert group["n"] == len(mine)
        expected = Counter(digits_of(v, test) for v in mine)
        assert {c["digits"]: c["count"] for c in group["classes"] if c["count"]} == expected
        assert sum(Decimal(c["amount"]) for c in group["classes"]) == sum(mine)
        sizes = {k: sum(abs(v) for v in mine if digits_of(v, test) == k) for k in expected}
        for c in group["classes"]:
            share = float(sizes.get(c["digits"], 0) / sum(map(abs, mine)))
            assert c["magnitude_share"] == pytest.approx(share, rel=1e-12, abs=1e-15)
        counted += expected
    assert sum(counted.values()) == len(kept)


def test_second_order_digits_are_those_of_the_differences(populate):
    rows = ledger()
    found = screened(
        populate(rows, **ROLES), "digits", of="differences", digits="first-two", by="who"
    )
    for group in found["groups"]:
        who = group["group"]["who"]
        amounts = sorted({r["amount"] for r in rows if r["who"] == who and r["amount"]})
        gaps = [b - a for a, b in itertools.pairwise(amounts)]
        tested = [g for g in gaps if g >= Decimal("0.10")]
        assert (group["n"], group["few_digits"]) == (len(tested), len(gaps) - len(tested))
        counts = Counter(digits_of(g, "first-two") for g in tested)
        assert {c["digits"]: c["count"] for c in group["classes"] if c["count"]} == counts
    assert found["flag_count"] == 0, "no row is behind a difference"


def test_amount_by_digit_and_repeated_amounts(populate):
    rows = ledger()
    for i in range(400):
        rows[i]["amount"] = Decimal("4850.00")
    found = screened(populate(rows, **ROLES), "digits", digits="first-two")
    (group,) = found["groups"]
    amounts = [abs(r["amount"]) for r in rows if r["amount"]]
    shares = np.zeros(90)
    for v in amounts:
        if v >= Decimal("0.10"):
            shares[int(digits_of(v, "first-two")) - 10] += float(v) / 10 ** v.adjusted()
    shares /= shares.sum()
    assert [c["significand_share"] for c in group["classes"]] == pytest.approx(shares, rel=1e-6)
    assert group["summation_mad"] == pytest.approx(np.abs(shares - 1 / 90).mean(), rel=1e-6)
    times = Counter(r["amount"] for r in rows if r["amount"])
    value, count = times.most_common(1)[0]
    assert group["repeated"][0] == {
        "amount": str(value),
        "count": count,
        "share": count / group["n"],
    }
    assert "48" in group["repeated_in_class"]
    inside = group["repeated_in_class"]["48"][0]
    flagged = next(c for c in group["classes"] if c["digits"] == "48")
    assert (inside["amount"], inside["share"]) == ("4850.00", inside["count"] / flagged["count"])


def test_two_periods_are_compared_with_each_other(populate):
    rows = ledger()
    for r in rows:
        if r["day"].year == 2025 and r["who"] == "kl" and int(r["id"][1:]) % 3 == 0:
            r["amount"] = Decimal("48.00") + Decimal(int(r["id"][1:]) % 100).scaleb(-2)
    found = screened(populate(rows, **ROLES), "digits", digits="first-two", compare="2024,2025")
    counts = {
        year: Counter(
            digits_of(r["amount"], "first-two")
            for r in rows
            if r["amount"] and abs(r["amount"]) >= Decimal("0.10") and r["day"].year == year
        )
        for year in (2024, 2025)
    }
    labels = [c["digits"] for c in found["change"]["classes"]]
    table = np.array([[counts[y][d] for d in labels] for y in (2024, 2025)])
    expected = scipy.stats.chi2_contingency(table[:, table.sum(axis=0) > 0], correction=False)
    assert found["change"]["chi_square"] == pytest.approx(expected.statistic)
    assert [f["subject"] for f in found["flags"]] == [
        {"on": "amount", "first-two": "48", "period": "2025"}
    ]
    assert found["flags"][0]["count"] == counts[2025]["48"]
    with pytest.raises(UserError, match="overlap"):
        screened(populate(rows, **ROLES), "digits", compare="2024,2024-03")


def test_conforming_and_uniform_amounts_come_to_the_known_conclusions(populate):
    rng = np.random.default_rng(1)
    law = [Decimal(int(c)).scaleb(-2) for c in 10 ** rng.uniform(2, 8, 6000)]
    even = [Decimal(int(c)).scaleb(-2) for c in rng.integers(100, 10**6, 6000)]
    powers = [Decimal(str(2**k)[:9].ljust(9, "0")).scaleb(-2) for k in range(1000)]
    none = "no departure shown"
    for values, conformity in ((law, none), (even, "nonconforming"), (powers, none)):
        rows = [{"amount": v} for v in values]
        group = screened(populate(rows, amount="amount"), "digits")["groups"][0]
        assert group["conformity"] == conformity
    # Few amounts: the published ranges call chance a misfit; the conclusion does not.
    few = [{"amount": v} for v in law[:80]]
    found = screened(populate(few, amount="amount"), "digits")
    group = found["groups"][0]
    assert group["conformity"] == none and group["mad_range"] == "nonconforming"
    assert group["mad_excess_low"] < 0 < group["mad_excess_high"]
    assert found["cautions"][0]["code"] == "too_few" and not found["flag_count"]


# --- limits


@pytest.mark.parametrize("side", ["high", "low", "both"])
def test_top_share_equals_numpy(populate, side):
    rows = ledger()
    found = screened(populate(rows, **ROLES), "top", share="2.5%", by="account", side=side)
    for group in found["groups"]:
        name = group["group"]["account"]
        amounts = sorted(
            r["amount"] for r in rows if r["account"] == name and r["amount"] is not None
        )
        k = -(-len(amounts) * 25 // 1000)
        assert (group["n"], group["k"], group["share"]) == (len(amounts), k, k / len(amounts))
        high, low = amounts[-k], amounts[k - 1]
        wanted = [
            a for a in amounts if (a >= high and side != "low") or (a <= low and side != "high")
        ]
        flags = [f for f in found["flags"] if f["group"]["account"] == name]
        assert sorted(Decimal(f["amount"]) for f in flags) == sorted(wanted)
        assert group["flagged"] == len(wanted) >= k
        if side != "low":
            assert group["cutoff_high"] == str(high)


def test_one_per_cent_of_24000_is_240_and_ties_are_kept(populate):
    rows = [{"id": f"R{i}", "amount": Decimal(i // 3)} for i in range(24_000)]
    found = screened(populate(rows, amount="amount", id="id"), "top", share="1%")
    (group,) = found["groups"]
    assert (group["k"], group["flagged"], group["cutoff"]) == (240, 240, "7920")
    found = screened(populate(rows, amount="amount", id="id"), "top", aim=241)
    assert found["groups"][0]["flagged"] == 243, "rows equal to the cut-off are all kept"
    assert "ties_kept" in [c["code"] for c in found["cautions"]]
    for share in ("24", "1", "0", "-1%", "100%", "one"):
        with pytest.raises(UserError, match="share"):
            screened(populate(rows, amount="amount"), "top", share=share)


@pytest.mark.parametrize("settings", [{"by": "account"}, {"scale": "log", "side": "high"}])
def test_skew_adjusted_fences_flag_what_numpy_flags(populate, settings):

    rows = ledger(n=700)
    found = screened(populate(rows, **ROLES), "fences", fence="skew-adjusted", **settings)
    log = settings.get("scale") == "log"
    flagged = set()
    for group in found["groups"]:
        mine = [
            r
            for r in rows
            if r["amount"] is not None
            and r["account"] == group["group"].get("account", r["account"])
        ]
        x = np.array([float(r["amount"]) for r in mine])
        if log:
            unit = np.median(np.abs(x[x != 0])) / 100
            assert group["scale_unit"] == pytest.approx(unit)
            x = np.round(np.sign(x) * np.log10(1 + np.abs(x) / unit), 9)
        mc = definition(np.round(x * 10**9 if log else x * 100))
        assert group["medcouple"] == pytest.approx(mc, abs=1e-9)
        q1, q3 = np.percentile(x, [25, 75])
        left, right = (-4, 3) if mc >= 0 else (-3, 4)
        low, high = (
            q1 - 1.5 * np.exp(left * mc) * (q3 - q1),
            q3 + 1.5 * np.exp(right * mc) * (q3 - q1),
        )
        beyond = (x > high) | ((x < low) & (settings.get("side") != "high"))
        flagged |= {r["id"] for r, out in zip(mine, beyond, strict=True) if out}
    assert {f["subject"]["id"] for f in found["flags"]} == flagged and flagged


def test_sequential_deviates_by_group(populate):
    rng = np.random.default_rng(8)
    rows = [
        {"id": f"R{i}", "account": "AB"[i % 2], "amount": Decimal(int(v)).scaleb(-2)}
        for i, v in enumerate(rng.normal(50_000, 4_000, 400))
    ]
    for i, v in ((10, 95_000), (12, 96_000), (14, 97_000), (301, -40_000)):
        rows[i]["amount"] = Decimal(v).scaleb(-2)
    population = populate(rows, id="id", amount="amount", account="account")
    found = screened(population, "zscore", method="sequential", by="account", most=8)
    assert {f["subject"]["id"] for f in found["flags"]} == {"R10", "R12", "R14", "R301"}
    for group in found["groups"]:
        x = np.array(
            [float(r["amount"]) for r in rows if r["account"] == group["group"]["account"]]
        )
        for i, step in enumerate(group["sequential"], 1):
            off = np.abs(x - x.mean())
            assert step["statistic"] == pytest.approx(off.max() / x.std(ddof=1), rel=1e-9)
            n = 200 - i + 1
            t = scipy.stats.t.ppf(1 - 0.05 / (2 * n), n - 2)
            assert step["limit"] == pytest.approx((n - 1) * t / np.sqrt((n - 2 + t * t) * n))
            x = np.delete(x, off.argmax())
    with pytest.raises(UserError, match="limits of its own"):
        screened(population, "zscore", method="sequential", limit="3")


@pytest.mark.parametrize(
    ("test", "settings"),
    [
        ("zscore", {"by": "account"}),
        ("zscore", {"method": "modified", "scale": "log", "side": "high"}),
        ("fences", {"side": "low"}),
        ("fences", {"beyond": "outer", "by": "account,who"}),
    ],
)
@pytest.mark.parametrize(
    "capacity",
    [pytest.param(1, marks=pytest.mark.long), 17, pytest.param(400, marks=pytest.mark.long)],
)
def test_an_aim_is_the_least_limit_that_keeps_within_it(populate, test, settings, capacity):
    population = populate(ledger(), **ROLES)
    found = screened(population, test, aim=capacity, **settings)
    aim = found["aim"]
    assert found["flag_count"] <= capacity
    for step in aim["ladder"]:
        name = {"zscore": "limit", "fences": settings.get("beyond", "inner")}[test]
        fixed = {name: step["limit"]} | ({"outer": "999"} if name == "inner" else {"inner": "0.01"})
        if test == "zscore":
            fixed = {name: step["limit"]}
        other = screened(population, test, **settings, **fixed)
        assert other["flag_count"] == step["flagged"]
        assert sum(Decimal(f["amount"]) for f in other["flags"]) == Decimal(step["amount"])
    closer = Decimal(aim["limit"]) - Decimal("0.0001")
    if closer > 0 and found["flag_count"] < len(ledger()):
        name = "limit" if test == "zscore" else settings.get("beyond", "inner")
        fixed = {name: str(closer)} | (
            {"outer": "999"} if name == "inner" else {"inner": "0.00005"}
        )
        fixed = {"limit": str(closer)} if test == "zscore" else fixed
        assert screened(population, test, **settings, **fixed)["flag_count"] > capacity


def test_range_equals_a_plain_look(populate):
    rows = ledger()
    for i, r in enumerate(rows):
        r["cap"] = None if i % 7 == 0 else Decimal(500)
    asked = {
        "least": "-100",
        "greatest": "2000",
        "not_above": "cap",
        "column": "who",
        "allowed": "kl,mr",
    }
    found = screened(populate(rows, **ROLES), "range", required="amount", **asked)

    def broken(r):
        v = r["amount"]
        if v is None:
            return "amount required"
        if r["who"] not in ("kl", "mr"):
            return "who one of kl, mr"
        if v < -100:
            return "amount at least -100"
        if v > 2000:
            return "amount at most 2000"
        return "amount not above cap" if r["cap"] is not None and v > r["cap"] else None

    expected = {r["id"]: rule for r in rows if (rule := broken(r))}
    assert {f["subject"]["id"]: f["rule"] for f in found["flags"]} == expected
    counts = Counter(expected.values())
    assert {r["rule"]: r["flagged"] for r in found["groups"][0]["rules"]} == counts


# --- mistakes that must not be possible


def test_a_limit_no_member_can_reach_is_said(populate):
    rows = [
        {"id": f"R{i}", "amount": Decimal(v)} for i, v in enumerate([1, 1, 1, 1, 1, 1, 2, 10**9])
    ]
    found = screened(populate(rows, id="id", amount="amount"), "zscore")
    assert found["flag_count"] == 0 and found["groups"][0]["reachable"] is False
    (caution,) = [c for c in found["cautions"] if c["code"] == "limit_unreachable"]
    assert "2.47" in caution["text"], "(n - 1)/sqrt(n) of eight"


def test_limits_are_set_once(populate):
    """Nothing is removed and recomputed until nothing is left: the limits are those of all rows used."""
    rows = ledger()
    found = screened(populate(rows, **ROLES), "zscore", limit="2")
    x = np.array([float(r["amount"]) for r in rows if r["amount"] is not None])
    assert found["flag_count"] == int((np.abs(x - x.mean()) > 2 * x.std(ddof=1)).sum())
    again = screened(populate(rows, **ROLES), "zscore", limit="2")
    assert again == found


def test_many_subjects_are_not_tested_at_five_per_cent_each(populate):
    """90 suppliers whose amounts follow the law: at 5 % each some would be flagged, adjusted none."""
    rng = np.random.default_rng(3)
    rows = [
        {"party": f"S{i % 90}", "amount": Decimal(int(c)).scaleb(-2)}
        for i, c in enumerate(10 ** rng.uniform(2, 8, 90 * 400))
    ]
    found = screened(populate(rows, amount="amount"), "digits", by="party")
    raw = [c for g in found["groups"] for c in g["classes"] if c["p"] < 0.05]
    assert len(raw) > 20 and found["flag_count"] == 0
    assert found["tests_made"] == 90 * 9


def test_prices_and_numbers_are_no_population(populate):
    prices = [{"amount": Decimal(p)} for p in ("94.80", "112.40", "187.60") for _ in range(400)]
    assigned = [{"amount": Decimal(n)} for n in range(5000, 6200)]
    for rows, code in ((prices, "repeated_prices"), (assigned, "assigned_numbers")):
        found = screened(populate(rows, amount="amount"), "digits")
        assert code in [c["code"] for c in found["cautions"]]


# --- the program


@pytest.mark.long
def test_class_exceptions_lead_to_exactly_their_rows(tmp_path):
    """Signs, a floor, a comparison and an expression as the group: dig shows the rows of the class."""
    rows = ledger(2500)
    for i, r in enumerate(rows):
        if i % 9 == 0 and r["day"].year == 2025:
            r["amount"] = Decimal("4812.50") if i % 2 else Decimal("-4812.50")
    names = list(rows[0])
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow([*names[:-1], "Net Amount"])
    writer.writerows(r.values() for r in rows)
    (tmp_path / "l.csv").write_text(text.getvalue())
    sabueso("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    sabueso("intake", "../l.csv", "--as", "ledger", cwd=case)
    on = ["--on", "Net Amount"]
    kept = [
        ("one sign", ["--sign", "negative", "--at-least", "100"]),
        ("each sign", ["--sign", "each"]),
        ("two years", ["--compare", "2024,2025"]),
        ("by year", ["--by", "year"]),
    ]
    for name, settings in kept:
        arguments = ["digits", "ledger", *on, "--digits", "first-two", *settings, "--keep", name]
        sabueso("try", *arguments, cwd=case)
    sabueso("try", "top", "ledger", *on, "--share", "0.5%", "--keep", "largest", cwd=case)
    sabueso("try", "range", "ledger", *on, "--greatest", "5000", "--keep", "declared", cwd=case)
    sabueso("screen", cwd=case)
    seen = set()
    for path in sorted(case.glob("runs/0001/finding-*.json")):
        finding = json.loads(path.read_text("utf-8"))
        for flag in finding["flags"]:
            if finding["test"] != "digits" or flag["direction"] != "high":
                continue
            found = sabueso(
                "dig", flag["id"], "--rows", "--format", "csv", "--limit", "5000", cwd=case
            )
            amounts = [Decimal(r["Net Amount"]) for r in csv.DictReader(io.StringIO(found.stdout))]
            assert len(amounts) == flag["count"], finding["screen"]
            assert sum(amounts) == Decimal(flag["amount"])
            assert amounts == sorted(amounts, key=abs, reverse=True)
            assert {digits_of(a, "first-two") for a in amounts} == {flag["subject"]["first-two"]}
            seen.add(finding["screen"])
    assert seen == {name for name, _ in kept}
    sabueso("paper", cwd=case)
    page = (case / "papers/working-paper.html").read_text("utf-8")
    assert all(name in page for name in ("two years", "largest", "declared"))


def test_the_sample_case_is_read_as_a_reviewer_would(marisma, tmp_path):
    """Kinds 1 and 2 with their preparers, the price list, the overhaul and its effect on the mean."""
    where = ["--where", "importe > 0 and cuenta <> '62910'"]
    for test, who, classes in (("first-two", "rvc", {"48", "49"}), ("first", "mbo", {"6", "7"})):
        arguments = ["try", "digits", "payments", "--digits", test, "--by-whom", "usuario", *where]
        found = as_json(*arguments, cwd=marisma)
        flagged = {f["subject"][test] for f in found["flags"] if f["direction"] == "high"}
        assert classes <= flagged
        behind = [b for b in found["groups"][0]["behind"] if b["p_adjusted"] < 1e-4]
        assert {b["digits"] for b in behind if b["value"] == who} >= classes
    prices = sabueso("try", "digits", "payments", "--where", "cuenta = '62910'", cwd=marisma).stdout
    assert "prices set by hand" in prices and "not suitable" in prices
    found = as_json("try", "zscore", "payments", "--by", "cuenta", cwd=marisma)
    overhaul = max(found["flags"], key=lambda f: Decimal(f["amount"]))
    assert overhaul["amount"] == "482516.30"
    group = next(g for g in found["groups"] if g["group"]["cuenta"] == "62230")
    assert group["without_flags"]["mean"] < 0.9 * group["with_flags"]["mean"]


def test_rows_set_aside_are_shown_with_and_without(marisma, tmp_path):
    import shutil

    case = tmp_path / "copy"
    shutil.copytree(marisma, case)
    items = as_json("queue", "--top", "200", cwd=case)
    overhaul = next(i["id"] for i in items if i["subject"].get("pago") == "P-015934")
    arguments = ["try", "zscore", "payments"]
    before = as_json(*arguments, cwd=case)
    reason = ["--cleared", "--reason", "contract seen", "--set-aside", "--as", "KL"]
    sabueso("review", overhaul, *reason, cwd=case)
    after = as_json(*arguments, cwd=case)
    beside = after["with_set_aside"]
    assert beside["rows"] == after["population"]["left_out"]["set_aside"] == 1
    assert (beside["used"], beside["flag_count"]) == (
        before["population"]["used"],
        before["flag_count"],
    )
    assert beside["groups"][0]["mean"] == before["groups"][0]["mean"] != after["groups"][0]["mean"]
    text = sabueso(*arguments, cwd=case).stdout
    assert "with the 1 row set aside: used 35,996" in text and "(without" in text


@pytest.mark.parametrize("kind", ["quantile", "strip"])
@pytest.mark.long
def test_figures_of_limits(marisma, tmp_path, kind):
    target = tmp_path / "figure.svg"
    arguments = ["fences", "payments", "--by", "cuenta", "--scale", "log", "--beyond", "outer"]
    sabueso("try", *arguments, "--figure", kind, "--out", str(target), cwd=marisma)
    first = target.read_bytes()
    assert first.startswith(b"<?xml") and b"<path" in first
    sabueso("try", *arguments, "--figure", kind, "--out", str(target), cwd=marisma)
    assert target.read_bytes() == first, "the same finding gives the same picture"
    refused = sabueso("try", "digits", "payments", "--figure", kind, cwd=marisma, code=2)
    assert (
        "digits is drawn in one way alone; several have distance, fences, periods,"
        in refused.stderr
    )


@pytest.mark.parametrize(("n", "wide"), [(80, True), (400, True), (3_000, False), (20_000, False)])
def test_a_normal_law_is_believed_where_the_hundredths_are_normal_too(n, wide):
    """Normal samples pass; of many rows those with a normal middle and wider ends do not."""
    rng, shares = np.random.default_rng(n), [float(share) for share in SHAPE]
    normal = [normal_middle(n, np.quantile(rng.normal(size=n), shares)) for _ in range(200)]
    wider = [normal_middle(n, np.quantile(rng.standard_t(5, n), shares)) for _ in range(200)]
    assert np.mean(normal) > 0.93
    assert bool(np.mean(wider) > 0.5) is wide
