"""Traits of entries: each against a plain look, bits by their law, planted entries, what cannot be told."""

from __future__ import annotations

import csv
from collections import Counter
from datetime import date, datetime, timedelta
from decimal import Decimal
from math import log2

import numpy as np
import pytest

from conftest import inside, inside_json, screened
from sabueso.base.errors import UserError
from sabueso.screens.traits.habits import odd_times, rare_values, strange_pairs

ROLES = {
    "id": "entry", "date": "day", "account": "account", "amount": "amount", "preparer": "who", "approver": "okay",
    "text": "what", "entered": "made",
}  # fmt: skip


def _journal(n=2000, seed=4):
    """Entries of two rows by six people in working hours."""
    rng = np.random.default_rng(seed)
    rows = []
    for e in range(n):
        day = date(2023, 7, 3) + timedelta(days=int(rng.integers(0, 500)))
        day -= timedelta(days=max(0, day.weekday() - 4))
        made = datetime(day.year, day.month, day.day, int(rng.integers(8, 18)), 5)
        cents = int(rng.integers(1001, 900_000)) | 1
        who = f"p{rng.integers(0, 6)}"
        for side, account in ((1, f"6{rng.integers(0, 5)}"), (-1, f"4{rng.integers(0, 3)}")):
            rows.append(
                {"entry": f"E{e:05d}", "day": day, "made": made, "account": account, "who": who, "okay": "boss",
                 "amount": side * Decimal(cents) / 100, "what": "invoice"}
            )  # fmt: skip
    return rows


def _set(rows, entry, amount=None, **values):
    for row in rows:
        if row["entry"] == entry:
            row.update(values)
            if amount is not None:
                row["amount"] = amount if row["amount"] > 0 else -amount


def test_entries_with_planted_traits_come_first_with_their_bits(populate):
    rows = _journal()
    _set(rows, "E00007", amount=Decimal("7000.00"), okay="p9", who="p9", what="")
    _set(rows, "E00011", made=datetime(2024, 3, 5, 3, 1), account="z")
    _set(rows, "E00500", account="z")
    _set(rows, "E00600", what="Per instrucción VERBAL del director")
    # Words of two entries on accounts apart; of one account; of many; of one entry; a word alone.
    for entry, what, account in (
        ("E00700", "Hoist engine repair, Dock 4", "61"), ("E00701", "hoist ENGINE repair, dock 4 ", "62"),
        ("E00702", "Rent of the second shed", "61"), ("E00703", "Rent of the second shed", "61"),
        ("E00704", "Painting of the bridge", "61"), ("E00705", "miscellaneousness", "61"),
        ("E00706", "miscellaneousness", "62"),
        *((f"E008{i:02}", "Services of the month", f"6{i % 5}") for i in range(9)),
    ):  # fmt: skip
        for row in rows:
            if row["entry"] == entry:
                row |= {"what": what, "account": account if row["amount"] > 0 else row["account"]}
    people = populate(rows, **ROLES)
    found = screened(
        people,
        "traits",
        words="verbal",
        holidays="2024-01-01",
        limit="9100",
        share=0.005,
        rare=0.002,
    )
    (group,) = found["groups"]
    assert (group["entries"], group["rows"]) == (2000, 4000)
    counts = {t["trait"]: t["count"] for t in group["traits"]}
    alone = ("same_person", "no_text", "round_amount", "word", "odd_hour")
    assert {name: counts[name] for name in alone} == dict.fromkeys(alone, 1)
    amounts = {r["entry"]: abs(r["amount"]) for r in rows}
    assert counts["under_limit"] == sum(Decimal(8645) <= a < 9100 for a in amounts.values())
    assert counts["copied_text"] == 2
    bits = {t["trait"]: t["bits"] for t in group["traits"]}
    for name, count in counts.items():
        assert bits[name] == pytest.approx(-log2((count + 0.5) / 2001))
    first = {key: f for f in found["flags"] for key in f["keys"]}
    assert {"E00007", "E00011"} <= set(first)
    assert {"same_person", "no_text", "round_amount"} <= set(first["E00007"]["traits"])
    for flag in found["flags"]:
        assert flag["bits"] == pytest.approx(sum(bits[t] for t in flag["traits"]))
        assert flag["as_rare_as"] <= 0.005 and len(flag["traits"]) >= 2
    # As rare as: counted over all entries, and not multiplied.
    every = screened(
        people, "traits", share=0.99, least=1, words="verbal", limit="9100", rare=0.002
    )
    scores = [f["bits"] for f in every["flags"] for _ in f["keys"]]
    for flag in every["flags"]:
        at_least = sum(s >= flag["bits"] - 1e-6 for s in scores)
        assert flag["as_rare_as"] == pytest.approx(at_least / 2000)


