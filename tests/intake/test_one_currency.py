"""Amounts in several currencies, and the same in one beside them; and what has currencies and no amounts."""

from __future__ import annotations

from decimal import Decimal

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from conftest import inside, inside_json

CODES = ("USD", "EUR", "GBP")
RATES = {"USD": Decimal("0.92"), "EUR": Decimal(1), "GBP": Decimal("1.17")}


def _taken(folder, header: str, row) -> dict:
    lines = [header, *(row(i, CODES[i % 3]) for i in range(60))]
    (folder / "t.csv").write_text("\n".join(lines) + "\n", encoding="utf-8")
    inside("open", "c", cwd=folder)
    return inside_json("intake", "../t.csv", "--as", "t", cwd=folder / "c")


@pytest.mark.parametrize(
    ("header", "row"),
    [("Vendor ID,Vendor Name,Currency", lambda i, c: f"V{i:03d},Name {i},{c}"),
     ("Contract,Start Date,Currency,Term (Months)", lambda i, c: f"C{i},2024-01-{1 + i % 28:02d},{c},{i % 24}")],
)  # fmt: skip
def test_what_has_no_amounts_may_name_currencies(tmp_path, header, row):
    report = _taken(tmp_path, header, row)
    assert report["total"]["accepted"] == 60 and report["total"]["amount"] is None


SIDES = [
    ("Entered Dr", "Entered Cr", "Accounted Dr", "Accounted Cr"),
    ("Debit", "Credit", "Functional Debit", "Functional Credit"),
    ("Dr (FC)", "Cr (FC)", "Dr (Local)", "Cr (Local)"),
    ("Soll", "Haben", "Soll Hauswährung", "Haben Hauswährung"),
]


@pytest.mark.parametrize("names", SIDES, ids="-".join)
@pytest.mark.parametrize("turned", [False, True])
def test_the_sides_in_the_ledgers_currency_are_the_tables(tmp_path, names, turned):
    names = names[2:] + names[:2] if turned else names
    worth = Decimal(0)

    def row(i, code):
        nonlocal worth
        size = Decimal(100 + 7 * i) / 4
        own = (size * RATES[code]).quantize(Decimal("0.01"))
        worth += own if i % 4 else -own
        pairs = [(f"{x:.2f}", "") if i % 4 else ("", f"{x:.2f}") for x in (size, own)]
        cells = [cell for pair in (pairs[::-1] if turned else pairs) for cell in pair]
        return f"J{i},2024-01-{1 + i % 28:02d},6{i % 4}00,{code},{','.join(cells)}"

    report = _taken(tmp_path, f"Journal,Date,Account,Curr,{','.join(names)}", row)
    assert Decimal(report["total"]["amount"]) == worth
    assert report["currency"] == "EUR"


def test_a_signed_amount_beside_the_sides_is_the_tables(tmp_path):
    worth = Decimal(0)

    def row(i, code):
        nonlocal worth
        own = (Decimal(50 + i) * RATES[code]).quantize(Decimal("0.01")) * (1 if i % 3 else -1)
        worth += own
        sides = f"{50 + i}.00," if i % 3 else f",{50 + i}.00"
        return f"J{i},2024-01-{1 + i % 28:02d},{code},{sides},{own}"

    report = _taken(tmp_path, "Journal,Date,Currency,Dr,Cr,Functional Amount", row)
    assert Decimal(report["total"]["amount"]) == worth


def test_one_without_a_sign_beside_the_sides_is_not(tmp_path):
    rows = [
        f"J{i},2024-01-01,{CODES[i % 3]},{f'{i + 1}.00,' if i % 2 else f',{i + 1}.00'},{i + 1}.50"
        for i in range(40)
    ]
    text = "\n".join(["Journal,Date,Currency,Dr,Cr,Functional Amount", *rows])
    (tmp_path / "t.csv").write_text(text + "\n")
    inside("open", "c", cwd=tmp_path)
    said = inside("intake", "../t.csv", "--as", "t", cwd=tmp_path / "c", code=2).stderr
    assert "do not add up" in said


def test_a_currency_that_another_table_states_is_an_assumption(tmp_path):
    rows = "".join(f"R{i},2025-01-{1 + i % 28:02d},${{0}}{i}.50\n" for i in range(40))
    (tmp_path / "a.csv").write_text("id,date,amount\n" + rows.replace("${0}", "$"))
    (tmp_path / "b.csv").write_text("id,date,amount\n" + rows.replace("${0}", ""))

    def assumed(case, name):
        report = inside_json("intake", f"../{name}.csv", "--as", name, cwd=tmp_path / case)
        return [a["text"] for a in report["assumed"] if a["key"] == "case.currency"]

    inside("open", "case", cwd=tmp_path)
    assert assumed("case", "a") == []
    assert assumed("case", "b") == [
        "the amounts state no currency, and nobody said one: they are told in $, as those of a are"
    ]
    plan = (tmp_path / "case/case.toml").read_text()
    assert 'currency = "$"\ncurrency_of = "a"\n' in plan
    # Who says one in the plan is not told so again.
    (tmp_path / "case/case.toml").write_text(plan.replace('currency = "$"', 'currency = "EUR"'))
    (tmp_path / "c.csv").write_text((tmp_path / "b.csv").read_text())
    assert assumed("case", "c") == []
    inside("open", "other", "--currency", "EUR", cwd=tmp_path)
    assert assumed("other", "b") == []


