"""The programme: screens that cannot run, settings given and solved, and a run that needs nothing outside it."""

from __future__ import annotations

import hashlib
import json
import re
import tomllib
from pathlib import Path

import pytest

from conftest import inside, inside_json


@pytest.fixture
def case(tmp_path: Path) -> Path:
    """A ledger and a list of staff without amounts, and four screens, one of which cannot run."""
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    rows = [
        f"P{i:04d},202{4 + i % 2}-01-{1 + i % 28:02d},A{i % 3},{100 + i % 13}.25"
        for i in range(300)
    ]
    rows += [f"X{i},2025-02-0{i + 1},A{i % 3},{9000 + i}.00" for i in range(5)]
    (tmp_path / "a.csv").write_text("id,date,account,amount\n" + "\n".join(rows) + "\n")
    (tmp_path / "s.csv").write_text("empleado,nombre,baja\nE1,Ana,\nE2,Luz,2024-05-01\nE3,Eva,\n")
    inside("intake", "../a.csv", "--as", "pay", cwd=case)
    inside("intake", "../s.csv", "--as", "staff", cwd=case)
    inside("try", "zscore", "pay", "--aim", "3", "--keep", "aimed", cwd=case)
    inside("try", "range", "staff", "--required", "baja", "--keep", "leavers", cwd=case)
    inside(
        "try",
        "periods",
        "pay",
        "--per",
        "account",
        "--base",
        "2024",
        "--current",
        "2025",
        "--keep",
        "moved",
        cwd=case,
    )
    return case


def test_a_range_on_a_table_without_amounts(case):
    run = inside_json("screen", "leavers", cwd=case)["screens"][0]
    assert run["flagged"] == 2
    item = inside_json("queue", cwd=case)[0]
    assert (item["kind"], item["amount"], item["label"][:12]) == ("row", None, "s.csv line 2")
    inside("paper", cwd=case)


def test_a_screen_that_cannot_run_is_named_and_the_others_recorded(case):
    inside("screen", cwd=case)
    plan = case / "case.toml"
    text = plan.read_text()
    broken = (
        '\n[[screens]]\nname = "no test"\ntest = "none"\ntable = "pay"\n'
        '\n[[screens]]\nname = "no rows"\ntest = "zscore"\ntable = "budget"\n'
        '\n[[screens]]\nname = "no setting"\ntest = "zscore"\ntable = "pay"\nlimits = 3\n'
    )
    plan.write_text(text.replace('required = ["baja"]', 'required = ["salida"]') + broken)
    done = inside("screen", "--as", "KL", cwd=case, code=2)
    assert (
        "4 of 6 screens could not run; 'leavers': table 'staff' has no column 'salida'"
        in done.stderr
    )
    for name in ("leavers", "no test", "no rows", "no setting"):
        assert f"not run {name}:" in done.stdout
    run = json.loads((case / "runs/0002/run.json").read_text())
    assert [s["name"] for s in run["screens"]] == ["aimed", "moved"]
    assert [f["screen"] for f in run["failed"]] == ["leavers", "no test", "no rows", "no setting"]
    queue = inside("queue", cwd=case).stdout
    assert "leavers could not run in run 2" in queue and "no setting could not run" in queue
    inside("paper", cwd=case)
    page = (case / "papers" / "working-paper.html").read_text()
    assert "<strong>leavers</strong> could not run in run 2" in page
    # What it marked before is still in the queue; once it runs again nothing is said.
    assert {m["screen"] for i in inside_json("queue", cwd=case) for m in i["marks"]} >= {"leavers"}
    plan.write_text(text)
    inside("screen", "leavers", cwd=case)
    assert "could not run" not in inside("queue", cwd=case).stdout
    plan.write_text(text.replace('required = ["baja"]', 'required = ["salida"]'))
    before = (case / "register.db").read_bytes()
    assert "'leavers'" in inside("screen", "leavers", cwd=case, code=2).stderr
    assert (case / "register.db").read_bytes() == before


def test_settings_given_and_solved_are_told_apart(case):
    found = inside_json("try", "zscore", "pay", "--aim", "3", cwd=case)
    assert found["settings"]["limit"] is None and float(found["solved"]["limit"]) > 3
    found = inside_json("try", "zscore", "pay", cwd=case)
    assert (found["settings"]["limit"], found["solved"]["limit"]) == (None, "3")
    found = inside_json("try", "fences", "pay", "--aim", "3", cwd=case)
    assert (found["settings"]["inner"], found["settings"]["outer"]) == ("1.5", "3")
    assert float(found["solved"]["inner"]) > 3
    found = inside_json(
        "try", "periods", "pay", "--per", "account", "--base", "2024", "--current", "2025", cwd=case
    )
    assert (found["settings"]["base"], found["solved"]["base"]) == ("2024", "2024")


def test_a_run_needs_nothing_outside_it(case):
    inside("screen", cwd=case)
    item = next(
        i for i in inside_json("queue", cwd=case) if i["kind"] == "row" and i["table"] == "pay"
    )
    inside(
        "review", item["id"], "--cleared", "--reason", "x", "--set-aside", "--as", "KL", cwd=case
    )
    before = (case / "case.toml").read_bytes()
    inside("screen", cwd=case)
    (case / "case.toml").write_text('[case]\nname = "other"\n')
    folder = case / "runs" / "0002"
    assert (folder / "plan.toml").read_bytes() == before
    plan = tomllib.loads((folder / "plan.toml").read_text())
    assert plan["tables"]["pay"]["roles"]["amount"] == "amount"
    run = json.loads((folder / "run.json").read_text())
    assert run["set_aside"] == {"pay": [item["rows"]]}
    assert set(run["inputs"]) == {"pay", "staff"}
    files = {p.name for p in folder.iterdir()} - {"run.json"}
    assert set(run["files"]) == files
    for name, digest in run["files"].items():
        assert hashlib.sha256((folder / name).read_bytes()).hexdigest() == digest


def test_rows_without_an_id_stand_beside_those_that_have_one(tmp_path):
    """Of one screen all that it flags lack their id, of another none does."""
    rows = [f"P{i},2024-01-{1 + i % 28:02},Holt,{i}.50" for i in range(40)]
    rows += [
        ",2024-02-01,,7.25",
        ",2024-02-02,,8.25",
        "P7,2024-02-03,Holt,900.00",
        "P8,2024-02-04,Holt,901.00",
    ]
    (tmp_path / "pay.csv").write_text("\n".join(["id,date,supplier,amount", *rows]) + "\n")
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    inside("intake", "../pay.csv", "--as", "pay", cwd=case)
    plan = case / "case.toml"
    plan.write_text(re.sub(r"roles = \{.*", 'roles = {id = "id", date = "date", party = "supplier", amount = "amount"}', plan.read_text()))  # fmt: skip
    inside("try", "range", "pay", "--required", "supplier", "--keep", "no supplier", cwd=case)
    alone = inside("screen", cwd=case)
    assert "exceptions 2 = open 2" in alone.stdout
    inside("try", "range", "pay", "--greatest", "100", "--keep", "large", cwd=case)
    inside("screen", cwd=case)
    found = inside_json("queue", cwd=case)
    assert sorted(item["amount"] for item in found) == ["7.25", "8.25", "900.00", "901.00"]
    # An id of two rows leads to the one that was flagged.
    for item in found:
        (row,) = inside_json("dig", item["id"], "--rows", cwd=case)["rows"]
        assert row["amount"] == item["amount"]
