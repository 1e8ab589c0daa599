"""Payees over time against a plain look at their rows."""

from __future__ import annotations

import doctest
from collections import defaultdict
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import nbinom, poisson

import sabueso.stats.bursts as bursts
import sabueso.stats.frequent as frequency
import sabueso.stats.parts as parts
import sabueso.stats.silence as silence
from conftest import populated, screened
from sabueso.base.errors import UserError
from sabueso.population.table import Linked

START = date(2024, 1, 1)
ROLES = {"date": "day", "party": "party", "amount": "amount", "id": "id"}


def test_examples():
    assert doctest.testmod(silence).failed == doctest.testmod(bursts).failed == 0
    assert doctest.testmod(frequency).failed == 0


@given(st.integers(0, 2**32 - 1), st.integers(100, 900), st.floats(0.2, 6), st.floats(0, 0.7))
def test_chance_gives_nobody_so_many_rows(seed, of, rate, more):
    """The tail of the Poisson law, or of the negative binomial law where rates differ, at the mean of all others; where it
    holds nobody is named more often than stated."""
    rng = np.random.default_rng(seed)
    rates = rng.gamma(rate / more, more, of) if more > 0.01 else np.full(of, rate)
    every = rng.poisson(rates)
    p, mean = frequency.frequent(every[every > 0], of)
    assert mean <= every.mean()
    if np.isnan(p).all():
        return  # rates that differ by chance more than is asked of
    usual = np.sort(every)[: of - max(1, int(np.ceil(0.005 * of)))]
    spread = 1.1 * (1 + 2 * np.sqrt(2 / of)) * usual.var() / mean
    for count, tail in zip(every[every > 0][:20], p, strict=False):
        others = max((every.sum() - count) / (of - 1), mean)
        law = poisson(others) if spread <= 1 else nbinom(others / (spread - 1), 1 / spread)
        assert tail == pytest.approx(law.sf(count - 1), rel=1e-9)
    assert p.min() * of > 1e-4


def test_a_customer_with_more_rows_than_others(tmp_path):
    rng = np.random.default_rng(2)
    who = [*rng.integers(0, 400, 300), *[77] * 14]
    rows = [
        {"id": f"A{i}", "party": f"C{w}", "day": START + timedelta(days=int(rng.integers(0, 360))), "amount": Decimal(9)}
        for i, w in enumerate(who)
    ]  # fmt: skip
    master = [{"party": f"C{i}"} for i in range(400)]
    with populated(tmp_path, {"ledger": rows, "master": master}, **ROLES) as people:
        table = replace(people.table, links={"party": Linked(people.tables["master"], "party")})
        found = screened(replace(people, table=table), "payees")
    told = {f["subject"]["party"]: f for f in found["flags"] if "often" in f["reasons"]}
    assert set(told) == {"C77"} and told["C77"]["rows"] == who.count(77)
    assert told["C77"]["rows_usual"] == pytest.approx(0.75, abs=0.1)
    assert found["groups"][0]["tested_for_rows"] == len(set(who))


histories = st.lists(
    st.lists(st.integers(0, 700), min_size=1, max_size=14, unique=True).map(sorted),
    min_size=1,
    max_size=5,
)


@given(histories, st.integers(1, 40))
def test_parts_of_the_payees_are_judged_as_all_together(payees, at_once):
    day = np.array([d for days in payees for d in days])
    starts = np.cumsum([0, *(len(days) for days in payees[:-1])])
    rows = np.array([1 + d % 3 for d in day])

    def judged():
        quiet = silence.silences(starts, day, rows, least_days=30, least_before=2)
        return quiet, bursts.bursts(starts, day, rows, width=10, period=730)

    whole = judged()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(parts, "AT_ONCE", at_once)
        for one, other in zip(whole, judged(), strict=True):
            for name, values in vars(one).items():
                np.testing.assert_array_equal(values, getattr(other, name))


