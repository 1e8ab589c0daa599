"""Rows that may not count are rows, and it is said what they are called."""

from __future__ import annotations

import doctest
import random
import re
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


KINDS = {"PUT": 1, "TAKE": -1, "CASH": -1}


def _moves(draw, owners, newest_first):
    """Movements of some accounts above nothing, and what each stands at after them."""
    stood, rows = dict.fromkeys(range(owners), 5_000_00), []
    for n in range(120):
        owner, cents = draw(0, owners - 1), draw(1, 90_000)
        kind = list(KINDS)[draw(0, 2)]
        stood[owner] += KINDS[kind] * cents
        rows.append((n, f"A{owner}", kind, cents, stood[owner]))
    return rows[::-1] if newest_first else rows


@pytest.mark.parametrize("owners", [1, 9])
@pytest.mark.parametrize("newest_first", [False, True])
def test_a_balance_tells_which_amounts_are_taken_off(tmp_path, owners, newest_first):
    """Whose amounts are all above nothing; what it says to do makes amounts that the balance goes by."""
    rows = _moves(random.Random(owners).randint, owners, newest_first)
    lines = [
        f"2024-{1 + n // 28:02d}-{1 + n % 28:02d},{owner},{kind},{cents / 100:.2f},{stood / 100:.2f}"
        for n, owner, kind, cents, stood in rows
    ]
    (text,) = _assumed(tmp_path, "day,held,kind,amount,stands at", lines)
    said = r"stands at falls by the amounts of \d+ of the first 120 lines, those whose kind is '(TAKE|CASH)', '(TAKE|CASH)', and rises by those of 'PUT'; all are above nothing, and are added: give (.*) a name under columns, and that the role amount, to have them taken off"
    (_, _, signed) = re.fullmatch(said, text).groups()
    plan = tmp_path / "c" / "case.toml"
    told = plan.read_text().replace('amount = "amount"', 'amount = "signed"')
    plan.write_text(told.replace("[tables.x]", f'[tables.x]\ncolumns = {{ signed = "{signed}" }}'))
    total = sum(KINDS[kind] * cents for _, _, kind, cents, _ in rows)
    found = inside_json("dig", "x", cwd=tmp_path / "c")["population"]
    assert Decimal(found["total"]) == Decimal(total).scaleb(-2)


def test_a_folder_says_why_rows_are_set_aside_and_what_they_come_to(tmp_path):
    """The commonest reasons, with an example of each, and the amounts that could be read."""
    lines = [
        f"V{n},{n}.50,{'2010' if n % 4 == 0 else f'2024-01-{1 + n % 28:02d}'}" for n in range(80)
    ]
    lines[5] = "V5,five,2024-01-06"
    (tmp_path / "in").mkdir()
    (tmp_path / "in/paid.csv").write_text("\n".join(["voucher,amount,paid on", *lines]) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    said = " ".join(inside("intake", "../in", "--yes", cwd=tmp_path / "c").stdout.split())
    assert (
        "set aside 21 rows of paid with 770.00 in amount, each with its reason in quarantine/paid/: 20 in paid on: expected "
        "date yyyy-mm-dd, such as '2010'; 1 in amount: expected number 1234.56, such as 'five'"
    ) in said
