"""Reviews of many at once, assignments, matters, notes, and what was explained and comes back changed."""

from __future__ import annotations

import json
import shutil
from decimal import Decimal

import pytest

from conftest import inside, inside_json


@pytest.fixture
def case(marisma, tmp_path):
    shutil.copytree(marisma, tmp_path / "m")
    return tmp_path / "m"


def events(case):
    import sqlite3

    rows = sqlite3.connect(case / "register.db").execute(
        "SELECT seq, kind, subject, initials, body FROM events ORDER BY seq"
    )
    return [(seq, kind, subject, who, json.loads(body)) for seq, kind, subject, who, body in rows]


def test_many_at_once_by_a_condition(case):
    condition = "status = 'open' and kind = 'line' and amount < 100000"
    before = inside_json("queue", "--where", condition, cwd=case)
    assert before and all(Decimal(i["amount"]) < 100000 and i["kind"] == "line" for i in before)
    done = inside_json(
        "review", "--where", condition, "--cleared", "--reason", "small", "--as", "kl", cwd=case
    )
    assert {i["id"] for i in done} == {i["id"] for i in before}
    assert all(i["status"] == "cleared" and i["initials"] == "KL" for i in done)
    recorded = [e for e in events(case) if e[1] == "disposition" and e[4]["reason"] == "small"]
    assert len(recorded) == len(before) and all(e[4]["selected_by"] == condition for e in recorded)
    assert "meets" in inside("review", "--where", condition, "--cleared", "--reason", "x", "--as", "KL",
                             cwd=case, code=2).stderr  # fmt: skip
    for wrong, message in (
        ("amont > 3", "did you mean"), ("amount", "is not a condition"), ("label > 3 +", "cannot be read"),
    ):  # fmt: skip
        stderr = inside("queue", "--where", wrong, cwd=case, code=2).stderr
        assert message in stderr and stderr.count("\n") == 1
    assert (
        "not both" in inside("review", "PAY-4G41Q", "--where", "marks > 0", cwd=case, code=2).stderr
    )
    assert "--where" in inside("review", "--cleared", "--reason", "x", cwd=case, code=2).stderr


def test_assignments_and_matters(case):
    ids = [i["id"] for i in inside_json("queue", "--status", "open", "--top", "6", cwd=case)]
    asked = ("--matter", "split invoices", "--assign", "jt", "--as", "KL")
    done = inside("review", *ids, *asked, cwd=case).stdout
    assert all(identity in done for identity in ids) and done.count("split invoices") == 6
    listed = inside_json(
        "queue", "--where", "matter = 'split invoices' and assigned = 'JT'", cwd=case
    )
    assert [i["id"] for i in listed] == ids and {i["status"] for i in listed} == {"open"}
    inside("review", ids[0], "--cleared", "--reason", "seen", "--as", "JT", cwd=case)
    history = inside("review", ids[0], cwd=case).stdout
    assert "assigned to" in history and "split invoices" in history and "cleared" in history
    # A sign-off is of the disposition, whatever came after it.
    inside("review", ids[0], "--matter", "", "--as", "KL", cwd=case)
    signed = inside_json("review", ids[0], "--sign-off", "--as", "MR", cwd=case)[0]
    assert signed["signed_off"] == "MR" and signed["matter"] == ""
    last = [e for e in events(case) if e[1] == "sign-off"][-1]
    disposed = [e for e in events(case) if e[1] == "disposition" and e[2] == ids[0]][-1]
    assert last[4]["of"] == disposed[0]
    refused = inside(
        "review", ids[1], "--matter", "payments", "--as", "KL", cwd=case, code=2
    ).stderr
    assert "cannot be called" in refused
    inside(
        "note",
        "split inv",
        "--conclusion",
        "one preparer stands behind them",
        "--as",
        "KL",
        cwd=case,
    )
    assert [e for e in events(case) if e[1] == "note"][-1][2] == "split invoices"


def test_all_notes_are_kept_and_shown_but_for_those_replaced(case):
    screen = "account totals against last year"
    for text in ("first look", "second look", "third look"):
        inside("note", screen, "--observation", text, "--as", "KL", cwd=case)
    first = next(e for e in events(case) if e[1] == "note" and e[4]["text"] == "first look")
    again = inside(
        "note",
        screen,
        "--observation",
        "first, mended",
        "--replaces",
        str(first[0]),
        "--as",
        "KL",
        cwd=case,
    )
    assert f"in the place of event {first[0]}" in again.stdout
    inside("paper", cwd=case)
    page = (case / "papers/working-paper.html").read_text()
    for text, there in (
        ("first look", 0),
        ("second look", 1),
        ("third look", 1),
        ("first, mended", 1),
    ):
        assert page.count(text) == there, text
    stderr = inside(
        "note", screen, "--observation", "x", "--replaces", "1", "--as", "KL", cwd=case, code=2
    ).stderr
    assert "--replaces 1" in stderr


def test_a_changed_amount_reopens_what_was_explained(tmp_path):
    case = tmp_path / "c"
    inside("open", "c", cwd=tmp_path)
    rows = [
        f"{y}-0{m}-10,{a},{100 * k + m}.00"
        for y in (2024, 2025)
        for m in range(1, 9)
        for k, a in enumerate("xyz", 1)
    ]
    rows += ["2025-03-05,x,9000.00", "2025-03-05,y,8000.00"]
    header = "date,account,amount\n"
    (tmp_path / "a.csv").write_text(header + "\n".join(rows) + "\n")
    inside("intake", "../a.csv", "--as", "led", cwd=case)
    inside("try", "periods", "led", "--per", "account", "--base", "2024", "--current", "2025",
           "--amount-limit", "1000", "--keep", "years", cwd=case)  # fmt: skip
    inside("screen", cwd=case)
    ids = {i["subject"]["account"]: i["id"] for i in inside_json("queue", cwd=case)}
    for account, what in (("x", "--cleared"), ("y", "--cleared")):
        inside(
            "review", ids[account], what, "--reason", f"agreed {account}", "--as", "KL", cwd=case
        )
    assert inside_json("screen", cwd=case)["reopened"] == []
    (tmp_path / "b.csv").write_text(header + "2025-04-05,x,2500.00\n2025-04-05,y,20.00\n")
    inside("intake", "../b.csv", "--as", "led", cwd=case)
    done = inside_json("screen", cwd=case)
    assert [r["id"] for r in done["reopened"]] == [ids["x"]]
    now = {i["subject"]["account"]: i for i in inside_json("queue", cwd=case)}
    assert now["x"]["status"] == "open" and now["y"]["status"] == "cleared"
    history = inside("review", ids["x"], cwd=case).stdout
    assert "agreed x" in history and "when it was reviewed" in " ".join(history.split())
