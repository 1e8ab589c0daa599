"""Repeats against a plain look at the rows: clusters, reversals, habits, documents, expected pairs."""

from __future__ import annotations

import doctest
from datetime import date, timedelta
from decimal import Decimal
from itertools import combinations, pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import sabueso.screens.repeats.documents as documents
from conftest import screened
from folders import taken_in
from sabueso.base.errors import UserError
from sabueso.screens import find_screen
from sabueso.screens.repeats.clusters import Candidate, clusters, without_reversed
from sabueso.stats.description import describe

START = date(2025, 1, 1)
DESCRIBED = describe(np.array([1000]), np.array([900]), 2)


def test_one_document_under_two_parties(populate):
    """The same number and amount of another party is found, at any distance; another amount, the same party again, and
    a party that states nothing are not."""
    rng = np.random.default_rng(3)
    rows = [
        {"id": f"R{i}", "who": f"S{i % 25}", "doc": f"F-{i:04}", "day": START + timedelta(days=i % 300),
         "amount": Decimal(int(rng.integers(1_000, 900_000))).scaleb(-2)}
        for i in range(600)
    ]  # fmt: skip
    rows += [
        rows[40] | {"id": "other", "who": "S99", "day": START + timedelta(days=280)},
        rows[50] | {"id": "again"},
        rows[60] | {"id": "more", "who": "S98", "amount": rows[60]["amount"] + 1},
        rows[70] | {"id": "nobody", "who": "n/a"},
    ]
    people = populate(rows, id="id", party="who", amount="amount", date="day", document="doc")
    found = screened(people, "repeats", same="doc", differs="who")
    assert [{m["id"] for m in f["members"]} for f in found["flags"]] == [{"R40", "other"}]
    assert "who S15, S99" in found["flags"][0]["differs"]
    proposals = [p.settings for p in find_screen("repeats").proposes(people, DESCRIBED)]
    assert {"same": ["doc"], "differs": "who"} in proposals
    with pytest.raises(UserError, match="differs 'doc': rows that repeat are the same in it"):
        screened(people, "repeats", same="doc", differs="doc")
    # Of a batch every document is of several.
    batch = [r | {"doc": f"B{i % 12}"} for i, r in enumerate(rows)]
    people = populate(batch, id="id", party="who", amount="amount", date="day", document="doc")
    assert len(list(find_screen("repeats").proposes(people, DESCRIBED))) == 1


def test_what_many_bought_of_one_firm_is_no_finding_where_chance_makes_as_much(populate):
    """Cards of two hundred people, most of whom buy of a few firms in whole amounts: no screen asks for what two of them
    bought alike, and none for it with the same buyer, in whom the two are to differ."""
    rng = np.random.default_rng(8)
    rows = [
        {"id": f"R{i}", "who": f"V{int(rng.pareto(0.7)) % 300}", "by": f"C{who}", "card": f"card {who}", "unit": f"U{i % 9}",
         "day": START + timedelta(days=int(rng.integers(365))),
         "amount": Decimal(int(np.exp(rng.normal(6.5, 1)))).scaleb(-1)}
        for i, who in enumerate(map(int, rng.integers(200, size=6_000)))
    ]  # fmt: skip
    people = populate(rows, id="id", party="who", amount="amount", date="day", preparer="by")
    chance = screened(people, "repeats", differs="by")["groups"][0]
    assert 0 < chance["flagged"] < chance["expected_clusters"]
    asked = [p.settings for p in find_screen("repeats").proposes(people, DESCRIBED)]
    assert asked and all("differs" not in settings for settings in asked)


def test_wages_that_come_again_are_no_repeats(populate):
    """Each fortnight's wage is the one before, or nearly; one that comes twice on a day, and an amount of a supplier who
    is paid all sorts in the same steps, are findings. Who has had two wages has the steps of all."""
    rng, rows = np.random.default_rng(8), []
    for who in range(40):
        base = 150_000 + 1_000 * who
        for k in range(2 if who == 7 else 30):
            cents = base + int(rng.integers(0, 4)) * 1_711 + int(rng.integers(0, 40)) * 13
            if who in (3, 7) and k == 1:
                cents = rows[-1]["cents"]
            rows.append(
                {
                    "id": f"W{who}-{k}",
                    "who": f"E{who}",
                    "day": START + timedelta(days=14 * k),
                    "cents": cents,
                }
            )
    rows.append(rows[5] | {"id": "twice"})
    for k in range(30):
        cents = 77_777 if k in (11, 12) else int(rng.integers(1_000, 900_000))
        rows.append(
            {
                "id": f"S{k}",
                "who": "supplier",
                "day": START + timedelta(days=14 * k),
                "cents": cents,
            }
        )
    people = populate(
        [{**{n: r[n] for n in ("id", "who", "day")}, "amount": Decimal(r["cents"]).scaleb(-2)} for r in rows],
        id="id", party="who", amount="amount", date="day",
    )  # fmt: skip
    found = screened(people, "repeats")
    members = {frozenset(m["id"] for m in f["members"]) for f in found["flags"]}
    assert members == {frozenset({rows[5]["id"], "twice"}), frozenset({"S11", "S12"})}
    assert found["groups"][0]["in_step"] >= 2


