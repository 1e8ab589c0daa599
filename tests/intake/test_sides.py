"""Amounts in a debit and a credit column, each with or without a minus of its own."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import inside, inside_json

SIDES = ("debit", "credit")


def _file(path, rows, minus):
    """Rows of (day, amount): out is above nothing, and stands in the debit column."""
    lines = ["Date,Details,Debit,Credit,Balance"]
    for day, amount in rows:
        side = "debit" if amount > 0 else "credit"
        text = f"{-abs(amount) if side in minus else abs(amount):.2f}"
        cells = (text, "") if side == "debit" else ("", text)
        lines.append(f"2024-{1 + day // 28:02d}-{1 + day % 28:02d},d{day},{','.join(cells)},1.00")
    path.write_text("\n".join(lines) + "\n")


def _rows(n, first=0):
    return [(i % 300, Decimal((i * 7919 + first) % 90000 + 1).scaleb(-2) * (-1) ** i) for i in range(n)]  # fmt: skip


@pytest.fixture
def case(tmp_path):
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    return tmp_path / "c"


@settings(max_examples=8)
@given(st.sets(st.sampled_from(SIDES)), st.integers(2, 60))
def test_every_habit_gives_the_same_amounts(tmp_path_factory, minus, n):
    folder = tmp_path_factory.mktemp("sides")
    inside("open", "c", "--currency", "EUR", cwd=folder)
    rows = _rows(2 * n)
    _file(folder / "a.csv", rows, minus)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=folder / "c")
    assert Decimal(report["total"]["amount"]) == sum(amount for _, amount in rows)
    (assumed,) = (
        a["text"] for a in report["assumed"] if "less" in a["text"] or "with" in a["text"]
    )
    assert ("minus" in assumed or "negative already" in assumed) == bool(minus)
    again = inside_json("dig", "t", "--rows", "--limit", "200", cwd=folder / "c")
    found = sorted(Decimal(str(row["amount"])) for row in again["rows"])
    assert found == sorted(amount for _, amount in rows)


def test_the_first_file_settles_it_for_the_others(case):
    for name, rows, minus in (
        ("a.csv", _rows(40), {"debit"}),
        # One reversal among few: as the table has it, and not what the file alone would say.
        ("b.csv", [(1, Decimal("5.00")), (2, Decimal("-7.00")), (3, Decimal("-8.00"))], set()),
        ("c.csv", _rows(40, 3), set()),
    ):
        _file(case.parent / name, rows, minus)
    inside("intake", "../a.csv", "--as", "t", cwd=case)
    few = inside_json("intake", "../b.csv", "--as", "t", cwd=case)
    assert few["total"]["amount"] == "-20.00"  # -5.00 without its minus, less credits of 15.00
    said = inside("intake", "../c.csv", "--as", "t", cwd=case, code=2).stderr
    assert "'Debit' stand without a minus of their own" in said and "read.minus" in said
    assert said.count("\n") == 1
    plan = case / "case.toml"
    text = plan.read_text()
    plan.write_text(text.replace("[tables.t]", "[tables.t]\nread = {minus = []}"))
    assert "read.minus is []" in inside("intake", "../c.csv", "--as", "t", cwd=case, code=2).stderr
    plan.write_text(text.replace("[tables.t]", '[tables.t]\nread = {minus = ["sideways"]}'))
    assert "minus" in inside("intake", "../c.csv", "--as", "t", cwd=case, code=2).stderr


def test_one_debit_below_nothing_is_a_reversal(case):
    (case.parent / "a.csv").write_text(
        "Date,Details,Debit,Credit\n2024-01-02,a,-12.50,\n2024-01-03,b,,3.00\n2024-01-04,c,,5.00\n"
    )
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=case)
    assert report["total"]["amount"] == "-20.50"


def test_the_plan_says_it(case):
    _file(case.parent / "a.csv", [(1, Decimal("5.00")), (2, Decimal("9.00")), (3, Decimal("-7.00"))], {"debit"})  # fmt: skip
    plan = case / "case.toml"
    plan.write_text(plan.read_text() + '\n[tables.t]\nprefix = "TAB"\nread = {minus = []}\n')
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=case)
    assert report["total"]["amount"] == "-21.00"


@pytest.mark.parametrize(
    ("name", "beside", "role", "told"),
    [
        ("Gross", lambda d: abs(d) * Decimal("1.2"), "amount", "amount is Debit less Credit"),
        ("Net", lambda d: d, "Net", "Net is Debit less Credit in each of the first 40 rows with either"),
        ("Amount", lambda d: -d, "Amount", "Amount is Credit less Debit in each of the first 40 rows with either"),
        (
            "Amount", abs, "Amount",
            "the amounts are those of Amount, which is Debit less Credit in 20 of the first 40 rows with either",
        ),
    ],
)  # fmt: skip
def test_a_figure_beside_a_debit_and_a_credit(tmp_path, name, beside, role, told):
    """It is the amount where it is what they come to, whichever way; with its tax it is another figure; and one that is
    called so, and is neither, is told to be."""
    lines = [f"Date,Debit,Credit,{name}"]
    for n, (_, difference) in enumerate(_rows(40)):
        sides = (difference, "") if difference > 0 else ("", -difference)
        lines.append(f"2024-03-{1 + n % 28:02d},{sides[0]},{sides[1]},{beside(difference):.2f}")
    (tmp_path / "gl.csv").write_text("\n".join(lines) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    taken = inside_json("intake", "../gl.csv", "--as", "gl", cwd=tmp_path / "c")
    report = taken[0] if isinstance(taken, list) else taken
    assert report["roles"]["amount"] == role
    assert told in [each["text"] for each in report["assumed"]]
