"""What a workbook holds beside its values: currencies of number formats, errors, formulas without a value, and what
it hides."""

from __future__ import annotations

import re
import zipfile
from collections import Counter
from datetime import date
from decimal import Decimal

import pytest
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.readers import workbook_looks
from sabueso.intake.readers.workbook_looks import Looked, looks_of

HEADER = ["Doc", "Date", "Vendor", "Amount"]


def _book(path, cell, many=40, top=0, left=0, header=HEADER, sheets=("Data",)):
    """A workbook of rows whose amount ``cell(sheet, row, column, i)`` writes; row and column of the sheet from 0."""
    with xlsxwriter.Workbook(path) as book:
        day = book.add_format({"num_format": "dd/mm/yyyy"})
        for name in sheets:
            sheet = book.add_worksheet(name)
            sheet.write_row(top, left, header)
            for i in range(many):
                sheet.write_row(top + 1 + i, left, [f"D{i:03d}"])
                sheet.write_datetime(top + 1 + i, left + 1, date(2024, 1 + i % 12, 1 + i % 28), day)
                sheet.write(top + 1 + i, left + 2, f"V {i % 7}")
                cell(book, sheet, top + 1 + i, left + 3, i)
    return path


def _taken(path, code=0):
    case = path.parent / "c"
    inside("open", "c", cwd=path.parent)
    if code:
        return inside("intake", str(path), "--as", "x", cwd=case, code=code).stderr
    report = inside_json("intake", str(path), "--as", "x", cwd=case)
    return report, report["files"][0]["notes"]


def _formatted(*codes):
    held = {}

    def write(book, sheet, row, column, i):
        code = codes[i % len(codes)]
        style = held.setdefault(
            (id(book), code), book.add_format({"num_format": code}) if code else None
        )
        sheet.write(row, column, 10.5 + i, style)

    return write


@pytest.mark.parametrize(
    ("code", "currency"),
    [("[$$-409]#,##0.00", "USD"), ('#,##0.00 "zł"', "PLN"), ("[$£-809]#,##0.00;[Red]-[$£-809]#,##0.00", "GBP"),
     ('_-* #,##0.00\\ [$CHF]_-', "CHF")],
)  # fmt: skip
def test_amounts_are_in_the_currency_that_their_cells_show(tmp_path, code, currency):
    # The sign on the first rows alone, as reports have it, is that of all.
    for number, write in enumerate((_formatted(code), _formatted(code, "#,##0.00", "#,##0.00"))):
        folder = tmp_path / str(number)
        folder.mkdir()
        report, notes = _taken(_book(folder / "a.xlsx", write))
        assert f"the amounts are in {currency}, as they state themselves" in notes
        few = [note for note in notes if "the others in no currency" in note]
        assert few == ([] if not number else [few[0]])
        assert not number or few[0].startswith("Amount: 14 cells are shown in ")
        assert Decimal(report["total"]["amount"]) == sum(Decimal("10.5") + i for i in range(40))


def test_amounts_in_several_currencies_are_refused_unless_a_column_names_them(tmp_path):
    write = _formatted("[$€-407] #,##0.00", "[$£-809]#,##0.00")
    said = _taken(_book(tmp_path / "a.xlsx", write), code=2)
    assert "column 'Amount' holds amounts in € (20 of 40) and £ (20 of 40)" in said
    plan = tmp_path / "c" / "case.toml"
    plan.write_text(
        plan.read_text()
        + '\n[tables.x]\nprefix = "XX"\nread = { types = { "Amount" = "number" } }\n'
    )
    report = inside_json("intake", "../a.xlsx", "--as", "x", cwd=tmp_path / "c")
    assert report["total"]["accepted"] == 40
    assert any(
        a["text"]
        == "the cells of Amount are shown in € (20) and £ (20), and are added up as the plan says"
        for a in report["assumed"]
    )


def test_a_header_that_names_a_currency_is_believed(tmp_path):
    _, notes = _taken(
        _book(
            tmp_path / "a.xlsx",
            _formatted("[$€-407] #,##0.00"),
            header=[*HEADER[:3], "Amount (GBP)"],
        )
    )
    assert "the amounts are in GBP, as they state themselves" in notes


