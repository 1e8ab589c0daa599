"""Digit classes, every figure of every group, from the decimal text of each amount and with SciPy's own laws."""

from __future__ import annotations

from collections import Counter
from decimal import Decimal
from math import log, log10

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from conftest import screened

USERS = ("ana", "blas", "few", None)
DIGITS = {"first": 1, "first-two": 2, "first-three": 3, "second": 2, "last-two": None}


def _population(populate, pairs):
    rows = [
        {"id": f"R{i}", "who": who, "amount": None if u is None else Decimal(u).scaleb(-2)}
        for i, (who, u) in enumerate(pairs)
    ]
    return populate(rows, id="id", preparer="who", amount="amount")


@st.composite
def ledgers(draw):
    """Users with amounts over several orders, some with a planted digit, credits, noughts and blanks."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    n = draw(st.integers(120, 400))
    units = np.exp(rng.normal(9, draw(st.sampled_from([0.8, 2.0, 3.0])), n)).astype(int)
    if draw(st.booleans()):
        units[: n // 6] = 70000 + rng.integers(0, 9999, n // 6)
    if draw(st.booleans()):
        units = units * rng.choice([1, -1], n)
    pairs = [(USERS[i % 2], int(u)) for i, u in enumerate(units)]
    pairs += [("few", int(u)) for u in units[:9]] + [(None, int(u)) for u in units[:60]]
    return [
        *pairs,
        ("ana", None),
        ("ana", 0),
        ("blas", 0),
        ("blas", 7),
        ("blas", -43),
        ("ana", 1000),
    ]


def _class_of(units, digits):
    """The class of an amount in minor units, or None where it has too few digits for the test."""
    text = str(abs(units))
    if digits == "last-two":
        return None if abs(units) < 1000 else text[-2:]
    wanted = DIGITS[digits]
    if len(text) < wanted:
        return None
    return text[1] if digits == "second" else text[:wanted]


def _law(digits):
    if digits == "last-two":
        return {f"{d:02d}": 0.01 for d in range(100)}
    if digits == "second":
        return {str(d): sum(log10(1 + 1 / (10 * k + d)) for k in range(1, 10)) for d in range(10)}
    width = DIGITS[digits]
    return {str(d): log10(1 + 1 / d) for d in range(10 ** (width - 1), 10**width)}


def _kept(units, sign):
    return [
        u for u in units if u and (sign in ("absolute", "each") or (u > 0) == (sign == "positive"))
    ]


@given(
    ledgers(),
    st.sampled_from(sorted(DIGITS)),
    st.sampled_from(["absolute", "positive", "negative"]),
    st.sampled_from(["both", "high", "low"]),
)
def test_classes(populate, pairs, digits, sign, side):
    population = _population(populate, pairs)
    content = screened(population, "digits", by="who", digits=digits, sign=sign, side=side)
    law = _law(digits)
    by_user = {}
    for who, units in pairs:
        if units is not None:
            by_user.setdefault(who, []).append(units)
    every = {
        who: [(u, c) for u in _kept(units, sign) if (c := _class_of(u, digits)) is not None]
        for who, units in by_user.items()
    }
    assert content["population"]["used"] == sum(map(len, every.values()))
    assert sum(content["population"]["left_out"].values()) + content["population"]["used"] == len(
        pairs
    )
    assert Decimal(content["population"]["used_total"]) == sum(
        Decimal(u).scaleb(-2) for rows in every.values() for u, _ in rows
    )
    tested = {g["group"]["who"] for g in content["groups"]}
    assert tested == {who for who, rows in every.items() if len(rows) >= 50}
    pvalues = {}
    for group in content["groups"]:
        rows = every[group["group"]["who"]]
        n, counts = len(rows), Counter(c for _, c in rows)
        assert group["n"] == n
        expected = np.array(list(law.values()))
        seen = np.array([counts[c] for c in law])
        statistic, p = stats.chisquare(seen, expected * n / expected.sum())
        assert group["chi_square"] == pytest.approx(statistic, rel=1e-9)
        assert group["chi_square_p"] == pytest.approx(p, rel=1e-6, abs=1e-300)
        assert group["mad"] == pytest.approx(np.abs(seen / n - expected).mean(), rel=1e-9)
        off = np.abs(np.arange(n + 1) / n - expected[:, None])
        chance = (stats.binom.pmf(np.arange(n + 1), n, expected[:, None]) * off).sum(axis=1).mean()
        assert group["mad_expected"] == pytest.approx(chance, rel=1e-9)
        spread = np.abs(np.cumsum(seen / n) - np.cumsum(expected)).max()
        assert group["ks"] == pytest.approx(spread, rel=1e-6, abs=1e-9)
        turns = np.exp(2j * np.pi * np.log10([abs(u) for u, _ in rows]))
        if digits != "last-two":
            assert group["mantissa_l2"] == pytest.approx(abs(turns.mean()) ** 2, rel=1e-5, abs=1e-9)
        sizes = sum(abs(u) for u, _ in rows)
        for line in group["classes"]:
            name = line["digits"]
            inside = [u for u, c in rows if c == name]
            assert line["count"] == len(inside)
            assert Decimal(line["amount"]) == Decimal(sum(inside)).scaleb(-2)
            assert line["magnitude_share"] == pytest.approx(sum(map(abs, inside)) / sizes)
            assert line["expected"] == pytest.approx(law[name], rel=1e-12)
            assert line["ratio"] == pytest.approx(len(inside) / n / law[name], rel=1e-9)
            low, high = stats.binom.cdf(len(inside), n, law[name]), stats.binom.sf(len(inside) - 1, n, law[name])  # fmt: skip
            p = min(1, 2 * min(low, high))
            assert line["p"] == pytest.approx(p, rel=1e-6, abs=1e-300)
            pvalues[group["group"]["who"], name] = p
            off = abs(len(inside) / n - law[name])
            c = 1 / (2 * n)
            z = (off - (c if c < off else 0)) / np.sqrt(law[name] * (1 - law[name]) / n)
            assert abs(line["z"]) == pytest.approx(z, rel=1e-6, abs=1e-9)
            if line.get("significand_z") is not None:
                first = int(name) / 10 ** (len(name) - 1)
                after = first + 10.0 ** -(len(name) - 1)
                fair = (after - first) / log(10)
                variance = (after**2 - first**2) / (2 * log(10)) - fair**2
                inner = sum(abs(u) / 10.0 ** (len(str(abs(u))) - 1) for u in inside)
                score = (inner - n * fair) / np.sqrt(n * variance)
                assert line["significand_z"] == pytest.approx(score, rel=1e-6, abs=1e-6)
        assert sum(line["count"] for line in group["classes"]) == n
    ordered = sorted(pvalues.values())
    top, holm = 0.0, {}
    for rank, p in enumerate(ordered):
        top = max(top, min(1.0, p * (len(ordered) - rank)))
        holm[p] = max(top, holm.get(p, 0.0)) if p not in holm else holm[p]
    assert content["tests_made"] == len(pvalues)
    flagged = {(f["group"]["who"], f["subject"][digits]) for f in content["flags"]}
    for group in content["groups"]:
        for line in group["classes"]:
            place = group["group"]["who"], line["digits"]
            assert line["p_adjusted"] == pytest.approx(holm[pvalues[place]], rel=1e-6, abs=1e-300)
            outside = not line["band_low"] <= line["share"] <= line["band_high"]
            assert (place in flagged) == line["flagged"]
            if line["flagged"]:
                assert line["p_adjusted"] < 0.05 and outside
                assert side == "both" or (line["difference"] > 0) == (side == "high")
            elif line["p_adjusted"] < 0.05 and outside:
                assert side != "both" and (line["difference"] > 0) != (side == "high")
    for flag in content["flags"]:
        inside = [u for u, c in every[flag["group"]["who"]] if c == flag["subject"][digits]]
        assert flag["count"] == len(inside)
        assert Decimal(flag["amount"]) == Decimal(sum(inside)).scaleb(-2)


@given(ledgers(), st.sampled_from(["first", "first-two", "second"]))
def test_differences_between_sorted_distinct_amounts(populate, pairs, digits):
    content = screened(_population(populate, pairs), "digits", of="differences", digits=digits)
    distinct = sorted({u for _, u in pairs if u})
    steps = np.diff(distinct).tolist()
    least = {"first": 1, "second": 10, "first-two": 10}[digits]
    counts = Counter(_class_of(step, digits) for step in steps if step >= least)
    (group,) = content["groups"]
    assert group["n"] == sum(counts.values())
    assert {line["digits"]: line["count"] for line in group["classes"] if line["count"]} == counts
