"""Amounts under a limit: bands, who is behind them and pieces, from the plain rows of random ledgers."""

from __future__ import annotations

from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal
from itertools import permutations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from conftest import screened
from known import holm, plain_bundles
from sabueso.population.drill import rows as rows_of

START = date(2024, 2, 1)
LIMITS = ["5000", "99.99", "1234.56", "case when place = 'A' then 5000 else 1999.95 end"]


def _limit(row, text):
    if text.startswith("case"):
        return Decimal("5000") if row["place"] == "A" else Decimal("1999.95")
    return Decimal(text)


@st.composite
def ledgers(draw):
    """Amounts around their limit, many of them on its thousandths and a cent beside these, of few people."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    text = draw(st.sampled_from(LIMITS))
    crowded = draw(st.sampled_from([0.0, 0.3]))
    rows = []
    for i in range(draw(st.sampled_from([20, 130, 400]))):
        row = {
            "id": f"R{i:03d}",
            "place": "AB"[int(rng.integers(0, 2))],
            "who": f"c{int(rng.integers(0, 4))}",
        }
        limit = _limit(row, text)
        share = (
            950 if rng.random() < crowded and row["who"] == "c1" else int(rng.integers(200, 1700))
        )
        share += int(rng.integers(0, 50)) if share == 950 else 0
        cents = int(limit * 100) * share // 1000 + int(rng.integers(-1, 3))
        party = int(rng.integers(0, 150))
        row |= {"party": f"S{party:02d}" if party > 9 else "n/a", "day": START + timedelta(days=int(rng.integers(0, 300))),
                "amount": Decimal(cents).scaleb(-2)}  # fmt: skip
        rows.append(row)
    for k in range(draw(st.integers(0, 3))):
        # Pieces that are one amount together.
        limit = _limit({"place": "A"}, text)
        for j in range(2):
            cents = int(limit * 60) + j
            rows.append(
                {"id": f"P{k}{j}", "place": "A", "who": "c0", "party": "PIECES", "amount": Decimal(cents).scaleb(-2),
                 "day": START + timedelta(days=40 * k + j)}
            )  # fmt: skip
    return text, rows


def _within(row, text, low, high):
    limit = _limit(row, text)
    return low * limit <= row["amount"] * 1000 < high * limit


@given(ledgers(), st.sampled_from([Decimal("0.05"), Decimal("0.13"), Decimal("0.013")]), st.sampled_from([2, 5]),
       st.sampled_from([0.01, 0.3]))  # fmt: skip
def test_every_figure(populate, ledger, width, within, alpha):
    text, rows = ledger
    people = populate(rows, id="id", party="party", preparer="who", amount="amount", date="day")
    content = screened(
        people, "split", limit=text, width=width, within=within, alpha=alpha, adjust="holm"
    )
    low = 1000 - int(width * 1000)
    limits = sorted({_limit(r, text) for r in rows})
    assert [Decimal(g["limit"]) for g in content["groups"]] == limits
    judged, named = [], []
    for group, limit in zip(content["groups"], limits, strict=True):
        mine = [r for r in rows if _limit(r, text) == limit]
        around = [r for r in mine if _within(r, text, 600, 1500)]
        band = [r for r in around if _within(r, text, low, 1000)]
        assert (group["n"], group["around"], group["count"]) == (len(mine), len(around), len(band))
        near = [r for r in around if _within(r, text, 750, low)]
        assert (group["expected"] is None) == (len(around) < 100 or len(near) < 10)
        if group["bins"]:
            for each in group["bins"]:
                edge = round(Decimal(each["low"]) / limit * 1000)
                own = [r for r in around if _within(r, text, edge, edge + width * 1000)]
                assert each["count"] == len(own)
        for column in ("who", "party"):
            for value in sorted({r[column] for r in around}):
                inside = [r for r in band if r[column] == value]
                n = sum(r[column] == value for r in around)
                judged.append(stats.hypergeom.sf(len(inside) - 1, len(around), len(band), n))
                named.append((column, value, limit, inside, len(band) * n / len(around)))
    behind = len(judged)
    whose = defaultdict(list)
    nobodys = [r for r in rows if _within(r, text, 250, 1000) and r["party"] == "n/a"]
    told = {c["code"]: c for c in content["cautions"]}.get("states_nothing", {"rows": 0})
    assert told["rows"] == len(nobodys)
    for row in rows:
        if _within(row, text, 250, 1000) and row["party"] != "n/a":
            whose[row["party"], _limit(row, text)].append(row)
    for (party, limit), own in sorted(whose.items()):
        own.sort(key=lambda r: (r["day"], r["amount"]))
        days, units = [r["day"].toordinal() for r in own], [r["amount"] for r in own]
        spans = plain_bundles(days, units, limit, within)
        if not spans:
            continue
        if len(own) > 7:
            return  # Their expected number is drawn, and not counted.
        mean = np.mean(
            [len(plain_bundles(days, order, limit, within)) for order in permutations(units)]
        )
        judged.append(stats.poisson.sf(len(spans) - 1, mean))
        named.append(("party", party, limit, [r for a, b in spans for r in own[a : b + 1]], mean))
    adjusted = holm(judged)
    assert content["tests_made"] == len(judged) + sum(
        g["expected"] is not None for g in content["groups"]
    )

    expected = defaultdict(dict)
    for place, (column, value, limit, own, mean) in enumerate(named):
        if adjusted[place] >= alpha:
            continue
        if place < behind:
            distinct = {r["amount"] for r in own}
            if len(own) < 3 or len(distinct) <= max(1, len(own) / 5):
                continue
        word = "below" if place < behind else "in_pieces"
        expected[column, value][word, limit] = (own, mean, adjusted[place])
    found = {next(iter(f["subject"].items())): f for f in content["flags"]}
    assert set(found) == set(expected)
    for key, ways in expected.items():
        flag = found[key]
        assert set(flag["reasons"]) == {word for word, _ in ways}
        assert flag["p_adjusted"] == pytest.approx(
            min(p for *_, p in ways.values()), rel=1e-6, abs=1e-12
        )
        # What a reviewer opens are these rows, and no others.
        narrowed = populate(
            rows, flag["selects"], id="id", party="party", amount="amount", date="day"
        )
        assert {row["id"] for row in rows_of(narrowed, limit=1000).rows} == {
            r["id"] for own, *_ in ways.values() for r in own
        }
        if len(ways) == 1:
            ((_, (own, mean, _)),) = ways.items()
            assert (flag["rows"], Decimal(flag["amount"])) == (
                len(own),
                sum(r["amount"] for r in own),
            )
