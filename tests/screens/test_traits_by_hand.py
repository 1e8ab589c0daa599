"""Traits of entries: each of them, the bits that it counts and what is flagged, from the plain rows of random journals."""

from __future__ import annotations

from collections import Counter, defaultdict
from datetime import date, datetime, timedelta
from decimal import Decimal
from math import log2

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import screened
from sabueso.population.drill import rows as rows_of

START = date(2023, 11, 1)
ROLES = {
    "id": "entry", "date": "day", "account": "account", "amount": "amount", "preparer": "who", "approver": "okay",
    "text": "what", "entered": "made",
}  # fmt: skip
TEXTS = [
    "Rent of the second shed",
    "RENT OF THE SECOND SHED",
    "Réparation of the hoist",
    "reparation of the HOIST",
    "hoist",
]


@st.composite
def journals(draw):
    """Entries of two to four rows over the end of a year, most of one kind, by few people."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    rows = []
    for e in range(draw(st.sampled_from([60, 250]))):
        day = START + timedelta(days=int(rng.integers(0, 110)))
        hour = int(rng.integers(8, 18)) if rng.random() < 0.97 else 3
        made = datetime(day.year, day.month, day.day, hour) + timedelta(
            days=int(rng.choice([0, 2, 13], p=[0.8, 0.17, 0.03]))
        )
        who = f"p{int(rng.integers(0, 4))}" if rng.random() < 0.99 else "director"
        okay = who if rng.random() < 0.03 else "boss"
        text = (
            str(rng.choice(TEXTS))
            if rng.random() < 0.02
            else ["", None, " "][e % 3]
            if rng.random() < 0.02
            else f"{e:04d}"
        )
        cents = (
            int(rng.choice([40_000_00, 1_700_000, 100_000]))
            if rng.random() < 0.05
            else int(rng.integers(100, 900_000))
        )
        debit = "69" if rng.random() < 0.01 else f"6{int(rng.integers(0, 3))}"
        credit = "49" if rng.random() < 0.02 else "40"
        lines = [(debit, cents), (credit, -cents)]
        if rng.random() < 0.2:
            lines += [("62", 5000), ("40", -5000)]
        for account, units in lines:
            rows.append({"entry": f"E{e:04d}", "day": day, "made": made, "account": account, "who": who, "okay": okay,
                         "amount": Decimal(units).scaleb(-2), "what": text})  # fmt: skip
    for k in range(draw(st.integers(0, 2))):
        # Booked before the year's end and taken back after it.
        for side, day in ((1, date(2023, 12, 28)), (-1, date(2024, 1, 4 + 2 * k))):
            for account, sign in (("60", 1), ("40", -1)):
                rows.append({"entry": f"B{k}{side}", "day": day, "made": datetime(day.year, day.month, day.day, 10),
                             "account": account, "who": "p0", "okay": "boss", "what": f"b{k}{side}",
                             "amount": Decimal(side * sign * (777_001 + k)).scaleb(-2)})  # fmt: skip
    return rows


def _odd_times(rows, at, rare):
    """(who, time) that is no habit of theirs nor of most, at which few rows are but out of habit."""
    seen, of = Counter((r["who"], at(r)) for r in rows), Counter(r["who"] for r in rows)
    habit = {key for key, n in seen.items() if of[key[0]] >= 50 and n >= 0.05 * of[key[0]]}
    rest, people = Counter(), Counter(time for _, time in habit)
    for key, n in seen.items():
        rest[key[1]] += n * (key not in habit)
    few = {
        time for _, time in seen if rest[time] < rare * len(rows) and people[time] <= len(of) / 2
    }
    return {key for key in seen if key not in habit and key[1] in few}


def _copied(rows):
    """Texts of two or three entries, each with a debit on an account of its own."""

    def folded(text):
        return (text or "").strip().lower().replace("é", "e")

    of = defaultdict(set)
    accounts = defaultdict(set)
    many = Counter(folded(r["what"]) for r in rows if r["what"])
    for r in rows:
        if r["amount"] > 0:
            of[folded(r["what"])].add(r["entry"])
            accounts[folded(r["what"])].add(r["account"])
    return folded, {
        text for text, entries in of.items()
        if len(text) >= 12 and len(text.split()) > 1 and 2 <= len(entries) <= 3 and len(accounts[text]) >= len(entries)
        and 2 <= many[text] <= 24
    }  # fmt: skip


def _traits(rows, s):
    """The traits of each entry."""
    hours = _odd_times(rows, lambda r: r["made"].hour, 10 * s["rare"])
    days = _odd_times(rows, lambda r: r["day"].weekday(), 10 * s["rare"])
    accounts, of = Counter(r["account"] for r in rows), Counter(r["who"] for r in rows)
    both = Counter((r["who"], r["account"]) for r in rows)
    little = min(10 * s["rare"], 0.1 / len(of)) * len(rows)
    seldom = {a for a, n in accounts.items() if n < s["rare"] * len(rows)}
    folded, copied = _copied(rows)
    close = date(2024, 1, 1)
    back = set()
    for i, x in enumerate(rows):
        for j, y in enumerate(rows):
            same = x["account"] == y["account"] and x["amount"] == -y["amount"] != 0
            if (
                same
                and x["day"] < close <= y["day"]
                and (y["day"] - x["day"]).days <= s["back_within"]
            ):
                back |= {i, j}
    found, sides = defaultdict(set), defaultdict(dict)
    for i, r in enumerate(rows):
        size = abs(r["amount"]) * 100
        zeros = len(str(int(size))) - len(str(int(size)).rstrip("0"))
        own = {
            "odd_hour": (r["who"], r["made"].hour) in hours,
            "rest_day": (r["who"], r["day"].weekday()) in days,
            "round_amount": size >= 100_000 and len(str(int(size))) - zeros <= 2,
            "seldom_account": r["account"] in seldom,
            "strange_account": r["account"] not in seldom and of[r["who"]] >= 50
            and both[r["who"], r["account"]] <= max(1, s["rare"] * of[r["who"]]),
            "seldom_preparer": of[r["who"]] < little,
            "late": (r["made"].date() - r["day"]).days > s["late"],
            "no_text": not (r["what"] or "").strip(),
            "copied_text": folded(r["what"]) in copied,
            "same_person": r["who"] == r["okay"],
            "turned_back": i in back,
            "under_limit": Decimal("0.95") * s["limit"] <= abs(r["amount"]) < s["limit"],
        }  # fmt: skip
        found[r["entry"]] |= {name for name, has in own.items() if has}
        side = "debit" if r["amount"] > 0 else "credit"
        sides[r["entry"]][side] = min(sides[r["entry"]].get(side, r["account"]), r["account"])
    pairs = Counter((each["debit"], each["credit"]) for each in sides.values())
    for entry, each in sides.items():
        if pairs[each["debit"], each["credit"]] < s["rare"] * len(sides):
            found[entry].add("rare_pair")
    return {entry: frozenset(found[entry]) for entry in sides}


@given(journals(), st.sampled_from([0.001, 0.02]), st.sampled_from([0.01, 0.1]), st.sampled_from([1, 2]),
       st.sampled_from([[], ["round_amount", "no_text"]]))  # fmt: skip
@pytest.mark.long
def test_every_entry(populate, rows, rare, share, least, left_out):
    s = {"rare": rare, "late": 10, "back_within": 10, "limit": Decimal(9000)}
    content = screened(populate(rows, **ROLES), "traits", rare=rare, share=share, least=least, limit="9000",
                       leave_out=left_out)  # fmt: skip
    traits = {entry: own - set(left_out) for entry, own in _traits(rows, s).items()}
    counts = Counter(name for own in traits.values() for name in own)
    (group,) = content["groups"]
    assert {t["trait"]: t["count"] for t in group["traits"] if t["count"]} == counts
    bits = {name: -log2((n + 0.5) / (len(traits) + 1)) for name, n in counts.items()}
    scores = {entry: sum(bits[name] for name in own) for entry, own in traits.items()}
    expected = defaultdict(set)
    whose = {r["entry"]: r["who"] for r in rows}
    for entry, own in traits.items():
        rarity = sum(score >= scores[entry] - 1e-9 for score in scores.values()) / len(scores)
        # What one preparer made with the same traits counts once.
        others = sum(
            score >= scores[entry] - 1e-9 and (whose[each], traits[each]) != (whose[entry], own)
            for each, score in scores.items()
        )
        rare_enough = rarity <= 10 * share and (others + 1) / len(scores) <= share
        alone = any(
            name in own and (counts[name] + 0.5) / (len(traits) + 1) <= times * share
            for name, times in (("turned_back", 1), ("same_person", 10))
        )
        if (rare_enough and len(own) >= least) or alone:
            expected[whose[entry], own].add((entry, rarity))
    found = {(whose[f["keys"][0]], frozenset(f["traits"])): f for f in content["flags"]}
    assert len(found) == content["flag_count"]
    assert set(found) == set(expected)
    for key, entries in expected.items():
        flag, names = found[key], {entry for entry, _ in entries}
        assert set(flag["keys"]) == names
        assert flag["bits"] == pytest.approx(sum(bits[name] for name in key[1]))
        assert [flag["as_rare_as"]] * len(entries) == [
            pytest.approx(rarity) for _, rarity in entries
        ]
        own = [r for r in rows if r["entry"] in names]
        assert flag["rows"] == len(own)
        assert Decimal(flag["amount"]) == sum(r["amount"] for r in own if r["amount"] > 0)
        opened = rows_of(populate(rows, flag["selects"], **ROLES), limit=1000).rows
        assert len(opened) == len(own) and {r["entry"] for r in opened} == names