def test_one_place_of_even_steps_twice(populate):
    """A rent of each month that comes twice in one; one that was late, and comes beside the next; and another amount of
    each fortnight, of which two follow one another."""
    rng, rows = np.random.default_rng(9), []

    def add(who, day, cents):
        rows.append(
            {
                "id": f"R{len(rows)}",
                "who": who,
                "day": START + timedelta(days=int(day)),
                "cents": cents,
            }
        )

    for k in range(12):
        for who in ("even", "late", "plain"):
            late = 27 if who == "late" and k == 5 else 0
            add(who, 30 * k + int(rng.integers(0, 4)) + late, 80_000)
    add("even", 30 * 7 + 4, 80_000)
    for k in range(40):
        add("wages", 14 * k, 90_000 if k in (2, 8, 14, 20, 26, 27, 32, 38) else 90_000 + 7 * k + 1)
    for k in range(600):
        add(f"S{k % 30}", int(rng.integers(0, 400)), int(rng.integers(100, 900_000)))
    people = populate(
        [{**{n: r[n] for n in ("id", "who", "day")}, "amount": Decimal(r["cents"]).scaleb(-2)} for r in rows],
        id="id", party="who", amount="amount", date="day",
    )  # fmt: skip
    (flag,) = screened(people, "repeats")["flags"]
    assert flag["subject"]["party"] == "even" and flag["p"] is None and flag["excess"] == "800.00"
    assert flag["differs"][1].startswith("where rows of this amount come every ")
    assert {m["id"] for m in flag["members"]} == {"R21", "R36"}


def test_examples():
    assert doctest.testmod(documents).failed == 0


def _ledger(seed=3, parties=30, rows=60):
    """Distinct amounts, a standing order, a price list, and what is planted."""
    rng = np.random.default_rng(seed)
    found = []

    def add(party, amount, day, document):
        found.append(
            {"id": f"P{len(found):05d}", "day": START + timedelta(days=int(day)), "party": f"S{party:02d}",
             "amount": Decimal(str(amount)), "doc": document}
        )  # fmt: skip

    for party in range(parties):
        for i in range(rows):
            add(party, f"{rng.lognormal(7, 1):.2f}", rng.integers(0, 365), f"F{party:02d}-{i:04d}")
    for month in range(12):
        add(90, "1200.00", 30 * month, f"R-{month:04d}")
        add(90, "1200.00", 30 * month + 10, f"R-{month + 50:04d}")
    for day in range(200):
        add(91, ("15.00", "22.50", "40.00")[day % 3], day, f"T-{day:05d}")
    return found, add


def test_planted_repeats_are_found_and_habits_are_not(populate):
    rows, add = _ledger()
    add(3, "1745.20", 100, "F03-0777")
    add(3, "1745.20", 104, "F03-0777")
    add(4, "980.10", 20, "F04/0800")
    add(4, "980.10", 300, "f04 800")  # the same document, far away
    add(5, "651.00", 50, "F05-0900")
    add(5, "651.00", 53, "F05-0901")
    add(6, "333.30", 60, "F06-0950")
    add(6, "333.30", 61, "F06-0950")
    add(6, "-333.30", 70, "A06-0001")  # reversed: innocent
    for day in (10, 200):  # far apart, and of no document
        for nothing, party in (("-", 7), ("n/a", 8), ("0000", 9)):
            add(party, "512.40", day, nothing)
    found = screened(
        populate(rows, date="day", party="party", amount="amount", document="doc", id="id"),
        "repeats",
    )
    assert [f["subject"]["party"] for f in found["flags"]] == ["S03", "S04", "S05"]
    first = found["flags"][0]
    assert first["differs"] == ["4 days apart", "same document"] and first["excess"] == "1745.20"
    assert found["flags"][1]["differs"] == ["280 days apart", "document written otherwise"]
    (group,) = found["groups"]
    assert (group["clusters"], group["rows"], group["excess"]) == (3, 6, "3376.30")
    assert (group["reversed"], group["reversed_rows"]) == (1, 2)
    assert {"usual", "reversed"} <= {c["code"] for c in found["cautions"]}
    assert "states_nothing" not in {c["code"] for c in found["cautions"]}
    # Of nobody named nothing is concluded: of three rows at hand two would repeat one another.
    for day, party in ((30, "n/a"), (31, "n/a"), (32, "-")):
        rows.append({"id": f"P{len(rows):05d}", "day": START + timedelta(days=day), "party": party,
                     "amount": Decimal("77.70"), "doc": f"X-{day}"})  # fmt: skip
    again = screened(
        populate(rows, date="day", party="party", amount="amount", document="doc", id="id"),
        "repeats",
    )
    assert [f["subject"] for f in again["flags"]] == [f["subject"] for f in found["flags"]]
    (said,) = (c["text"] for c in again["cautions"] if c["code"] == "states_nothing")
    assert said.startswith("2 rows of one amount, close in time or of one document, say nothing")
    assert group["looked_at"] == group["clusters"] + group["usual"]


