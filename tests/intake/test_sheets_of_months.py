"""Workbooks with a sheet for each month, of which the lines above the rows alone tell the year."""

from __future__ import annotations

import pytest
from xlsxwriter import Workbook

from conftest import inside, inside_json


def _book(path, titles, months=("Jan", "Feb", "Mar")):
    book = Workbook(path)
    for place, month in enumerate(months):
        sheet = book.add_worksheet(month)
        sheet.write(0, 0, titles[place % len(titles)].format(month))
        sheet.write_row(2, 0, ["emp no", "name", "gross"])
        for i in range(30):
            sheet.write_row(3 + i, 0, [1000 + i, f"Person {i}", 1500.25 + i + place])
    book.close()


def _taken(folder, name):
    inside("open", "c", cwd=folder)
    report = inside_json("intake", f"../{name}", "--as", "wages", cwd=folder / "c")
    assert report["total"]["accepted"] == 90
    return report


@pytest.mark.parametrize("titles", [["Wages {} 2024"], ["Harbour Workshop, 2024"]])
def test_the_year_above_the_rows_is_that_of_the_sheets(tmp_path, titles):
    _book(tmp_path / "wages.xlsx", titles)
    report = _taken(tmp_path, "wages.xlsx")
    assert report["roles"]["date"] == "period"
    told = " ".join(note["text"] for note in report["assumed"])
    assert "by the sheet name, and the year 2024 by the lines above the header" in told
    months = inside_json("dig", "wages", "--by", "month", cwd=tmp_path / "c")["total"]["groups"]
    named = [("2024-01", 30), ("2024-02", 30), ("2024-03", 30)]
    assert sorted((g["key"][-1], g["rows"]) for g in months) == named


@pytest.mark.parametrize(
    ("name", "titles"),
    [
        ("wages.xlsx", ["Wages {} 2024", "Wages {} 2025"]),
        ("wages 2023.xlsx", ["Wages {} 2024"]),
        ("wages.xlsx", ["Wages {}, printed 2025 for 2024"]),
    ],
)
def test_years_that_contradict_one_another_tell_none(tmp_path, name, titles):
    _book(tmp_path / name, titles)
    assert "date" not in _taken(tmp_path, name)["roles"]