@pytest.mark.parametrize("several", [1, 7, 15])
def test_a_series_does_not_hide_itself(populate, several):
    """Whoever has recorded nothing else has no habit of the night, and seven alike are as odd as one."""
    rows = _journal()
    for k in range(several):
        for side, account in ((1, "61"), (-1, "40")):
            rows.append(
                {"entry": f"N{k}", "day": date(2024, 6, 30), "made": datetime(2024, 6, 30, 23, k), "who": "chief",
                 "account": account, "okay": "chief", "amount": side * Decimal(1_000 * (k + 1)), "what": "adjustment"}
            )  # fmt: skip
    found = screened(populate(rows, **ROLES), "traits")
    assert 0.001 * found["groups"][0]["entries"] < 2.1
    flag = found["flags"][0]
    assert set(flag["keys"]) == {f"N{k}" for k in range(several)} and flag["entries"] == several
    told = {"odd_hour", "rest_day", "seldom_preparer", "round_amount", "same_person"}
    assert set(flag["traits"]) == told
    assert flag["as_rare_as"] == pytest.approx(several / (2000 + several))


def test_whoever_alone_approves_what_they_made_is_named_however_often(populate):
    """Of eight one does, in every twentieth row; where half of them do, it is how the house works."""

    def flagged(own):
        rows = [
            {"id": f"A{i}", "day": date(2024, 1, 1) + timedelta(days=7 * (i % 52)), "who": f"K{i % 8}",
             "okay": f"K{i % 8}" if i % 8 in own and i % 3 == 0 else "SUP", "amount": Decimal(100 * i + 37).scaleb(-2)}
            for i in range(400)
        ]  # fmt: skip
        roles = {
            "id": "id",
            "date": "day",
            "preparer": "who",
            "approver": "okay",
            "amount": "amount",
        }
        found = screened(populate(rows, **roles), "traits")
        return [(f["traits"], f["entries"]) for f in found["flags"]]

    ((traits, entries),) = flagged({3})
    assert traits == ["same_person"] and entries == sum(
        i % 8 == 3 and i % 3 == 0 for i in range(400)
    )
    assert flagged({1, 3, 5, 7}) == []


def test_amounts_taken_back_after_the_years_end(populate):
    rows = _journal()
    for k, first in enumerate((date(2023, 12, 29), date(2023, 12, 20))):
        for day, sign in ((first, 1), (date(2024, 1, 3), -1)):
            for side, account in ((1, "60"), (-1, "40")):
                rows.append(
                    {"entry": f"T{k}{sign}", "day": day, "made": datetime(2024, 1, 3, 10), "account": account,
                     "who": "p1", "okay": "boss", "amount": sign * side * Decimal(f"1234{k}.57"), "what": "x"}
                )  # fmt: skip
    people = populate(rows, **ROLES)

    def back(**settings):
        found = screened(people, "traits", share=0.99, least=1, **settings)
        return {k for f in found["flags"] if "turned_back" in f["traits"] for k in f["keys"]}

    assert back() == {"T01", "T0-1"}
    assert back(back_within=20) >= {"T01", "T0-1", "T11", "T1-1"}
    assert back(leave_out="turned_back") == set()