def test_errors_and_formulas_without_a_value_are_said(tmp_path):
    def write(_, sheet, row, column, i):
        if i in (3, 5, 7):
            sheet.write_formula(row, column, "=1/0", None, "#DIV/0!" if i < 7 else "#N/A")
        elif i in (11, 12):
            sheet.write_formula(row, column, "=A1*2", None, "gone")
        else:
            sheet.write_formula(row, column, "=4*2", None, 10.25)

    path = _book(tmp_path / "first.xlsx", write, top=2, left=1)
    bare = tmp_path / "a.xlsx"
    with zipfile.ZipFile(path) as given, zipfile.ZipFile(bare, "w") as made:
        for part in given.namelist():
            text = given.read(part)
            made.writestr(
                part, re.sub(rb' t="str"><f>([^<]*)</f><v>gone</v>', rb"><f>\1</f>", text)
            )
    report, notes = _taken(bare)
    assert (
        "Amount: 3 cells hold errors of the spreadsheet, #DIV/0! and #N/A, and are read as missing"
        in notes
    )
    assert (
        "Amount: 2 formulas have no value, and are read as missing: they were never computed"
        in notes
    )
    assert Decimal(report["total"]["amount"]) == 35 * Decimal("10.25")


def test_amounts_that_are_all_nought_are_said(tmp_path):
    report, _ = _taken(
        _book(tmp_path / "a.xlsx", lambda _, s, r, c, i: s.write_formula(r, c, "=4*2"))
    )
    assert any(
        a["text"].startswith("every amount of Amount on the first 40 lines")
        for a in report["assumed"]
    )


def test_what_a_workbook_hides_is_taken_and_said(tmp_path):
    def write(_, sheet, row, column, i):
        sheet.write(row, column, 10.5 + i)
        if i % 4 == 0:
            sheet.set_row(row, None, None, {"hidden": True})
        if sheet.name == "Other":
            sheet.hide()
        else:
            sheet.set_column(column - 1, column, None, None, {"hidden": True})

    report, notes = _taken(_book(tmp_path / "a.xlsx", write, sheets=("Data", "Other")))
    assert report["total"]["accepted"] == 80
    assert "sheet 'Other' is hidden in the workbook, and taken in" in notes
    assert "20 rows are hidden in the workbook, and are rows like all others" in notes
    assert (
        "columns Vendor and Amount are hidden in the workbook, and are read like all others"
        in notes
    )


def test_yes_and_no_are_nobody(tmp_path):
    header = ["Doc", "Date", "Vendor", "Amount", "Approved"]

    def write(_, sheet, row, column, i):
        sheet.write_row(row, column, [10.5 + i, bool(i % 3)])

    report, _ = _taken(_book(tmp_path / "a.xlsx", write, header=header))
    assert "approver" not in report["roles"]


def test_names_of_another_space_are_the_same(tmp_path):
    """Some programs write ``<x:row>`` and ``<x:c>``."""

    def write(book, sheet, row, column, i):
        sheet.write(row, column, i, book.add_format({"num_format": '0.00 "zł"'}) if i % 2 else None)
        if i % 3 == 0:
            sheet.set_row(row, None, None, {"hidden": True})

    path = _book(tmp_path / "first.xlsx", write, many=30)
    other = tmp_path / "a.xlsx"
    with zipfile.ZipFile(path) as given_, zipfile.ZipFile(other, "w") as made:
        for part in given_.namelist():
            text = given_.read(part)
            if "worksheets/" in part:
                text = re.sub(rb"<(/?)(row|c|v|f|sheetData|worksheet)\b", rb"<\1x:\2", text)
            made.writestr(part, text)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(workbook_looks, "PIECE", 500)
        found = looks_of(other, "Data", 1)
    assert (found.currencies, found.hidden) == ({3: Counter({"zł": 15})}, 10)


@given(
    st.lists(st.tuples(st.sampled_from(["", "£", "[$€-407]", '"kr"']), st.booleans(), st.booleans()), min_size=1, max_size=60),
    st.integers(30, 4000),
)  # fmt: skip
def test_pieces_tell_what_the_whole_does(tmp_path_factory, rows, piece):
    """However a sheet is cut while it is searched, each cell is counted once."""

    def write(book, sheet, row, column, i):
        code, empty, hidden = rows[i]
        style = book.add_format({"num_format": code + "0.00"}) if code else None
        sheet.write_blank(row, column, None, style) if empty else sheet.write(row, column, i, style)
        if hidden:
            sheet.set_row(row, None, None, {"hidden": True})

    path = _book(tmp_path_factory.mktemp("looks") / "a.xlsx", write, many=len(rows), top=3, left=28)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(workbook_looks, "PIECE", piece)
        found = Looked()
        found.add(looks_of(path, "Data", 4).from_place(28), HEADER, range(4))
    signs = {"£": "£", "[$€-407]": "€", '"kr"': "kr"}
    shown = Counter(signs[code] for code, empty, _ in rows if code and not empty)
    assert found.currencies.get("Amount", Counter()) == shown
    assert found.hidden == sum(hidden for *_, hidden in rows)