def test_a_folder_tells_what_states_no_currency_in_the_one_that_is_stated(tmp_path):
    """The table that states it comes after the other by its name."""
    (tmp_path / "in").mkdir()
    days = [f"2025-01-{1 + i % 28:02d}" for i in range(60)]
    loans = "".join(f"L{i}\t{day}\t{1000 + i}\n" for i, day in enumerate(days))
    paid = "".join(f"R{i}\t{day}\tL{i}\t{90 + i}\n" for i, day in enumerate(days))
    (tmp_path / "in/loans.txt").write_text("Loan No\tDisbursed\tPrincipal Amount\n" + loans)
    (tmp_path / "in/repayments.txt").write_text("Receipt No\tDate\tLoan No\tAmount KES\n" + paid)
    inside("open", "case", cwd=tmp_path)
    taken = inside_json("intake", "../in", "--yes", cwd=tmp_path / "case")["taken"]
    assert [report["table"] for report in taken] == ["loans", "repayments"]
    assert [report["currency"] for report in taken] == ["KES", "KES"]
    said = [a["text"] for report in taken for a in report["assumed"]]
    assert any(text.endswith("told in KES, as those of repayments are") for text in said)


@pytest.mark.parametrize("form", ["csv", "parquet"])
def test_what_is_called_a_currency_and_is_none_is_said_to_be_none(tmp_path, form):
    """And so of any role: the plan gives it to no column, and none is guessed to have it."""
    inside("open", "c", cwd=tmp_path)
    data = {
        "id": ["a", "b", "c"],
        "preparer": ["x", "y", "x"],
        "currency": ["domestic", "foreign", "mixed"],
        "amount": [Decimal("1.00"), Decimal("2.50"), Decimal("3.00")],
    }
    name = f"pay.{form}"
    if form == "csv":
        lines = zip(*data.values(), strict=True)
        text = "\n".join(",".join(map(str, line)) for line in [data, *lines])
        (tmp_path / name).write_text(text)
    else:
        pq.write_table(pa.table(data), tmp_path / name)
    case, how = tmp_path / "c", ["--attach"] if form == "parquet" else []
    said = inside("intake", f"../{name}", "--as", "pay", *how, cwd=case, code=2).stderr
    assert 'say so with tables.pay.roles.currency = ""' in said
    with (case / "case.toml").open("a") as plan:
        plan.write('\n[tables.pay]\nroles = { currency = "", preparer = "" }\n')
    taken = inside_json("intake", f"../{name}", "--as", "pay", *how, cwd=case)
    assert (taken["currency"], taken["total"]["amount"]) == ("EUR", "6.50")
    assert {"currency", "preparer"}.isdisjoint(taken["roles"]) and taken["roles"]["id"] == "id"
    assert 'currency = ""' in (case / "case.toml").read_text(), "what was said stays said"
    assert inside_json("try", "zscore", "pay", cwd=case)["groups"][0]["n"] == 3


def test_what_is_assumed_of_several_tables_alike_is_said_once(tmp_path):
    """With what it touches of them all; what is of one table alone stays a line of its own."""
    (tmp_path / "in").mkdir()
    sums = {}
    for k, name in enumerate(["bills", "claims", "dues", "fees", "loans", "tolls"]):
        amounts = [f"{(k + 1) * (i + 3)}.50" for i in range(40)]
        rows = "".join(
            f"{name[0].upper()}{i},2025-01-{1 + i % 28:02d},{amount},{'xyz'[i % 3]}\n"
            for i, amount in enumerate(amounts)
        )
        (tmp_path / f"in/{name}.csv").write_text(f"{name} no,date,amount,{name} kind\n" + rows)
        sums[name] = sum(map(Decimal, amounts))
    inside("open", "case", cwd=tmp_path)
    text = " ".join(inside("intake", "../in", "--yes", cwd=tmp_path / "case").stdout.split())
    assert text.count("the amounts state") == 1
    largest = sorted(sums, key=sums.__getitem__, reverse=True)[:4]
    assert f"{', '.join(largest)} and 2 more: the amounts" in text
    assert f"{sum(sums.values()):,.2f} case.currency" in text


@pytest.mark.parametrize("parquet", [False, True])
@pytest.mark.parametrize("empty", [True, False])
def test_what_has_no_amount_needs_no_currency(tmp_path, parquet, empty):
    """Orders that were cancelled state neither; of an amount that states none the case's is meant, and does not add up."""
    rows = [
        (f"O{n}", f"2024-01-{1 + n % 28:02d}", "INR", Decimal(100 * n + 50) / 4) for n in range(60)
    ]
    rows += [("O60", "2024-01-03", None, None), ("O61", "2024-01-04", None, Decimal(0))]
    rows += [] if empty else [("O62", "2024-01-05", None, Decimal(9))]
    names = ["order", "date", "currency", "amount"]
    if parquet:
        columns = dict(zip(names, map(list, zip(*rows, strict=True)), strict=True))
        pq.write_table(pa.table(columns), tmp_path / "t.parquet")
    else:
        lines = (",".join("" if v is None else str(v) for v in row) for row in rows)
        (tmp_path / "t.csv").write_text("\n".join([",".join(names), *lines]) + "\n")
    inside("open", "c", cwd=tmp_path)
    file = "../t.parquet" if parquet else "../t.csv"
    if empty:
        inside("intake", file, "--as", "t", cwd=tmp_path / "c")
        assert inside_json("dig", "t", cwd=tmp_path / "c")["currency"] == "INR"
        return
    said = inside("intake", file, "--as", "t", cwd=tmp_path / "c", code=2).stderr
    assert "do not add up" in said and "an amount that states none is taken to be in EUR" in said