def test_expected_pairs_against_a_plain_count(populate):
    rng = np.random.default_rng(4)
    rows = [
        {"id": f"R{i}", "day": START + timedelta(days=int(rng.integers(0, 300))), "party": f"S{int(rng.integers(0, 4))}",
         "amount": Decimal(int(rng.integers(1, 30)))}
        for i in range(200)
    ]  # fmt: skip
    found = screened(
        populate(rows, date="day", party="party", amount="amount", id="id"),
        "repeats",
        within=5,
        alpha=1,
    )
    n = len(rows)
    same = sum(a["amount"] == b["amount"] for a, b in combinations(rows, 2)) / (n * (n - 1) / 2)
    pairs = sum(a["party"] == b["party"] for a, b in combinations(rows, 2))
    days = (max(r["day"] for r in rows) - min(r["day"] for r in rows)).days + 1
    assert found["groups"][0]["expected_clusters"] == pytest.approx(
        pairs * same * 11 / days, rel=1e-12
    )
    # Every pair within five days is in one cluster, and no cluster is without one.
    known = [{m["id"] for m in flag["members"]} for flag in found["flags"]]
    for a, b in combinations(rows, 2):
        near = abs((a["day"] - b["day"]).days) <= 5 and a["party"] == b["party"]
        if near and a["amount"] == b["amount"]:
            assert any({a["id"], b["id"]} <= members for members in known)
    by_id = {row["id"]: row for row in rows}
    for members in known:
        ordered = sorted(by_id[m]["day"] for m in members)
        assert all((b - a).days <= 5 for a, b in pairwise(ordered))


candidates = st.lists(
    st.tuples(
        st.sampled_from([1, -1]), st.integers(0, 60), st.sampled_from(["", "A1", "B2", "C-3"])
    ),
    max_size=12,
).map(
    lambda rows: [
        Candidate(i, sign * 500, START + timedelta(days=day), document or None)
        for i, (sign, day, document) in enumerate(sorted(rows, key=lambda r: r[1]))
    ]
)


@given(candidates, st.integers(0, 20))
def test_reversals_and_chains(rows, within):
    kept, undone = without_reversed(rows)
    assert len(kept) + 2 * undone == len(rows)
    assert sum(row.units for row in kept) == sum(row.units for row in rows)
    assert len({row.units for row in kept}) <= 1
    seen = [row.place for found in clusters(kept, within) for row in found.rows]
    assert len(seen) == len(set(seen))
    for a, b in pairwise(kept):
        if (b.day - a.day).days <= within or (a.document and a.document == b.document):
            assert {a.place, b.place} <= set(seen)


def test_what_does_not_suit_is_said(populate):
    rows, _ = _ledger(parties=3)
    plain = populate(rows, amount="amount")
    with pytest.raises(UserError, match="names no party"):
        screened(plain, "repeats")
    found = screened(plain, "repeats", same="party", alpha=1)
    assert {"no_dates", "no_documents"} <= {c["code"] for c in found["cautions"]}
    assert found["groups"][0]["expected_clusters"] is None


def test_bills_that_are_paid_in_parts_are_no_repeats_and_their_numbers_are_their_own(tmp_path):
    """Halves of one bill are alike, a month apart, and as many bills are paid so as are not."""
    bills = [{"Invoice": f"INV{n:04}", "Date": date(2024, 1, 2) + timedelta(days=n), "Total": 1000 + 7 * n} for n in range(300) if n not in (80, 191)]  # fmt: skip
    paid = [
        {"Receipt": f"RC{2 * n + part:05}", "Date": bill["Date"] + timedelta(days=9 + 30 * part), "Invoice": bill["Invoice"], "Amount": Decimal(bill["Total"]) / (1 + n % 2)}
        for n, bill in enumerate(bills) for part in range(1 + n % 2)
    ]  # fmt: skip
    _, screens = taken_in(tmp_path, {"invoices": bills, "receipts": paid})
    assert "repeats of receipts" not in screens
    assert [name for name in screens if "missing" in name] == ["Invoice of invoices missing, INV …"]
