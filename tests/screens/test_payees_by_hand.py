"""Payees over time: every flag and every figure from the plain rows of random payees."""

from __future__ import annotations

from collections import Counter, defaultdict
from datetime import date, timedelta
from decimal import Decimal
from itertools import pairwise
from math import ceil

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from conftest import screened
from known import holm

START = date(2024, 1, 1)


@st.composite
def ledgers(draw):
    """Steady payees; some of them fall silent and return, some have a busy week, some are paid once or on a
    few days alone. Some are known since, or until, a day among their rows."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    rows = []
    for payee in range(draw(st.integers(4, 14))):
        kind = draw(st.sampled_from(["steady", "steady", "silent", "busy", "once", "few"]))
        many = {"once": 1, "few": int(rng.integers(2, 6))}.get(kind, int(rng.integers(6, 40)))
        days = rng.integers(0, 600, many)
        if kind == "silent":
            days = np.concatenate([rng.integers(0, 200, many), rng.integers(420, 470, rng.integers(1, 4))])  # fmt: skip
        if kind == "busy":
            days = np.concatenate([days, rng.integers(300, 308, rng.integers(3, 12))])
        if kind == "few":
            days = 50 + rng.integers(0, 9, many)
        known = START + timedelta(days=int(rng.choice([-400, days.min() - 10, days.min() + 3])))
        closed = START + timedelta(days=int(rng.choice([900, days.max() - 2, days.max()])))
        for day in days:
            cents = int(rng.lognormal(9, 1.2)) * (-1 if rng.random() < 0.08 else 1)
            rows.append(
                {"id": f"R{len(rows):03d}", "payee": f"S{payee:02d}", "day": START + timedelta(days=int(day)),
                 "amount": Decimal(cents).scaleb(-2), "known": known, "closed": closed}
            )  # fmt: skip
    return rows


def _silence(days, silent):
    """The least probable gap of somebody: p, days, the day that ended it; one that is usual for the days before has p 1."""
    least = None
    distinct = sorted(set(days))
    span = (distinct[-1] - distinct[0]).days
    for last, back in pairwise(distinct):
        k, gap = sum(d <= last for d in days), (back - last).days
        if gap >= silent and k >= 5:
            before = distinct.index(back)
            usual = (1 - gap / (back - distinct[0]).days) ** (before - 1) >= 0.05
            p = min((len(distinct) - 1) * (1 - gap / span) ** (len(distinct) - 2), 1.0)
            p = 1.0 if usual else p
            least = min(least or (p, gap, back), (p, gap, back), key=lambda found: found[0])
    return least


def _burst(days, width, period):
    """The fullest window of somebody: p, its first day, its rows, how many are expected, whether it is all."""
    count, span = Counter(days), timedelta(days=width)
    windows = {d: sum(n for e, n in count.items() if d <= e < d + span) for d in sorted(count)}
    first = max(windows, key=lambda d: (windows[d], -d.toordinal()))
    inside, distinct = windows[first], len(count)
    if distinct < 2:
        return None
    if inside == len(days):
        if period <= width:
            return None
        share = width / period
        return min(distinct * share ** (distinct - 1), 1.0), min(days), inside, inside * share, True
    outside = {e: n for e, n in count.items() if not first <= e < first + span}
    rest = sum(outside.values())
    if rest < 5:
        return None
    begin, end = min(days), max(days) + timedelta(days=1)
    others = max((end - begin).days - width, 1)
    rate, around = rest / others, [(rest, others)]
    low, high = max(first - timedelta(days=90), begin), min(first + span + timedelta(days=90), end)
    about = (first - low).days + max((high - first - span).days, 0)
    if about >= 90:
        beside = sum(n for e, n in outside.items() if low <= e < high)
        rate = max(rate, beside / about)
        around.append((beside, about))
    clump = max(sum(n * n for n in outside.values()) / rest, 1.0)
    # A binomial count that may be broken, of all but the row that the window begins with.
    more = inside / clump - 1
    tail = (
        max(stats.beta.cdf(width / (width + of), more, n / clump + 1) for n, of in around)
        if more > 0
        else 1.0
    )
    return min(tail * distinct, 1.0), first, inside, rate * width, False


def _reasons_of_dates(own, large_row, large_sum, soon, run_off):
    first, last = min(r["day"] for r in own), max(r["day"] for r in own)
    known, closed, total = own[0]["known"], own[0]["closed"], abs(sum(r["amount"] for r in own))
    if len(own) == 1 and total >= large_row:
        yield "once_and_large"
    if first < known:
        yield "before_created"
    elif (first - known).days <= soon and total >= large_sum:
        yield "new_and_large"
    if last > closed + timedelta(days=run_off):
        yield "after_closed"


@given(ledgers(), st.sampled_from([40, 90]), st.sampled_from([1, 2]), st.sampled_from([5, 10]),
       st.sampled_from([0.05, 0.3]), st.sampled_from([0.01, 0.25]), st.sampled_from([5, 30]),
       st.sampled_from([0, 20]))  # fmt: skip
def test_every_figure(populate, rows, silent, least, window, alpha, top, soon, run_off):
    people = populate(rows, id="id", party="payee", amount="amount", date="day")
    content = screened(people, "payees", silent=silent, least=least, window=window, alpha=alpha, top=top,
                       soon=soon, created="known", closed="closed", run_off=run_off)  # fmt: skip
    own = defaultdict(list)
    for row in rows:
        own[row["payee"]].append(row)
    period = (max(r["day"] for r in rows) - min(r["day"] for r in rows)).days + 1
    sizes = np.array([float(abs(r["amount"]) * 100) for r in rows])
    large_row = Decimal(ceil(np.quantile(sizes, 1 - top))) / 100
    totals = sorted((abs(sum(r["amount"] for r in each)) for each in own.values()), reverse=True)
    large_sum = totals[max(ceil(top * len(totals)), 1) - 1]

    quiet = {name: _silence([r["day"] for r in each], silent) for name, each in own.items()}
    full = {name: _burst([r["day"] for r in each], window, period) for name, each in own.items()}
    tested = [(word, name) for word, found in (("quiet", quiet), ("full", full)) for name in own if found[name]]  # fmt: skip
    p = [(quiet if word == "quiet" else full)[name][0] for word, name in tested]
    adjusted = dict(zip(tested, holm(p), strict=True)) if p else {}
    assert content["tests_made"] == len(tested)

    expected, outside = {}, {}
    for name, each in own.items():
        reasons, amount, chances = [], None, []
        if adjusted.get(("full", name), 1) < alpha:
            _, first, count, _, alone = full[name]
            inside = [r for r in each if 0 <= (r["day"] - first).days < window]
            assert len(inside) == count
            reasons.append("all_at_once" if alone else "faster")
            amount = sum(r["amount"] for r in inside)
            chances.append(adjusted["full", name])
        if adjusted.get(("quiet", name), 1) < alpha:
            back = quiet[name][2]
            if sum(0 <= (r["day"] - back).days <= 60 for r in each) >= least:
                reasons.insert(0, "revived")
                amount = sum(r["amount"] for r in each if r["day"] >= back)
                chances.append(adjusted["quiet", name])
        reasons += _reasons_of_dates(each, large_row, large_sum, soon, run_off)
        late = [r for r in each if r["day"] > r["closed"] + timedelta(days=run_off)]
        early = [r for r in each if r["day"] < r["known"]]
        for word, some in (("after_closed", late), ("before_created", early)):
            if word in reasons:
                outside[name, word] = len(some)
                amount = sum(r["amount"] for r in some) if amount is None else amount
        if reasons:
            amount = sum(r["amount"] for r in each) if amount is None else amount
            expected[name] = (reasons, amount, min(chances, default=None))
    found = {flag["subject"]["payee"]: flag for flag in content["flags"]}
    assert {name: flag["reasons"] for name, flag in found.items()} == {
        name: reasons for name, (reasons, *_) in expected.items()
    }
    for name, (reasons, amount, chance) in expected.items():
        flag = found[name]
        assert (Decimal(flag["amount"]), flag["rows"]) == (amount, len(own[name]))
        assert flag["p_adjusted"] == (None if chance is None else pytest.approx(chance, rel=1e-6))
        assert Decimal(flag["total"]) == sum(r["amount"] for r in own[name])
        for word in ("before_created", "after_closed"):
            assert flag[f"rows_{word}"] == outside.get((name, word))
        if "revived" in reasons:
            assert (flag["days_silent"], flag["returned"]) == (quiet[name][1], str(quiet[name][2]))
        if {"faster", "all_at_once"} & set(reasons):
            assert (flag["burst"], flag["burst_rows"]) == (str(full[name][1]), full[name][2])
            assert flag["burst_expected"] == pytest.approx(full[name][3])
        if reasons == ["once_and_large"]:
            assert flag["row"] is not None

    (group,) = content["groups"]
    assert (group["n"], group["rows"], group["flagged"]) == (len(own), len(rows), len(expected))
    assert sum(cell["count"] for cell in group["cells"]) == len(own)
    assert sum(Decimal(cell["sum"]) for cell in group["cells"]) == sum(r["amount"] for r in rows)
    assert group["reasons"] == Counter(
        word for reasons, *_ in expected.values() for word in reasons
    )
