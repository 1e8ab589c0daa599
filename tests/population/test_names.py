"""A client's columns may be called anything, in any role: every test and command tells them from its own."""

from __future__ import annotations

import csv
import json
import re
import shlex
from pathlib import Path

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.population.table import Table
from sabueso.screens.subject import Cell, Cluster, Line, NumberRange, Row, own_key, own_name

NAMES = [
    "period", "line", "file", "on", "first", "subject.x", "amount", "units", "group", "select", "limits", "b",
    "position", "a.b", 'quo"te', "", "score", "row_file", "g0", "c0", "date", "count", "_rule", "digits", "rows",
    "period (sabueso)", "line (sabueso)", "id", "party", "worth", "O'Brien", "month of the year", "_file",
    "Vendor #", "Amount (USD)", "Acct/Dept", "Debit - Credit", "%", "count(*)", "Net?", "a, b",
    "Month", "quarter", "Year", "weekday", "day",
]  # fmt: skip
ROLES = ("id", "date", "party", "account", "amount", "quantity", "preparer", "text")


def _case(folder: Path, names: list[str]) -> Path:
    inside("open", "c", cwd=folder)
    rows = []
    for i in range(420):
        far = 900_000 if i in (17, 301) else 0
        rows.append(
            [f"R{i:04d}" if i != 5 else "R0004", f"2{'024' if i % 2 else '025'}-0{1 + i % 9}-1{i % 9}", f"S{i % 5}",
             f"6{i % 3}10", f"{(i * 7919) % 4000 + 40 + far}.{i % 100:02d}", str(1 + i % 7), f"u{i % 4}", f"text {i % 6}"]
        )  # fmt: skip
    with (folder / "a.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([names, *rows])
    plan = folder / "c" / "case.toml"
    types = {"number": ("amount", "quantity"), "date": ("date",)}
    called = [name or f"column {i + 1}" for i, name in enumerate(names)]
    called = ["file" if name == "_file" and "file" not in names else
              "file 2" if name == "_file" else name for name in called]  # fmt: skip
    roles = ", ".join(f"{r} = {json.dumps(n)}" for r, n in zip(ROLES, called, strict=True))
    kinds = {
        n: next((k for k, of in types.items() if r in of), "text")
        for r, n in zip(ROLES, called, strict=True)
    }
    typed = ", ".join(f"{json.dumps(n)} = {json.dumps(k)}" for n, k in kinds.items())
    plan.write_text(
        plan.read_text()
        + f'\n[tables.t]\nprefix = "TAB"\nroles = {{ {roles} }}\nread = {{ types = {{ {typed} }} }}\n',
        encoding="utf-8",
    )
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=folder / "c")
    assert report["total"]["accepted"] == 420
    return folder / "c"


