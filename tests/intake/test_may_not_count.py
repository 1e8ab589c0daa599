"""Rows that may not count are rows, and it is said what they are called."""

from __future__ import annotations

import doctest
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

import sabueso.intake.may_not_count as module
from conftest import inside, inside_json


def _assumed(folder, header, lines):
    """What is assumed of a table."""
    (folder / "x.csv").write_text("\n".join([header, *lines]) + "\n", encoding="utf-8")
    inside("open", "c", cwd=folder)
    report = inside_json("intake", "../x.csv", "--as", "x", cwd=folder / "c")
    assert report["total"]["accepted"] == len(lines)
    return [
        note["text"] for note in report["assumed"] if note["key"].endswith(("rules", "columns"))
    ]


def test_examples():
    assert doctest.testmod(module).failed == 0


@pytest.mark.parametrize(
    ("column", "usual", "odd", "said"),
    [
        ("Status", "Cleared", "Voided", "Status: 'Voided' on 5 of the first 40 lines: they are rows like all others"),
        ("Void", "", "X", "Void: 'X' on 5 of the first 40 lines: they are rows like all others"),
        ("Void", "", "V", "Void: 'V' on 5 of the first 40 lines: they are rows like all others"),
        ("Cancelled", "N", "C", "Cancelled: 'C' on 5"),
        ("Estado", "contabilizado", "Anulado", "Estado: 'Anulado' on 5"),
        ("Doc Type", "INV", "CN", "Doc Type: 'CN' on 5 of the first 40 lines, with amounts above nothing as all others"),
        ("Version", "Actual", "Budget", "Version: 'Budget' on 5 and 'Actual' on 35 of the first 40 lines"),
    ],
)  # fmt: skip
def test_rows_called_off_and_plans_are_told(tmp_path, column, usual, odd, said):
    lines = [f"2024-01-{1 + i % 28:02d},{10 + i}.50,{usual if i % 8 else odd}" for i in range(40)]
    (found,) = _assumed(tmp_path, f"date,amount,{column}", lines)
    assert found.startswith(said)


@pytest.mark.parametrize(
    ("column", "values"),
    [("Status", ["open", "closed"]), ("Urgent", ["X", ""]), ("Version", ["Budget", "Forecast"]),
     ("Text", [f"voided {i}" for i in range(40)])],
)  # fmt: skip
def test_nothing_is_said_of_what_counts(tmp_path, column, values):
    lines = [f"2024-01-{1 + i % 28:02d},{10 + i}.50,{values[i % len(values)]}" for i in range(40)]
    assert _assumed(tmp_path, f"date,amount,{column}", lines) == []


def test_credit_notes_below_nothing_are_as_they_should_be(tmp_path):
    lines = [f"2024-01-{1 + i % 28:02d},{'' if i % 8 else '-'}{10 + i}.50,{'INV' if i % 8 else 'CN'}" for i in range(40)]  # fmt: skip
    assert _assumed(tmp_path, "date,amount,Doc Type", lines) == []


@given(
    st.dictionaries(st.from_regex("[1-3][0-2][0-2]", fullmatch=True), st.integers(-500, 900), min_size=8, max_size=20),
    st.booleans(),
)  # fmt: skip
def test_accounts_that_add_up_others_are_told(tmp_path_factory, leaves, together):
    folder = tmp_path_factory.mktemp("accounts")
    sums = {code: Decimal(cents).scaleb(-2) for code, cents in leaves.items()}
    above = {}
    for code in leaves if together else ():
        for n in (1, 2):
            above.setdefault(code[:n], []).append(code)
    for code, own in above.items():
        sums[code] = sum((Decimal(leaves[each]) for each in own), Decimal(0)).scaleb(-2)
    lines = [f"{code},Account {code},{value:.2f}" for code, value in sorted(sums.items())]
    found = _assumed(folder, "account,name,amount", lines)
    parents = [code for code, own in above.items() if len(own) > 1 and sums[code]]
    if len(parents) < 3:
        assert found == []
    else:
        (said,) = found
        assert f"{len(parents)} of the {len(parents)} accounts that others begin with" in said


def test_lines_of_one_text_are_told_and_those_of_figures_are_not(tmp_path):
    lines = [f"R{i},2024-01-{1 + i % 28:02d},payment {i},{i}.50" for i in range(30)]
    lines[10:10] = [",,Page 1 of 2,"]
    lines[20:20] = [",,Page 2 of 2,"]
    lines[5] = ",,,7.25"
    lines[6] = "R6,,a day that is missing,9.00"
    said = _assumed(tmp_path, "id,date,text,amount", lines)
    assert said == [
        "2 lines of the first 32 lines hold one text and nothing else, such as 'Page 1 of 2': they are rows like all "
        "others"
    ]


def test_one_line_of_one_text(tmp_path):
    lines = [f"R{i},2024-01-{1 + i % 28:02d},payment {i},{i}.50" for i in range(30)]
    (said,) = _assumed(tmp_path, "id,date,text,amount", [*lines, ",,as agreed,"])
    assert said.startswith("1 line of the first 31 lines holds one text and nothing else")
    assert said.endswith("it is a row like all others")
