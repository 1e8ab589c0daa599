"""Numbers of a series: against a plain look, closed forms and simulation; through the queue."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from datetime import date, timedelta
from decimal import Decimal
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, screened
from sabueso.base.errors import UserError
from sabueso.population import expressions
from sabueso.screens.grouping import Grouping
from sabueso.screens.sequence.series import Numbers
from sabueso.stats.gaps import gap_probability


def test_the_law_of_a_gap_holds_by_simulation():
    """Numbers present independently: after one that is there a gap of g or more comes as often as its law says, that of
    every choice of what is missing; in short series too no gap is unlikely more often than it is said to be."""
    rng = np.random.default_rng(1)
    present = np.flatnonzero(rng.random(400_000) < 0.7)
    gaps = np.diff(present) - 1
    span = int(present[-1] - present[0]) + 1
    for g in (1, 2, 5):
        expected = gap_probability([g], len(present), span)[0]
        assert np.mean(gaps >= g) == pytest.approx(expected, rel=0.04)
        assert expected == pytest.approx(0.3**g, rel=0.02)
    chosen = [[1, *inner, 9] for inner in combinations(range(2, 9), 3)]
    for g in range(1, 6):
        often = np.mean([np.diff(numbers)[1] > g for numbers in chosen])
        assert gap_probability([g], 5, 9)[0] == pytest.approx(often)
    found = []
    for there in rng.random((4_000, 12)) < 0.6:
        numbers = np.flatnonzero(there)
        if len(numbers) >= 6:
            longest, span = np.diff(numbers).max() - 1, int(np.ptp(numbers)) + 1
            p = gap_probability([max(longest, 1)], len(numbers), span)[0]
            found.append(longest > 0 and p * (len(numbers) - 1) < 0.05)
    assert len(found) > 2_000 and 0 < np.mean(found) <= 0.05
    with pytest.raises(ValueError, match="more numbers"):
        gap_probability([1], 11, 10)


def _rows(numbers, prefix="N-", width=5):
    """Rows a day apart, in the order of their numbers."""
    start = date(2024, 1, 1)
    return [
        {
            "doc": f"{prefix}{n:0{width}d}",
            "day": start + timedelta(days=i // 3),
            "amount": Decimal(10),
        }
        for i, n in enumerate(sorted(numbers))
    ]


@given(
    st.lists(st.integers(1, 400), min_size=40, max_size=120, unique=True),
    st.lists(st.integers(0, 5), max_size=3),
    st.sampled_from(["N-", "", "24/A"]),
    st.booleans(),
)
def test_gaps_and_repeats_are_those_of_a_plain_look(populate, numbers, again, prefix, stated):
    rows = _rows(numbers, prefix)
    for place in again:
        if not stated:
            rows[place]["amount"] = None
        rows.append({**rows[place]})
    people = populate(rows, date="day", amount="amount")
    found = screened(people, "sequence", of="doc", incomplete=0.99, find="gaps,repeats")
    (series,) = found["groups"]
    counts = Counter(row["doc"] for row in rows)
    inside_ = sorted(numbers)
    missing = sorted(set(range(inside_[0], inside_[-1] + 1)) - set(inside_))
    assert (series["count"], series["numbers"]) == (len(rows), len(numbers))
    assert (series["missing"], series["repeated"]) == (
        len(missing),
        sum(n > 1 for n in counts.values()),
    )
    named = []
    for flag in found["flags"]:
        if flag["direction"] == "missing":
            first, last = (int(flag[side][len(prefix) :]) for side in ("from", "to"))
            assert flag["missing"] == last - first + 1
            named += range(first, last + 1)
            assert flag["p"] is None
    assert sorted(named) == missing
    used = {flag["from"]: flag["rows"] for flag in found["flags"] if flag["direction"] == "used"}
    assert used == {doc: n for doc, n in counts.items() if n > 1}
    came = [flag for flag in found["flags"] if flag["direction"] == "used"]
    assert all((flag["amount"] is not None) == stated for flag in came)


TEXTS = st.lists(
    st.builds(
        lambda head, number, zeros, tail: head + "0" * zeros + number + tail,
        st.sampled_from(["", "F-", "24/", "É0-", "7x"]),
        st.sampled_from(["", "0", "7", "12", "345", "9" * 17]),
        st.sampled_from([0, 0, 0, 1, 2]),
        st.sampled_from(["", "", "/A", "-"]),
    ).filter(bool),
    min_size=1,
    max_size=30,
)


@given(TEXTS)
def test_forms_and_spellings_are_those_of_a_plain_look(populate, texts):
    """Texts are not kept: they are told again by their number and length."""
    rows = [{"doc": text, "day": date(2024, 1, 1)} for text in texts]
    numbers = _numbers(populate(rows, date="day"))
    with numbers.ready(7):
        series = numbers.series()
        found = {row["form"]: (row["n"], row["one"], row["other"]) for row in numbers.forms(series)}
        repeats = {(row["one"], row["other"], row["n"]) for row in numbers.repeats(series)}
    by_form, by_number = defaultdict(list), defaultdict(list)
    for text in texts:
        by_form[re.sub("[0-9]", "9", text)].append(text)
        if last := re.search("([0-9]{1,18})([^0-9]*)$", text):
            by_number[text[: last.start()], int(last[1]), last[2]].append(text)
    assert found == {form: (len(own), min(own), max(own)) for form, own in by_form.items()}
    several = (own for own in by_number.values() if len(own) > 1)
    assert repeats == {(min(own), max(own), len(own)) for own in several}


def _numbers(population):
    table = population.table
    text = expressions.scalar("doc", table, "--of")
    return Numbers(population, text, Grouping.of([], table), table.dated(), None)


def test_what_is_out_of_order_or_of_another_form(populate):
    rows = _rows(range(1, 2001))
    rows[700]["day"] += timedelta(days=60)
    rows[1200]["day"] -= timedelta(days=60)
    rows[1500]["doc"] = "N 1501"
    rows.append({"doc": "MANUAL-7", "day": date(2024, 5, 5), "amount": Decimal(1)})
    rows.append({"doc": "none", "day": date(2024, 5, 5), "amount": Decimal(1)})
    found = screened(populate(rows, date="day", amount="amount"), "sequence", of="doc")
    by = defaultdict(list)
    for flag in found["flags"]:
        by[flag["what"].split(" ")[0]].append(flag["from"])
    assert by["missing"] == ["N-01501"]
    assert sorted(by["of"]) == ["N-00701", "N-01201"]
    assert set(by["written"]) == {"N 1501", "MANUAL-7", "none"}
    assert found["population"]["left_out"] == {"no_digits": 1}
    assert found["series_not_looked_at"] == 2


def test_an_incomplete_series_names_unlikely_gaps_alone(populate):
    """Half of the numbers are another table's: single gaps are ordinary, a long one is not."""
    rng = np.random.default_rng(4)
    numbers = {int(n) for n in rng.choice(4000, 2000, replace=False)} - set(range(1500, 1540))
    found = screened(populate(_rows(numbers), date="day"), "sequence", of="doc", find="gaps")
    assert [c["code"] for c in found["cautions"]] == ["incomplete_series"]
    (flag,) = found["flags"]
    assert flag["missing"] >= 40 and flag["p_adjusted"] < 1e-6
    assert found["tests_made"] == len(numbers) - 1 and found["flags_by_chance"] == 0.05


