"""Repeated rows: clusters, reversals and chances from the plain rows of random ledgers."""

from __future__ import annotations

import unicodedata
from collections import Counter, defaultdict
from datetime import date, timedelta
from decimal import Decimal
from itertools import combinations, pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import screened

START = date(2024, 3, 1)
WRITTEN = [
    "F-{}", "f-{}", "F {}", "F/00{}", "F.{}", "F:{}", "F\N{EN DASH}{}", "F\N{NO-BREAK SPACE}{}", "É{}", "e-{}", "Ж{}", "ц-{}", "n/a", "-",
]  # fmt: skip
documents = st.one_of(
    st.none(), st.builds(str.format, st.sampled_from(WRITTEN), st.sampled_from([7, 70, 107, 12]))
)
drawn = st.tuples(
    st.sampled_from(["Baha", "Orr", "n/a", None]), st.integers(0, 160), documents,
    st.sampled_from([5000, 5000, -5000, 7325, 199, 0]),
)  # fmt: skip


@st.composite
def ledgers(draw):
    rows = draw(st.lists(drawn, min_size=1, max_size=30))
    once = draw(st.sampled_from([0, 5, 40]))
    rows += [("Baha", 3 * i, None, 100_000 + i) for i in range(once)]
    return [
        {"id": f"R{i:03d}", "party": party, "day": START + timedelta(days=day), "doc": doc,
         "amount": Decimal(cents).scaleb(-2)}
        for i, (party, day, doc, cents) in enumerate(rows)
    ]  # fmt: skip


def _number(text):
    """Letters and digits, without case, accents and zeros before a number; '' states none."""
    if text is None or text in ("n/a", "-"):
        return ""
    plain = "".join(c for c in unicodedata.normalize("NFKD", text.upper()) if not unicodedata.combining(c))  # fmt: skip
    parts = "".join(c if c.isalnum() else " " for c in plain).split()
    return "".join((part.lstrip("0") or part) if part.isdigit() else part for part in parts)


def _without_reversed(rows):
    """The rows of the commoner sign but those that one of the other takes out: the latest before it."""
    up, down = [[r for r in rows if (r["amount"] > 0) is positive] for positive in (True, False)]
    kept, undoing = (up, down) if len(up) >= len(down) else (down, up)
    kept, pairs = list(kept), 0
    for each in undoing[: len(kept)]:
        before = [r for r in kept if r["day"] <= each["day"]]
        kept.remove(before[-1] if before else kept[0])
        pairs += 1
    return kept, pairs


def _clusters(rows, within):
    """Rows joined with the next one in time that lies near, and with all of the same number."""
    together = {row["id"]: {row["id"]} for row in rows}
    for a, b in combinations(rows, 2):
        follows = rows.index(b) == rows.index(a) + 1 and (b["day"] - a["day"]).days <= within
        if follows or (_number(a["doc"]) and _number(a["doc"]) == _number(b["doc"])):
            joined = together[a["id"]] | together[b["id"]]
            for name in joined:
                together[name] = joined
    found = {frozenset(names) for names in together.values() if len(names) > 1}
    return [[row for row in rows if row["id"] in names] for names in found]


def _chance(cluster, own, mine, alike, rows, share):
    met = max(mine - 1, 1) * share
    each = max((own - 2) / max(mine - 1, 1), (max(alike - 2, 0) + 0.5) / (rows + 1))
    p = 1 - (1 - min(each, 1)) ** met
    numbers = [_number(r["doc"]) for r in cluster if _number(r["doc"])]
    if len(set(numbers)) < len(numbers):
        p /= mine + 1
    return min(max(p, 1e-12), 1.0)


def _in_step(cluster, of_parties, party):
    """Whether rows of no one number are as far apart as most of their party's days, which is paid much the same."""
    numbers = [_number(r["doc"]) for r in cluster if _number(r["doc"])]
    if len(set(numbers)) < len(numbers):
        return False
    gaps = {}
    for name, rows in of_parties.items():
        days = sorted({r["day"] for r in rows})
        gaps[name] = [(b - a).days for a, b in pairwise(days)]
    every = [gap for own in gaps.values() for gap in own]
    steps = gaps[party] if len(gaps[party]) >= 3 else every if len(every) >= 20 else []
    if not steps:
        return False
    step = float(np.median(steps))
    near = sum(abs(gap - step) <= max(1, step / 10) for gap in steps)
    sizes = [float(abs(r["amount"]) * 100) for r in of_parties[party]]
    low, middle, high = np.percentile(sizes, [25, 50, 75])
    if near < 0.8 * len(steps) or not step or high - low > 0.25 * middle:
        return False
    return all((b["day"] - a["day"]).days >= step - max(1, step / 10) for a, b in pairwise(cluster))


@given(ledgers(), st.sampled_from([0, 3, 14]), st.sampled_from([0.05, 0.3]))
def test_every_cluster(populate, rows, within, alpha):
    people = populate(rows, id="id", party="party", amount="amount", date="day", document="doc")
    content = screened(people, "repeats", within=within, alpha=alpha)
    used = [r for r in rows if r["party"] is not None and r["amount"]]
    assert content["population"]["used"] == len(used)
    days = [r["day"] for r in used] or [START]
    share = min((2 * within + 1) / ((max(days) - min(days)).days + 1), 1)
    parties, sizes = Counter(r["party"] for r in used), Counter(abs(r["amount"]) for r in used)
    groups = defaultdict(list)
    for row in sorted(used, key=lambda r: r["day"]):
        groups[row["party"], abs(row["amount"])].append(row)
    expected, looked_at = {}, 0
    for (party, size), own in groups.items():
        kept, _ = _without_reversed(own)
        if party == "n/a":
            continue
        for cluster in _clusters(kept, within):
            looked_at += 1
            p = _chance(cluster, len(kept), parties[party], sizes[size], len(used), share)
            if p < alpha:
                beyond = (len(cluster) - 1) * cluster[0]["amount"]
                expected[frozenset(r["id"] for r in cluster)] = (p, beyond)
    named = {names: next(r["party"] for r in used if r["id"] in names) for names in expected}
    of_parties = {p: [r for r in used if r["party"] == p] for p in named.values()}
    clusters = {n: sorted((r for r in used if r["id"] in n), key=lambda r: r["day"]) for n in named}
    steady = {n for n, p in named.items() if _in_step(clusters[n], of_parties, p)}
    expected = {names: each for names, each in expected.items() if names not in steady}
    (group,) = content["groups"]
    assert group["in_step"] == len(steady)
    assert group["looked_at"] == looked_at
    assert group["usual"] == looked_at - len(expected)
    found = {frozenset(row["id"] for row in flag["members"]): flag for flag in content["flags"]}
    assert set(found) == set(expected)
    for names, (p, beyond) in expected.items():
        assert 2 ** -found[names]["score"] == pytest.approx(p)
        assert Decimal(found[names]["amount"]) == beyond
    assert Decimal(group["excess"]) == sum(beyond for _, beyond in expected.values())