@given(histories, st.integers(10, 200), st.integers(1, 6))
def test_the_least_probable_silence(payees, least_days, least_before):
    day = np.array([d for days in payees for d in days])
    starts = np.cumsum([0, *(len(days) for days in payees[:-1])])
    rows = np.array([1 + d % 3 for d in day])
    found = silence.silences(starts, day, rows, least_days=least_days, least_before=least_before)
    for k, days in enumerate(payees):
        least, where = np.inf, -1
        for i in range(1, len(days)):
            before = sum(1 + d % 3 for d in days[:i])
            gap = days[i] - days[i - 1]
            if gap >= least_days and before >= least_before:
                p = min((1 - gap / (days[-1] - days[0])) ** (len(days) - 2) * (len(days) - 1), 1)
                if (1 - gap / (days[i] - days[0])) ** (i - 1) >= 0.05:
                    p = 1
                if p < least:
                    least, where = p, i
        if where < 0:
            assert np.isnan(found.p[k]) and found.at[k] == -1
        else:
            assert found.p[k] == pytest.approx(least) and found.at[k] == starts[k] + where


def _ledger(seed=2, payees=60):
    rng = np.random.default_rng(seed)
    rows = []

    def add(party, day, amount, created=None):
        rows.append(
            {"id": f"R{len(rows):05d}", "day": START + timedelta(days=int(day)), "party": party,
             "amount": Decimal(str(amount)), "known": created or date(2020, 1, 1)}
        )  # fmt: skip

    for payee in range(payees):
        for day in rng.integers(0, 730, rng.integers(8, 60)):
            add(f"S{payee:02d}", day, f"{rng.lognormal(6, 0.8):.2f}")
    return rows, add


def test_each_reason_is_found_and_nobody_else(populate):
    rows, add = _ledger()
    for day in [*range(0, 200, 20), *range(640, 660, 4)]:
        add("BACK", day, "900.00")
    add("ONCE", 400, "98000.00")
    for day in (300, 305, 310):
        add("NEW", day, "60000.00", START + timedelta(days=290))
    add("EARLY", 100, "50.00", START + timedelta(days=200))
    add("EARLY", 300, "50.00", START + timedelta(days=200))
    for day in (501, 502, 503, 505, 506, 507, 508):
        add("BRIEF", day, "80.00")
    for day in [*range(0, 700, 35), *range(350, 358)]:
        add("BURST", day, "40.00")
    found = screened(populate(rows, **ROLES), "payees", created="known", top=0.02)
    reasons = {f["subject"]["party"]: f["reasons"] for f in found["flags"]}
    assert reasons == {
        "BACK": ["revived"], "ONCE": ["once_and_large"], "NEW": ["new_and_large"], "EARLY": ["before_created"],
        "BRIEF": ["all_at_once"], "BURST": ["faster"],
    }  # fmt: skip
    flags = {f["subject"]["party"]: f for f in found["flags"]}
    once = next(row for row in rows if row["party"] == "ONCE")
    assert {party for party, flag in flags.items() if flag["row"]} == {"ONCE"}
    assert flags["ONCE"]["row"]["id"] == once["id"]
    assert flags["ONCE"]["context"]["party"] == "ONCE"
    back, burst, brief = flags["BACK"], flags["BURST"], flags["BRIEF"]
    # A burst is no return, and a return no burst.
    assert burst["returned"] is burst["days_silent"] is brief["returned"] is back["burst"] is None
    assert burst["burst"] == str(START + timedelta(days=350)) and burst["burst_rows"] == 9
    assert burst["amount"] == "360.00" and brief["p"] == pytest.approx(
        7 * (10 / 730) ** 6, rel=0.02
    )
    assert (back["subject"]["party"], back["days_silent"], back["amount"]) == (
        "BACK",
        460,
        "4500.00",
    )
    assert back["returned"] == str(START + timedelta(days=640))
    (group,) = found["groups"]
    totals = defaultdict(Decimal)
    for row in rows:
        totals[row["party"]] += row["amount"]
    assert sum(c["count"] for c in group["cells"]) == group["n"] == len(totals)
    assert sum(Decimal(c["sum"]) for c in group["cells"]) == sum(totals.values())
    assert set(group["reasons"]) == {reason for each in reasons.values() for reason in each}
    assert set(group["reasons"].values()) == {1}


@pytest.mark.long
def test_even_payees_are_flagged_no_more_often_than_stated(populate):
    flagged = 0
    for seed in range(30):
        rows, _ = _ledger(seed, payees=25)
        flagged += bool(
            screened(populate(rows, **ROLES), "payees", silent=30, top=0.001)["flag_count"]
        )
    assert flagged <= 5  # of 30 at 5 %: more than 5 come once in a hundred


