"""Money in and money out in two columns of any names, told by the balance that stands after each row; and which
columns of several are meant, where names alone would take one too many or the wrong one."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.formats.moving import settle_moving, sides_of_a_balance
from sabueso.intake.formats.numbers import NumberFormat

NUMBER = NumberFormat(scale=2)
amounts = st.decimals(min_value="0.01", max_value=99999, places=2)


def _table(moves, start, *, newest_first=False, minus=False):
    """Texts of (in, out, balance) for signed moves, in above nothing."""
    rows, at = [], start
    for move in moves:
        at += move
        out = f"{move if minus else -move}" if move < 0 else ""
        rows.append((f"{move}" if move > 0 else "", out, f"{at}"))
    if newest_first:
        rows.reverse()
    return pa.table(dict(zip(("a", "b", "c"), map(list, zip(*rows, strict=True)), strict=True)))


@given(
    st.lists(st.tuples(amounts, st.booleans()), min_size=12, max_size=30),
    st.decimals(min_value=-5000, max_value=5000, places=2),
    st.booleans(),
    st.booleans(),
    st.permutations(("a", "b", "c")),
)
def test_a_balance_tells_which_column_raises_it(moves, start, newest_first, minus, order):
    signed = [amount if up or i < 3 else -amount for i, (amount, up) in enumerate(moves)]
    signed += [Decimal("-7.50"), Decimal("-3.25"), Decimal("11.10")]
    table = _table(signed, start, newest_first=newest_first, minus=minus).select(order)
    found = sides_of_a_balance(table, dict.fromkeys(order, NUMBER), order)
    assert found == ("b", "a", "c")


@given(st.lists(st.tuples(amounts, amounts, amounts), min_size=10, max_size=30, unique=True))
def test_measures_of_one_row_are_no_sides(rows):
    texts = [list(map(str, column)) for column in zip(*rows, strict=True)]
    table = pa.table(dict(zip("abc", texts, strict=True)))
    assert sides_of_a_balance(table, dict.fromkeys("abc", NUMBER), "abc") is None


def test_a_column_of_amounts_beside_them_stays_the_tables():
    table = _table([Decimal(i % 3 * 10 - 8) for i in range(20)], Decimal(0))
    table = table.append_column("Amount", pa.array(["1.00"] * 20))
    guessed = {"amount": "Amount"}
    settle_moving(guessed, table, dict.fromkeys(table.column_names, NUMBER))
    assert guessed == {"amount": "Amount"}


@pytest.mark.parametrize(
    ("into", "out", "sign"),
    [("Received", "Paid", -1), ("Lodged", "Drawn", -1), ("Rent charged", "Settled", 1), ("Mottatt", "Sendt", -1)],
)  # fmt: skip
def test_both_columns_count(tmp_path, into, out, sign):
    """What comes in is below nothing, as in a bank's statement; what is charged to somebody is above."""
    lines, at, total = [f"Date,Details,{into},{out},Balance"], Decimal(0), Decimal(0)
    for i in range(40):
        move = Decimal(i * 7919 % 9000 + 100).scaleb(-2) * (1 if i % 3 else -1)
        at, total = at + move, total + move
        cells = f"{move},," if move > 0 else f",{-move},"
        lines.append(f"{date(2024, 1, 1) + timedelta(days=i)},row {i},{cells}{at}")
    (tmp_path / "a.csv").write_text("\n".join(lines) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    assert Decimal(report["total"]["amount"]) == sign * total
    less = f"{into} less {out}" if sign > 0 else f"{out} less {into}"
    assert f"amount is {less}" in [each["text"] for each in report["assumed"]]


@pytest.mark.parametrize(
    ("header", "cells", "roles", "said"),
    [
        (
            "Claim No,Loss Date,Reported Date,Paid Date,Due Date,Paid",
            "C{i},2024-01-{d:02d},2024-02-{d:02d},2024-03-{d:02d},2024-04-{d:02d},{i}.50",
            {"id": "Claim No", "date": "Paid Date", "amount": "Paid"},
            "the days of the table are those of Paid Date, and not Loss Date, Reported Date",
        ),
        (
            "Date,Item,Qty On Hand,Qty Counted,Value",
            "2024-01-{d:02d},I{i},{i},{d},{i}.50",
            {"date": "Date", "quantity": "Qty On Hand", "amount": "Value"},
            "the quantities of the table are those of Qty On Hand, and not Qty Counted",
        ),
        (
            "Date,Unit,Rent,Sort Code,Tenant",
            "2024-01-{d:02d},{i},{i}.50,20-{d:02d}-{i},T{d}",
            {"date": "Date", "amount": "Rent", "party": "Tenant"},
            None,
        ),
        (
            "Date,Pair,Amount,Fee,Fee Currency",
            "2024-01-{d:02d},AB,{i}.50,0.10,USD",
            {"date": "Date", "amount": "Amount"},
            "the amounts state no currency",
        ),
    ],
    ids=["days", "quantities", "a unit and a bank's code", "a fee's currency"],
)
def test_of_several_columns_it_is_said_which(tmp_path, header, cells, roles, said):
    rows = [cells.format(i=100 + i, d=1 + i % 28) for i in range(60)]
    (tmp_path / "a.csv").write_text("\n".join([header, *rows]) + "\n")
    inside("open", "c", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    found = {r: c for r, c in report["roles"].items() if r not in ("text", "document")}
    assert found == roles
    texts = " ".join(each["text"] for each in report["assumed"])
    assert "and not" not in texts if said is None else said in texts


@pytest.mark.parametrize(
    ("form", "leading"), [("%m%d%Y", True), ("%m%d%Y", False), ("%d%m%Y", True), ("%d%m%Y", False)]
)
def test_days_of_eight_figures_with_the_year_last(tmp_path, form, leading):
    """A program that took them for numbers left the first nought out."""
    days = [date(2024, 1, 1) + timedelta(days=5 * i) for i in range(60)]
    texts = [day.strftime(form) for day in days]
    texts = texts if leading else [text.lstrip("0") for text in texts]
    rows = [f"T{i},{text},{i}.25" for i, text in enumerate(texts)]
    (tmp_path / "a.csv").write_text("\n".join(["ID,TRAN_DT,TRAN_AMT", *rows]) + "\n")
    inside("open", "c", cwd=tmp_path)
    inside("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    found = inside_json("dig", "t", "--rows", "--limit", "100", cwd=tmp_path / "c")["rows"]
    assert sorted(row["TRAN_DT"] for row in found) == [day.isoformat() for day in days]
