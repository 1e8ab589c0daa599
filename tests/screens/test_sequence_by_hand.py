"""Numbers of random series: gaps, repeats, order and form from the plain texts."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from datetime import date, timedelta
from decimal import Decimal
from itertools import pairwise
from math import comb

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from conftest import screened

START = date(2024, 1, 1)


@st.composite
def ledgers(draw):
    """Series that lack a few numbers, or many, have some twice, on days that follow them, or do not."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    rows = []
    for head, tail in draw(st.sampled_from([[("F24/", "")], [("", "")], [("A", "-x"), ("B7 ", "")], [("N", ""), ("N", "b")]])):  # fmt: skip
        first, width = int(rng.choice([1, 8, 95, 4000])), draw(st.sampled_from([0, 5]))
        there = draw(st.sampled_from([1.0, 0.97, 0.6]))
        numbers = [first + i for i in range(draw(st.integers(3, 90))) if rng.random() < there]
        if draw(st.booleans()):
            numbers = [n for n in numbers if not first + 10 <= n < first + 25]
        twice = draw(st.sampled_from([0, 0.03, 0.4]))
        numbers += [n for n in numbers if rng.random() < twice]
        straying = draw(st.sampled_from([0, 0.02, 0.4]))
        for n in numbers:
            day = (
                3 * (n - first)
                + int(rng.integers(0, 3))
                + (rng.random() < straying) * int(rng.integers(-80, 80))
            )
            # Of some numbers the zeros before them are not written.
            written = n if rng.random() < 0.05 else f"{n:0{width}d}"
            rows.append(
                {"id": f"{head}{written}{tail}", "place": "AB"[int(rng.integers(0, 2))],
                 "day": START + timedelta(days=day), "amount": Decimal(int(rng.integers(-900, 9000))).scaleb(-2)}
            )  # fmt: skip
    rows += [{"id": text, "place": "A", "day": START, "amount": Decimal("1.00")} for text in draw(st.lists(
        st.sampled_from(["void", "see F24/3", "?"]), max_size=2))]  # fmt: skip
    return rows


def _series(rows, by_place):
    """Rows of each series, by what stands before and after their last digits, and of each number."""
    found = defaultdict(lambda: defaultdict(list))
    for row in rows:
        if parts := re.fullmatch(r"(.*?)([0-9]+)([^0-9]*)", row["id"]):
            head, number, tail = parts.groups()
            found[(row["place"],) * by_place, head, tail][int(number)].append(row)
    return found


def _odd_days(numbers, own, days):
    """Numbers whose days lie outside of those of the number before and after, which are in order."""
    found = set()
    for before, number, after in zip(numbers, numbers[1:], numbers[2:], strict=False):
        low, high = max(r["day"] for r in own[before]), min(r["day"] for r in own[after])
        first, last = min(r["day"] for r in own[number]), max(r["day"] for r in own[number])
        if low <= high and max((low - first).days, (last - high).days) > days:
            found.add(number)
    return found


def _form(text):
    return re.sub("[0-9]+", "9", text)


@given(ledgers(), st.booleans(), st.sampled_from([3, 10]), st.sampled_from([0.05, 0.3]), st.sampled_from([2, 7]))  # fmt: skip
def test_everything_that_is_named(populate, rows, by_place, least, incomplete, days):
    if not rows:
        return
    people = populate(rows, id="id", amount="amount", date="day")
    content = screened(people, "sequence", of="id", by=["place"] * by_place, least=least, incomplete=incomplete, days=days)  # fmt: skip
    every = _series(rows, by_place)
    kept = {key: own for key, own in every.items() if len(own) >= least}
    groups = {(tuple(g["group"].values()), *g["series"].split("…")): g for g in content["groups"]}
    assert set(groups) == set(kept)
    loose, gaps, expected = [], [], Counter()
    for key, own in kept.items():
        group, numbers = groups[key], sorted(own)
        span = numbers[-1] - numbers[0] + 1
        missing, repeated = span - len(numbers), [n for n in numbers if len(own[n]) > 1]
        assert (group["numbers"], group["missing"], group["repeated"]) == (len(numbers), missing, len(repeated))  # fmt: skip
        assert group["count"] == sum(map(len, own.values()))
        assert group["complete"] == (missing <= incomplete * span)
        holes = [(a, b) for a, b in pairwise(numbers) if b > a + 1]
        assert group["gaps"] == len(holes)
        if not group["complete"]:
            loose.append(len(numbers) - 1)
        for a, b in holes:
            inside = len(numbers) - 2
            p = comb(span - 2 - (b - a - 1), inside) / comb(span - 2, inside)
            gaps.append((key, a, b, None if group["complete"] else p))
        odd = _odd_days(numbers, own, days)
        back = sum(
            max(r["day"] for r in own[a]) > min(r["day"] for r in own[b]) + timedelta(days)
            for a, b in pairwise(numbers)
        )
        follows = max(len(odd), back - len(odd)) <= incomplete * len(numbers)
        assert group["out_of_order"] == (len(odd) if follows else None)
        if follows:
            expected.update(("of", key, n, n) for n in odd)
        if len(repeated) <= incomplete * len(numbers):
            expected.update(("used", key, n, n) for n in repeated)
    judged = sorted((gap for gap in gaps if gap[3] is not None), key=lambda gap: gap[3])
    tests, worst = sum(loose), 0.0
    assert content["tests_made"] == tests
    for place, (key, a, b, p) in enumerate(judged):
        worst = max(worst, min(p * (tests - place), 1))
        if worst < 0.05:
            expected["missing", key, a + 1, b - 1] += 1
    expected.update(("missing", key, a + 1, b - 1) for key, a, b, p in gaps if p is None)

    found, forms = Counter(), set()
    for flag in content["flags"]:
        word = flag["direction"]
        if word == "written":
            forms.add((tuple(flag["group"].values()), flag["from"]))
            continue
        group = tuple(flag["group"].values()) if by_place else ()
        ends = [
            re.fullmatch(r"(.*?)([0-9]+)([^0-9]*)", flag[name]).groups() for name in ("from", "to")
        ]
        assert (ends[0][0], ends[0][2]) == (ends[1][0], ends[1][2])
        key = (group, ends[0][0], ends[0][2])
        found[word, key, int(ends[0][1]), int(ends[1][1])] += 1
        if word == "used":
            own = kept[key][int(ends[0][1])]
            assert (flag["rows"], Decimal(flag["amount"])) == (
                len(own),
                sum(r["amount"] for r in own),
            )
        if word == "missing":
            around = [
                re.fullmatch(r"(.*?)([0-9]+)([^0-9]*)", flag[name]).groups()
                for name in ("before", "after")
            ]
            assert (
                int(around[0][1]) == int(ends[0][1]) - 1
                and int(around[1][1]) == int(ends[1][1]) + 1
            )
            assert {r["id"] for r in rows} >= {flag["before"], flag["after"]}
    assert found == expected

    written = defaultdict(Counter)
    for row in rows:
        written[(row["place"],) * by_place][_form(row["id"])] += 1
    rare = {
        (group, form)
        for group, forms_of in written.items()
        if max(forms_of.values()) >= 0.95 * sum(forms_of.values())
        for form, n in forms_of.items()
        if n <= min(0.001 * sum(forms_of.values()), 20)
    }
    assert {(group, _form(text)) for group, text in forms} == rare
