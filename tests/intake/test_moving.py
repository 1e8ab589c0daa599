"""Money in and money out in two columns of any names, told by the balance that stands after each row; and which
columns of several are meant, where names alone would take one too many or the wrong one."""

from __future__ import annotations

from datetime import date, datetime, timedelta
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


PERIODS = {
    "Jan-24": lambda m: f"{date(2024, m, 1):%b-%y}",
    "January 2024": lambda m: f"{date(2024, m, 1):%B %Y}",
    "P01-2024": lambda m: f"P{m:02d}-2024",
    "001.2024": lambda m: f"{m:03d}.2024",
    "FY24-01": lambda m: f"FY24-{m:02d}",
    "202401": lambda m: f"2024{m:02d}",
}


@pytest.mark.parametrize("name", ["Period Name", "Posting Period", "Month"])
@pytest.mark.parametrize("kind", PERIODS)
def test_months_under_the_name_of_a_period_are_periods(tmp_path, kind, name):
    """They stay text, nobody says that they are no days, and changes are told from one to the next."""
    rows = [(f"V{i % 3}", 1 + i % 12, Decimal(i * 731 % 900 + 1).scaleb(-2)) for i in range(90)]
    lines = [f"R{i},{PERIODS[kind](m)},{who},{a}" for i, (who, m, a) in enumerate(rows)]
    (tmp_path / "a.csv").write_text("\n".join([f"Ref,{name},Vendor,Amount", *lines]) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    assert not [each for each in report["assumed"] if name in each["text"]]
    asked = ["--per", "Vendor", "--base", "2024-02", "--current", "2024-03"]
    (found,) = inside_json("try", "periods", "t", *asked, cwd=tmp_path / "c")["groups"]
    for month, key in ((2, "base"), (3, "current")):
        own = sum(amount for _, m, amount in rows if m == month)
        assert sum(Decimal(line[key]) for line in found["lines"]) == own


@pytest.mark.parametrize(
    ("header", "cell", "said"),
    [
        ("Date", lambda i: f"Jan-{23 + i % 2}", "are days without a year or months with one"),
        ("Date", lambda i: f"Jan-{1 + i % 28}", "days without a year, such as 'Jan-1'"),
        ("Value", lambda i: ("£25", "£1,200", "approx £50", "£100-£150")[i % 4], "'approx £50' is read as no"),
    ],
)  # fmt: skip
def test_what_stays_text_is_named_once_and_by_what_is_odd(tmp_path, header, cell, said):
    lines = [f"R{i},{cell(i)},{i}.25" for i in range(60)]
    (tmp_path / "a.csv").write_text("\n".join([f"Ref,{header},Amount", *lines]) + "\n")
    inside("open", "c", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    (text,) = (each["text"] for each in report["assumed"] if header in each["text"])
    assert said in text


def test_days_of_a_spreadsheet_with_the_time_of_day(tmp_path):
    moments = [datetime(2024, 1, 5, 9, 30) + timedelta(hours=31, seconds=977 * i) * i for i in range(40)]  # fmt: skip
    numbers = [(m - datetime(1899, 12, 30)) / timedelta(days=1) for m in moments]
    lines = [f"R{i},{number:.7f},{i}.25" for i, number in enumerate(numbers)]
    (tmp_path / "a.csv").write_text("\n".join(["Ref,Posted,Amount", *lines]) + "\n")
    inside("open", "c", cwd=tmp_path)
    inside("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    rows = inside_json("dig", "t", "--rows", "--limit", "100", cwd=tmp_path / "c")["rows"]
    found = sorted(datetime.fromisoformat(row["Posted"]) for row in rows)
    assert found == sorted(moments)


def test_of_amounts_in_several_currencies_the_one_that_states_one_is_the_tables(tmp_path):
    lines = [f"R{i},2024-01-{1 + i % 28:02d},{i}.50,{('EUR', 'GBP')[i % 2]},{i}.75" for i in range(40)]  # fmt: skip
    header = "Ref,Date,Original Amount,Original Currency,Reimbursable (USD)"
    (tmp_path / "a.csv").write_text("\n".join([header, *lines]) + "\n")
    inside("open", "c", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=tmp_path / "c")
    assert report["amount"] == "Reimbursable (USD)" and report["currency"] == "USD"


def test_whose_currency_a_column_of_currencies_is(tmp_path):
    """An account's is that of its amounts; a part of an amount in one currency is not the amount in it."""
    days = [f"2024-01-{1 + i % 28:02d}" for i in range(40)]
    own = [f"{day},{i}.50,USD,{i}.75" for i, day in enumerate(days)]
    several = [f"{day},{i}.50,{('EUR', 'GBP')[i % 2]},0.25" for i, day in enumerate(days)]
    for name, header, lines in (
        ("a", "Date,Amount,Account Currency,Account Balance", own),
        ("b", "Date,Amount,Currency,Fee (USD)", several),
    ):
        (tmp_path / f"{name}.csv").write_text("\n".join([header, *lines]) + "\n")
    inside("open", "c", "--currency", "EUR", cwd=tmp_path)
    report = inside_json("intake", "../a.csv", "--as", "a", cwd=tmp_path / "c")
    assert (report["amount"], report["currency"]) == ("Amount", "USD")
    refused = inside("intake", "../b.csv", "--as", "b", cwd=tmp_path / "c", code=2).stderr
    assert "which do not add up" in refused