def test_to_be_paid_once_is_no_reason_where_most_are(populate):
    """Of thirty of forty that were paid once the largest is nothing odd, and of five it is."""
    for once, odd in ((5, True), (30, False)):
        rows = [
            {"day": START + timedelta(days=9 * i), "party": f"P{p:02}", "amount": Decimal(100 + i)}
            for p in range(40)
            for i in range(1 if p < once else 6)
        ]
        rows[0]["amount"] = Decimal(90_000)
        found = screened(populate(rows, date="day", party="party", amount="amount"), "payees")
        codes = {caution["code"] for caution in found["cautions"]}
        assert ("usually_once" in codes) is not odd
        flagged = {flag["subject"].get("party") or flag["reason"] for flag in found["flags"]}
        assert bool(flagged) is odd


def test_a_payee_that_states_nothing_is_said(populate):
    rows, _ = _ledger(payees=3)
    known = screened(populate(rows, date="day", party="party", amount="amount"), "payees")
    assert known["cautions"] == []
    named = [
        {**row, "party": "n/a" if row["party"] == rows[0]["party"] else row["party"]}
        for row in rows
    ]
    found = screened(populate(named, date="day", party="party", amount="amount"), "payees")
    (caution,) = found["cautions"]
    assert caution["text"] == "'n/a', taken for a payee, states nothing: the rows may be of several"


def _billed(own, *, house=False, seed=5):
    """Bills of thirty payees, eight each and more: of ``own`` of them each number follows the one before."""
    rng = np.random.default_rng(seed)
    rows = []
    for p in range(30):
        at = np.cumsum(rng.integers(1, 90, 12)) + 1_000 * p
        for i in range(12):
            number = (
                f"F-{at[i]:06}"
                if p >= own
                else f"{'ABC'[p % 3]}{2024 + i // 6}/{p:02}{i % 6 + 4:03}"
            )
            day = START + timedelta(days=int(rng.integers(0, 700)))
            rows.append({"id": f"r{p}-{i}", "day": day, "party": f"P{p:02}", "bill": number})
            rows[-1]["amount"] = Decimal(int(rng.integers(1_000, 9_000))) / 100
    if house:
        for i, row in enumerate(rows):
            row["bill"] = f"H-{i // 12 * 12 + i % 12:05}"
    return rows


def test_numbers_in_a_row_are_those_of_somebody_with_one_customer(populate):
    roles = {**ROLES, "document": "bill"}
    found = screened(populate(_billed(2), **roles), "payees")
    told = {f["subject"]["party"]: f for f in found["flags"] if "numbered_on" in f["reasons"]}
    assert set(told) == {"P00", "P01"}
    assert [told["P00"][k] for k in ("numbers", "numbers_span", "number_first", "number_last")] == [
        12, 12, "A2024/00004", "A2025/00009",
    ]  # fmt: skip
    assert found["groups"][0]["asked_for_numbers"] == 30 and not found["cautions"]
    # Of a house that numbers its papers itself each payee may have some in a row.
    own = screened(populate(_billed(0, house=True), **roles), "payees")
    assert not any("numbered_on" in f["reasons"] for f in own["flags"]) and not own["cautions"]
    # Where many have such numbers, they are no reason to look at one.
    many = screened(populate(_billed(9), **roles), "payees")
    assert not any("numbered_on" in f["reasons"] for f in many["flags"])
    assert [c["code"] for c in many["cautions"]] == ["usual_numbers"]
    assert many["cautions"][0]["payees"] == 9


def test_numbers_that_are_months_say_nothing(populate):
    rows = _billed(0)
    for i in range(12):
        day = date(2024, i + 1, 3)
        rows.append({"id": f"m{i}", "day": day, "party": "RENT", "bill": f"R-{day:%Y%m}"})
        rows[-1]["amount"] = Decimal(900 + i)
    found = screened(populate(rows, **ROLES, document="bill"), "payees")
    assert not any("numbered_on" in f["reasons"] for f in found["flags"])


def test_what_does_not_suit_is_said(populate):
    rows, _ = _ledger(payees=3)
    with pytest.raises(UserError, match="names no party"):
        screened(populate(rows, date="day", amount="amount"), "payees")
    with pytest.raises(UserError, match="needs a date"):
        screened(populate(rows, party="party", amount="amount"), "payees")
