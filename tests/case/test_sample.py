"""Samples from the table to the conclusion: what is drawn, by whom it can be drawn again, what follows."""

from __future__ import annotations

import shutil
from decimal import Decimal

import numpy as np
import pytest

from conftest import inside, inside_json, screened
from sabueso.screens.drawn import Judged
from sabueso.screens.sample import frame
from sabueso.screens.sample.test import Sample
from sabueso.stats.drawing import drawn_places, random_start, spaced_places


def _rows(n=400, seed=1):
    rng = np.random.default_rng(seed)
    amounts = [Decimal(int(v)).scaleb(-2) for v in rng.lognormal(8, 1.3, n)]
    return [{"id": f"R{i:04d}", "amount": a} for i, a in enumerate(amounts)]


@pytest.mark.parametrize("size", [1, 7, 40, 390])
@pytest.mark.parametrize("lines", [16, 1024])
def test_money_units_are_those_of_a_plain_count(populate, size, lines, monkeypatch):
    monkeypatch.setattr(frame, "LINES", lines)
    rows = _rows()
    rows[5]["amount"], rows[9]["amount"] = Decimal("0.00"), Decimal("-3.00")
    found = screened(populate(rows, id="id", amount="amount"), "sample", method="money", size=size, seed=4)  # fmt: skip
    cents = [int(r["amount"] * 100) for r in rows]
    whole: set[int] = set()
    rest = sum(c for c in cents if c > 0)
    interval = max(rest // size, 1)
    while True:
        again = {i for i, c in enumerate(cents) if c >= interval}
        if again == whole:
            break
        whole = again
        rest = sum(c for i, c in enumerate(cents) if c > 0 and i not in whole)
        if len(whole) >= size or not rest:
            break
        interval = max(rest // (size - len(whole)), 1)
    drawn = set(whole)
    if len(whole) < size and rest:
        at, before = random_start("4", interval), 0
        for i, c in enumerate(cents):
            if c > 0 and i not in whole:
                if any(
                    (unit - at) % interval == 0 for unit in range(before, before + c) if unit >= at
                ):
                    drawn.add(i)
                before += c
    assert {flag["subject"]["id"] for flag in found["flags"]} == {rows[i]["id"] for i in drawn}
    assert found["population"]["left_out"] == {"zero": 1, "negative": 1}
    assert [c["code"] for c in found["cautions"]] == ["not_drawn_from"]
    for flag in found["flags"]:
        assert flag["whole"] == (int(flag["subject"]["id"][1:]) in whole)
    assert sum(Decimal(g["total"]) for g in found["groups"]) == Decimal(found["population"]["used_total"])  # fmt: skip


@pytest.mark.parametrize(
    "settings", [{}, {"strata": 3}, {"edges": "10, 50, 400"}, {"take_all": "300"}]
)
def test_strata_hold_every_row_once_and_get_their_share(populate, settings, monkeypatch):
    monkeypatch.setattr(frame, "LINES", 50)
    rows = _rows(900)
    found = screened(populate(rows, id="id", amount="amount"), "sample", method="strata", size=60, seed=9, **settings)  # fmt: skip
    groups, flags = found["groups"], found["flags"]
    assert sum(g["n"] for g in groups) == 900
    assert sum(Decimal(g["total"]) for g in groups) == sum(r["amount"] for r in rows)
    assert len(flags) == sum(g["size"] for g in groups) == 60
    for place, g in enumerate(groups):
        low, high = (None if v is None else Decimal(v) for v in (g["low"], g["high"]))
        own = [r["amount"] for r in rows if (low is None or r["amount"] >= low) and (high is None or r["amount"] < high)]  # fmt: skip
        drawn = [Decimal(f["amount"]) for f in flags if f["stratum"] == place]
        assert (len(own), sum(own)) == (g["n"], Decimal(g["total"]))
        assert len(drawn) == g["size"] >= min(2, g["n"])
        assert g["sd"] == pytest.approx(np.std([float(v) for v in own], ddof=1) if len(own) > 1 else 0)  # fmt: skip
    if "take_all" in settings:
        assert groups[-1]["whole"]
        assert Decimal(groups[-1]["low"]) == 300


@pytest.mark.parametrize("method", ["random", "systematic"])
@pytest.mark.parametrize("lines", [7, 1024])
def test_places_are_those_of_the_rows_in_their_order(populate, method, lines, monkeypatch):
    """Whatever the blocks in which rows are counted, and whichever rows a condition leaves out."""
    monkeypatch.setattr(frame, "LINES", lines)
    rows = _rows(500)
    kept = [r for r in rows if r["amount"] > 20]
    found = screened(populate(rows, "amount > 20", id="id", amount="amount"), "sample", method=method, size=33, seed=8)  # fmt: skip
    places = (spaced_places if method == "systematic" else drawn_places)("8", 33, len(kept))
    assert [f["subject"]["id"] for f in found["flags"]] == [kept[p - 1]["id"] for p in places]
    assert [f["place"] for f in found["flags"]] == places


def test_all_judged_says_what_follows_and_nothing_before(populate):
    population = populate(_rows(), id="id", amount="amount")
    screen = Sample()
    finding = screen.run(population, screen.settings.from_plan({"method": "money", "size": 40, "tolerable": "20%"}, "x"))  # fmt: skip
    flags = list(finding.flags.rows())

    def judged(**errors):
        return [
            Judged(f["subject"]["id"], "error" if f["subject"]["id"] in errors else "cleared",
                   errors.get(f["subject"]["id"])) for f in flags
        ]  # fmt: skip

    drawn = [f for f in flags if not f["whole"]]
    whole = [f for f in flags if f["whole"]]
    first, second = drawn[0], drawn[1]
    some = judged(**{first["subject"]["id"]: first["amount"] / 2, second["subject"]["id"]: None})
    found = screen.evaluated(finding, some)
    assert not found.conclusion
    assert "1 error without an amount" in found.lacking
    waiting = [
        Judged(j.identity, "referred", None) if k == 3 else j for k, j in enumerate(judged())
    ]
    found = screen.evaluated(finding, waiting)
    assert not found.conclusion
    assert "1 item of" in found.lacking
    assert "1 referred" in found.lacking
    errors = {
        first["subject"]["id"]: first["amount"] / 2,
        whole[0]["subject"]["id"]: Decimal("1.50"),
    }
    found = screen.evaluated(finding, judged(**errors))
    interval = float(finding.more.interval)
    money = found.content["money"]
    assert Decimal(money["known"]) == Decimal("1.50")
    assert money["projected"] == pytest.approx(interval / 2)
    # R0 + (R1 - R0) / 2 of a taint of one half, and what was taken whole.
    assert money["upper"] == pytest.approx(interval * (2.995732 + (4.743865 - 2.995732) / 2) + 1.5, rel=1e-6)  # fmt: skip
    assert found.within is True
    assert "within the tolerable" in found.conclusion
    printed = found.conclusion.split("no more than ")[1].split(" ")[0].rstrip(":").replace(",", "")
    assert 0 <= float(printed) - money["upper"] < 0.0100001
    low = screen.evaluated(finding, judged(**{second["subject"]["id"]: -second["amount"]}))
    assert "recorded too low were found as well" in low.conclusion
    assert low.content["money"]["projected"] == 0
    assert low.content["money"]["low_projected"] == pytest.approx(interval)


@pytest.fixture(scope="module")
def screened_case(tmp_path_factory):
    """Payments in two files, one row of which a screen flags."""
    folder = tmp_path_factory.mktemp("sampled")
    rng = np.random.default_rng(6)
    lines = [
        f"P{i:04d},2025-{1 + i % 12:02d}-11,S{i % 9},{100 + rng.normal(0, 8):.2f}"
        for i in range(300)
    ]
    lines.append("X1,2025-05-05,S3,9000.00")
    head = "id,date,supplier,amount\n"
    (folder / "one.csv").write_text(head + "\n".join(lines[:150]) + "\n")
    (folder / "two.csv").write_text(head + "\n".join(lines[150:]) + "\n")
    inside("open", "case", cwd=folder)
    inside("intake", "../one.csv", "../two.csv", "--as", "pay", cwd=folder / "case")
    inside("try", "zscore", "pay", "--keep", "z", cwd=folder / "case")
    inside("screen", "--as", "KL", cwd=folder / "case")
    return folder


@pytest.fixture
def case(screened_case, tmp_path):
    shutil.copytree(screened_case, tmp_path, dirs_exist_ok=True)
    return tmp_path / "case"


def test_a_sample_from_draw_to_paper(case):
    drawn = inside_json(
        "sample", "pay", "--method", "money", "--size", "20", "--seed", "5", cwd=case
    )
    items = {flag["id"] for flag in drawn["draw"]["flags"]}
    queue = inside_json("queue", "--top", "99", cwd=case)
    # X1 was flagged and is drawn too: one exception, reviewed once, that stands where it stood.
    assert queue[0]["subject"]["id"] == "X1"
    assert queue[0]["kind"] == "row"
    assert queue[0]["id"] in items
    assert {m["screen"] for m in queue[0]["marks"]} == {"z", "sample of pay"}
    assert queue[0]["because"].endswith("in 'z'.")
    sampled = [item for item in queue if item["kind"] == "sampled"]
    assert {item["id"] for item in sampled} == items - {queue[0]["id"]}
    assert queue[-len(sampled) :] == sampled
    assert all(item["evidence_bits"] == 0 for item in sampled)
    assert "drawn and flagged by no screen" in sampled[0]["because"]
    assert "holds unit" in inside("why", sampled[0]["id"], cwd=case).stdout
    # It is drawn once: the programme leaves it, and a gate counts what is flagged.
    inside("screen", "--gate", "1", "--as", "KL", cwd=case)
    assert "is not drawn again" in inside("screen", "sample of pay", cwd=case, code=2).stderr
    assert len(inside_json("queue", "--top", "99", cwd=case)) == len(queue)
    inside("redo", "2", cwd=case)
    # A row of the sample that a screen flags later is an exception like all others.
    inside("try", "range", "pay", "--greatest", "1", "--keep", "all", cwd=case)
    inside("screen", "all", "--as", "KL", cwd=case)
    assert not inside_json("queue", "--kind", "sampled", cwd=case)
    (case / "case.toml").write_text((case / "case.toml").read_text().split("[[screens]]\nname = \"all\"")[0])  # fmt: skip
    assert "no conclusion: 20 items" in " ".join(inside("sample", cwd=case).stdout.split())
    for start, word in ((0, "--cleared"), (1, "--error")):
        chosen = sorted(items)[start : 1 if not start else None]
        inside("review", *chosen, word, "--reason", "seen", "--as", "KL",
               *(["--amount", "1.00"] if start else []), cwd=case)  # fmt: skip
    found = inside_json("sample", "--evaluate", "sample", cwd=case)["evaluation"]
    assert (found["items"], found["judged"], found["errors"]) == (len(items), len(items), len(items) - 1)  # fmt: skip
    assert found["conclusion"]
    inside("paper", cwd=case)
    paper = (case / "papers" / "working-paper.html").read_text()
    assert found["conclusion"][1:60] in paper
    assert "projected onto nothing" in paper


def test_the_same_seed_draws_the_same_after_the_table_was_taken_in_again(case):
    for method in ("random", "systematic", "money", "strata"):
        inside("sample", "pay", "--method", method, "--size", "25", "--seed", "11", "--name", method, cwd=case)  # fmt: skip
    before = {m: _drawn(case, m) for m in ("random", "systematic", "money", "strata")}
    inside("withdraw", "pay", "--reason", "again", "--as", "KL", cwd=case)
    inside("intake", "../two.csv", "--as", "pay", cwd=case)
    inside("intake", "../one.csv", "--as", "pay", cwd=case)
    for method, drawn in before.items():
        inside("sample", "pay", "--method", method, "--size", "25", "--seed", "11", "--name", f"{method} again", cwd=case)  # fmt: skip
        assert _drawn(case, f"{method} again") == drawn
    inside("withdraw", "pay", "two.csv", "--reason", "not asked for", "--as", "KL", cwd=case)
    assert inside_json("sample", "--evaluate", "random again", cwd=case)["population_changed"]
    assert "other files now" in " ".join(inside("sample", "--evaluate", "random again", cwd=case).stdout.split())  # fmt: skip


def _drawn(case, name):
    found = inside_json("sample", "--evaluate", name, cwd=case)
    return [flag["subject"]["id"] for flag in found["draw"]["flags"]]


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (["pay", "--size", "302"], "cannot be drawn of 301 rows"),
        (["pay", "--size", "0"], "size"),
        (["pay", "--tolerable", "120"], "a share of the items"),
        (["pay", "--method", "money", "--tolerable", "99999999"], "not below what all rows add up to"),
        (["pay", "--method", "money", "--tolerable", "2%", "--expected", "2%"], "expected one below it"),
        (["pay", "--confidence", "20%"], "from 50%"),
        (["pay", "--edges", "10,5", "--method", "strata"], "must rise"),
        (["pay", "--edges", "10"], "method strata alone"),
        (["pay", "--edges", "10.001", "--size", "9", "--method", "strata"], "more decimals"),
        (["pay", "--method", "strata", "--size", "3"], "two items each"),
        (["pay", "--where", "amount > 1000000"], "no row is left"),
        (["pay", "--name", "z"], "choose another name"),
        (["nothing"], "there is no table"),
        (["--evaluate", "x"], "draw one with"),
        (["--size", "3"], "name the table"),
        ([], "no sample is drawn"),
    ],
)  # fmt: skip
def test_what_cannot_be_drawn_is_one_sentence_and_leaves_the_plan(case, given, words):
    before = (case / "case.toml").read_bytes(), sorted(p.name for p in (case / "runs").iterdir())
    assert words in inside("sample", *given, cwd=case, code=2).stderr
    assert before == ((case / "case.toml").read_bytes(), sorted(p.name for p in (case / "runs").iterdir()))  # fmt: skip