def test_lines_of_an_entry_and_numbers_without_dates_are_no_findings(populate):
    rows = [{"doc": f"A{n // 2}"} for n in range(400)]
    found = screened(populate(rows), "sequence", of="doc")
    assert found["flag_count"] == 0
    assert {c["code"] for c in found["cautions"]} == {"numbers_of_several_rows", "no_date"}
    with pytest.raises(UserError, match="needs the column of numbers"):
        screened(populate(rows), "sequence")
    with pytest.raises(UserError, match="expected gaps, repeats, order or form"):
        screened(populate(rows), "sequence", of="doc", find="holes")


def test_a_gap_opens_from_both_sides_and_damaged_lines_explain_one(tmp_path):
    lines = ["id,day,who,amount"]
    for n in range(1, 401):
        if n in (100, 101, 102):
            continue
        day = date(2024, 1, 1) + timedelta(days=n // 4)
        amount = "oops" if n == 200 else f"{n}.00"
        lines.append(f"P-{n:06d},{day},w{n % 7},{amount}")
        if n == 300:
            lines.append(f"P-{n:06d},{day},other,5.00")
    (tmp_path / "pay.csv").write_text("\n".join(lines) + "\n")
    inside("open", ".", cwd=tmp_path)
    inside("intake", "pay.csv", "--as", "pay", cwd=tmp_path)
    found = inside_json("try", "sequence", "pay", "--of", "id", cwd=tmp_path)
    assert [f["what"] for f in found["flags"]] == ["missing", "used 2 times"]
    assert "on_damaged_lines" in {c["code"] for c in found["cautions"]}
    inside("survey", "--propose", "--keep", cwd=tmp_path)
    inside("screen", cwd=tmp_path)
    items = {i["label"]: i for i in inside_json("queue", cwd=tmp_path) if i["kind"] == "range"}
    gap = items["id P-000100 – P-000102 missing"]
    twice = items["id P-000300 used 2 times"]
    rows = inside_json("dig", gap["id"], "--rows", cwd=tmp_path)["rows"]
    assert sorted(r["id"] for r in rows) == ["P-000099", "P-000103"]
    rows = inside_json("dig", twice["id"], "--rows", cwd=tmp_path)["rows"]
    assert [r["id"] for r in rows] == ["P-000300"] * 2
    (first, *_) = inside_json("why", gap["id"], cwd=tmp_path)["sentences"]
    assert re.fullmatch(
        r"3 numbers of the series, P-000100 – P-000102, are missing between P-000099 and P-000103\.",
        first,
    )
    inside("try", "sequence", "pay", "--of", "id", "--out", "a.png", cwd=tmp_path)
    # A number that is set aside is not missing.
    inside(
        "review",
        twice["id"],
        "--cleared",
        "--reason",
        "known",
        "--set-aside",
        "--as",
        "KL",
        cwd=tmp_path,
    )
    again = inside_json("try", "sequence", "pay", "--of", "id", cwd=tmp_path)
    assert [f["what"] for f in again["flags"]] == ["missing", "used 2 times"]
