"""A relation of two measures, every figure by refitting without each subject and by SciPy's own functions."""

from __future__ import annotations

from collections import defaultdict
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from scipy import stats

from conftest import screened


@st.composite
def ledgers(draw):
    """Hours and amounts of rows with a payee and a place; some payees are far off the line."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    payees = draw(st.integers(12, 30))
    slope = draw(st.sampled_from([-3, 0, 0.4, 20]))
    noise = draw(st.sampled_from([1, 40, 400]))
    off = {int(each) for each in rng.integers(0, payees, draw(st.integers(0, 2)))}
    rows = []
    for payee in range(payees):
        for _ in range(int(rng.integers(1, 4))):
            hours = int(rng.integers(10, 400))
            value = slope * hours + noise * float(rng.normal()) + (payee in off) * noise * 9
            rows.append(
                {"payee": f"S{payee:02d}", "place": "AB"[payee % 2], "hours": Decimal(hours).scaleb(-1),
                 "amount": Decimal(round(value * 100)).scaleb(-2)}
            )  # fmt: skip
    return rows


def _points(rows, per_payee):
    """Subject to place, x and y."""
    if not per_payee:
        return {i: (r["place"], float(r["hours"]), float(r["amount"])) for i, r in enumerate(rows)}
    sums = defaultdict(lambda: [Decimal(0), Decimal(0)])
    for row in rows:
        sums[row["payee"], row["place"]][0] += row["hours"]
        sums[row["payee"], row["place"]][1] += row["amount"]
    return {payee: (place, float(x), float(y)) for (payee, place), (x, y) in sums.items()}


def _line(x, y):
    design = np.column_stack([np.ones(len(x)), x])
    (intercept, slope), *_ = np.linalg.lstsq(design, y, rcond=None)
    residual = y - intercept - slope * x
    return intercept, slope, residual, float(np.sqrt((residual**2).sum() / (len(x) - 2)))


def _near(found, expected, rel=1e-7):
    assert found == pytest.approx(float(expected), rel=rel, abs=1e-9)


def _check(group, points):
    """One part against SciPy and against fits without each of its subjects; p of their residuals."""
    x, y = (np.array([p[i] for p in points.values()]) for i in (1, 2))
    n = len(x)
    r = stats.pearsonr(x, y)
    interval = r.confidence_interval(0.95)
    _near(group["r"], r.statistic)
    _near(group["r_p"], r.pvalue, 1e-6)
    _near(group["r_low"], interval.low)
    _near(group["r_high"], interval.high)
    rho = stats.spearmanr(x, y)
    _near(group["rho"], rho.statistic)
    line = stats.linregress(x, y)
    _near(group["slope"], line.slope)
    _near(group["slope_error"], line.stderr)
    _near(group["intercept"], line.intercept, 1e-6)
    robust = stats.theilslopes(y, x)
    if len(set(x)) == n:
        assert group["pairs_theil_sen"] == n * (n - 1) // 2
        _near(group["slope_theil_sen"], robust.slope, 1e-6)
    intercept, slope, residual, s = _line(x, y)
    centred = x - x.mean()
    leverage = 1 / n + centred**2 / (centred**2).sum()
    hc3 = np.sqrt((centred**2 * (residual / (1 - leverage)) ** 2).sum()) / (centred**2).sum()
    _near(group["slope_error_hc3"], hc3)
    outside, cook, without = np.empty(n), np.empty(n), np.empty(n)
    for i in range(n):
        keep = np.arange(n) != i
        a, b, _, spread = _line(x[keep], y[keep])
        outside[i] = residual[i] / (spread * np.sqrt(1 - leverage[i]))
        cook[i] = ((intercept - a + (slope - b) * x) ** 2).sum() / (2 * s**2)
        without[i] = stats.pearsonr(x[keep], y[keep]).statistic
    change = np.abs(without - r.statistic)
    _near(abs(group["most_influential"]["r_without"] - group["r"]), change.max(), 1e-6)
    beyond = cook > stats.f.ppf(0.5, 2, n - 2)
    assert group["mover_count"] == int((beyond | (leverage > 0.5)).sum())
    return np.minimum(2 * stats.t.sf(np.abs(outside), n - 3), 1)


@given(ledgers(), st.booleans(), st.booleans(), st.sampled_from([0.01, 0.2]))
def test_every_figure(populate, rows, per_payee, by_place, alpha):
    people = populate(rows, party="payee", amount="amount")
    measures = ["sum(hours)", "sum(amount)"] if per_payee else ["hours", "amount"]
    asked = {"measures": measures, "alpha": alpha}
    asked |= {"per": "payee"} if per_payee else {}
    asked |= {"by": "place"} if by_place else {}
    points = _points(rows, per_payee)
    parts = {(): points}
    if by_place:
        parts |= {
            (place,): {k: v for k, v in points.items() if v[0] == place} for place in ("A", "B")
        }
    assume(all(len(part) >= 12 for part in parts.values()))
    assume(all(len({v[1] for v in part.values()}) > 3 for part in parts.values()))
    content = screened(people, "relation", **asked)
    groups = {tuple(g["group"].values()): g for g in content["groups"]}
    assert set(groups) == set(parts)
    judged = {}
    for key, part in parts.items():
        group = groups[key]
        assert group["n"] == len(part)
        p = _check(group, part)
        if key or not by_place:
            judged[key] = p
        if key and group["rest"] is not None:
            (other,) = (k for k in parts if k and k != key)
            _near(group["rest"]["r"], groups[other]["r"])
            gap = np.arctanh(group["r"]) - np.arctanh(groups[other]["r"])
            error = np.sqrt(1 / (group["n"] - 3) + 1 / (groups[other]["n"] - 3))
            _near(group["difference_p"], 2 * stats.norm.sf(abs(gap) / error), 1e-6)
    # Holm over the subjects of all parts that are judged.
    every = np.concatenate(list(judged.values()))
    order = np.argsort(every)
    adjusted = np.empty(len(every))
    adjusted[order] = np.maximum.accumulate(every[order] * np.arange(len(every), 0, -1))
    start = 0
    for key, p in judged.items():
        mine = adjusted[start : start + len(p)]
        start += len(p)
        assert groups[key]["flagged"] == int((mine < alpha).sum())
    assert content["flag_count"] == int((adjusted < alpha).sum())