def _worked(case: Path) -> None:
    tests = {
        "zscore": ["--by", "party"], "fences": ["--by", "preparer,account"], "top": ["--aim", "2"],
        "digits": ["--digits", "first-two", "--by-whom", "preparer", "--by", "party"],
        "range": ["--greatest", "5000", "--required", "text"],
        "distance": ["--per", "party,preparer", "--measures", "count(*),max(amount)"],
        "periods": ["--per", "party", "--base", "2024", "--current", "2025", "--quantity", "quantity"],
        "sequence": ["--of", "id", "--by", "party", "--incomplete", "0.99", "--least", "3"],
        "match": ["--other", "t", "--on", "party", "--when", "month", "--find", "present"], "repeats": ["--same", "party"], "payees": [], "calendar": ["--by", "preparer"],
    }  # fmt: skip
    keys = {role: _plan_role(case, role) for role in ROLES}
    # As a user types them where they are no plain words.
    quoted = {role: '"' + name.replace('"', '""') + '"' for role, name in keys.items()}
    for test, options in tests.items():
        given = [_named(option, quoted) for option in options]
        command = ["try", test, "t", *given]
        found = inside_json(*command, "--keep", test, cwd=case)
        if test == "zscore":
            assert [f["subject"][keys["id"]] for f in found["flags"]] == ["R0301", "R0017"]
            assert [f["subject"][own_name("line", [keys["id"]])] for f in found["flags"]] == [
                303,
                19,
            ]
            assert {f["group"][keys["party"]] for f in found["flags"]} == {"S1", "S2"}
        if test == "periods":
            assert {f["subject"][keys["party"]] for f in found["flags"]} <= {
                f"S{i}" for i in range(5)
            }
            assert all(
                f["subject"][own_name("period", [keys["party"]])] == "2025" for f in found["flags"]
            )
        said = inside(*command, cwd=case).stdout
        for step in re.findall(r"sabueso (dig .+)", said):
            inside(*shlex.split(step), cwd=case)
        if test in ("zscore", "periods", "repeats", "payees"):
            inside(*command, "--format", "csv", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    queue = inside_json("queue", "--top", "500", cwd=case)
    assert {item["kind"] for item in queue} >= {"row", "line"}
    for kind in sorted({item["kind"] for item in queue}):
        item = next(i for i in queue if i["kind"] == kind)
        dug = inside_json("dig", item["id"], cwd=case)
        assert 0 < dug["population"]["used"] < 420 or kind == "entity"
        if kind == "row":
            assert dug["population"]["used"] == 1
        inside("why", item["id"], cwd=case)
        inside(
            "review",
            item["id"],
            "--cleared",
            "--reason",
            "seen",
            "--as",
            "KL",
            "--set-aside",
            cwd=case,
        )
    inside("survey", "t", cwd=case)
    inside("screen", cwd=case)


def _named(option: str, quoted: dict[str, str]) -> str:
    """An option with the client's names in the places of roles."""
    if "(" in option:
        return option.replace("(amount)", f"({quoted['amount']})")
    return ",".join(quoted.get(part, part) for part in option.split(","))


def _plan_role(case: Path, role: str) -> str:
    import tomllib

    return str(
        tomllib.loads((case / "case.toml").read_text(encoding="utf-8"))["tables"]["t"]["roles"][
            role
        ]
    )


@pytest.mark.long
@settings(max_examples=1, phases=(Phase.explicit, Phase.generate))
@given(st.permutations(NAMES))
def test_columns_called_anything_in_any_role(tmp_path_factory, names):
    chosen = list(names[: len(ROLES)])
    lowered = [n.lower() for n in chosen]
    if len(set(lowered)) < len(lowered) or ("_file" in chosen and "file" in chosen):
        return
    case = _case(tmp_path_factory.mktemp("names"), chosen)
    _worked(case)
    inside("paper", cwd=case)


@pytest.mark.long
@pytest.mark.parametrize(
    "names",
    [["line", "on", "period", "first", "amount", "units", "file", "group"],
     ["period", "score", "on", "limits", "select", "g0", "c0", "row_line"]],
)  # fmt: skip
def test_columns_called_as_parts_of_a_key(tmp_path, names):
    _worked(_case(tmp_path, names))


@given(
    st.sets(
        st.sampled_from(
            ["line", "line (sabueso)", "line (sabueso) (sabueso)", "file", "lines", "x"]
        )
    )
)
def test_a_name_of_ones_own_is_found_again(taken):
    name = own_name("line", taken)
    assert name not in taken
    assert own_key("line", [*taken, name]) == name


def test_subjects_of_tests_to_come():
    table = Table("t", "T", (), ())
    cluster = Cluster({"party": "S1", "amount": "5.00"}, (("a.csv", 2), ("a.csv", 9)))
    assert (
        cluster.rows(table) == "(_file = 'a.csv' and _line = 2) or (_file = 'a.csv' and _line = 9)"
    )
    assert cluster.label() == "S1 · 5.00"
    cell = Cell({"weekday": "Sun", "hour": 3}, "(amount > 0)")
    assert cell.label() == "weekday Sun × hour 3"
    assert cell.rows(table) == "(weekday) = 'Sun' and (hour) = 3 and (amount > 0)"
    gap = NumberRange({"id": "P2 – P8"}, "id", "P1", "P9")
    assert (gap.label(), gap.rows(table)) == ("id P2 – P8 missing", "id in ('P1', 'P9')")
    line = Line({"period": "S1", "period (sabueso)": "2025"}, "new")
    assert (line.period, line.clients(), line.label()) == (
        "2025",
        {"period": "S1"},
        "S1 · 2025 · new",
    )
    row = Row({"line": "L7", "file": "a.csv", "line (sabueso)": 4})
    assert (dict(row.key()), row.short()) == ({"line": "L7"}, "L7")