def test_habits():
    seen = {
        ("a", "09"): 500, ("a", "03"): 2, ("night", "03"): 400, ("b", "09"): 500, ("b", "22"): 3, ("b", "10"): 9,
    }  # fmt: skip
    assert odd_times(seen, 0.01) == {("a", "03"), ("b", "22"), ("b", "10")}
    assert rare_values({("x",): 1, ("y",): 5000}, 0.001) == {"x"}
    pairs = {("a", "x"): 1, ("a", "y"): 400, ("b", "x"): 60, ("c", "y"): 3}
    assert strange_pairs(pairs, 0.001, []) == {("a", "x")}
    assert strange_pairs(pairs, 0.001, ["x"]) == set()


def test_what_a_table_cannot_tell_is_said(populate):
    rows = [{"n": f"R{k}", "amount": Decimal(k)} for k in range(300)]
    found = screened(populate(rows, id="n", amount="amount"), "traits")
    (caution,) = found["cautions"]
    assert caution["code"] == "traits_not_told"
    assert "at an odd hour (no time of day)" in caution["text"]
    assert found["flag_count"] == 0
    with pytest.raises(UserError, match="is no trait"):
        screened(populate(rows, id="n", amount="amount"), "traits", leave_out="midnight")
    with pytest.raises(UserError, match="needs what tells an entry"):
        screened(populate(rows, amount="amount"), "traits")


@pytest.mark.long
def test_the_night_entries_of_the_sample(marisma, tmp_path):
    found = inside_json("try", "traits", "journal", "--per", "asiento", cwd=marisma)
    with (marisma / "inbox/answers.csv").open(encoding="utf-8") as file:
        planted = {r["key"] for r in csv.DictReader(file) if r["kind"] in ("7", "14")}
    flagged = {key for f in found["flags"] for key in f["keys"]}
    # Those of one preparer that are alike are one matter.
    assert len(found["flags"]) <= 5 and sum(f["entries"] for f in found["flags"]) == len(flagged)
    assert planted <= flagged and len(flagged) <= len(planted) + 3
    counts = Counter(name for f in found["flags"] for name in f["traits"] for _ in f["keys"])
    assert (counts["same_person"], counts["turned_back"]) == (26, 8)
    drawn = ("--out", str(tmp_path / "a.png"))
    said = inside("try", "traits", "journal", "--per", "asiento", *drawn, cwd=marisma).stdout
    assert "prepared and approved by one" in said


def test_what_is_usual_of_a_source_counts_little_there(populate):
    """A source whose entries are round as a rule, and one round entry among the others."""
    rows = [{**row, "from": "hand"} for row in _journal()]
    for e in range(0, 400):
        _set(rows, f"E{e:05d}", amount=Decimal("3000.00"), **{"from": "interface"})
    _set(rows, "E01500", amount=Decimal("3000.00"), okay="p3", who="p3")
    people = populate(rows, **ROLES)
    found = screened(people, "traits", source="from", share=0.01)
    (group,) = found["groups"]
    sources = {s["source"]: s for s in group["sources"]}
    assert {name: s["entries"] for name, s in sources.items()} == {"hand": 1600, "interface": 400}
    for name, source in sources.items():
        for trait in source["traits"]:
            assert trait["bits"] == pytest.approx(-log2((trait["count"] + 0.5) / (source["entries"] + 1))), name  # fmt: skip
    bits = {n: {t["trait"]: t["bits"] for t in s["traits"]} for n, s in sources.items()}
    assert bits["interface"]["round_amount"] < 0.01
    assert bits["hand"]["round_amount"] > 9
    first = found["flags"][0]
    assert first["keys"] == ["E01500"]
    assert first["source"] == "hand"
    assert first["bits"] == pytest.approx(sum(bits["hand"][t] for t in first["traits"]))
    without = screened(people, "traits", share=0.01)
    (told,) = (t for t in without["groups"][0]["traits"] if t["trait"] == "round_amount")
    assert told["bits"] < 3
    assert without["groups"][0]["sources"] == []
    with pytest.raises(UserError, match="no column"):
        screened(people, "traits", source="nowhere")
