"""A column in which a spreadsheet knew some of the days for such, and others not."""

from __future__ import annotations

from datetime import date, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from xlsxwriter import Workbook

from conftest import inside, inside_json
from sabueso.intake.formats.dates import DateFormat
from sabueso.intake.formats.days import beside_known
from sabueso.intake.formats.deciding import TextFormat, decide
from sabueso.intake.formats.hints import Hints

FORMS = ["%d/%m/%Y", "%m/%d/%Y", "%d.%m.%y", "%d-%b-%Y"]
SERIAL = date(1899, 12, 30)


def _own(day, how):
    return str((day - SERIAL).days) if how == "serial" else day.isoformat()


@given(
    st.lists(st.dates(date(2015, 1, 1), date(2030, 12, 31)), min_size=40, max_size=60, unique=True),
    st.sampled_from(FORMS),
    st.sampled_from(["iso", "serial"]),
    st.integers(3, 30),
)
def test_both_are_read(days, form, how, known):
    texts = [_own(d, how) if i < known else d.strftime(form) for i, d in enumerate(days)]
    rest = days[known:]
    found = decide(texts, Hints(dated=True))
    if (
        all(d.day <= 12 for d in days[:known])
        and all(d.day > 12 for d in rest)
        and "%b" not in form
    ):
        assert isinstance(found, TextFormat)
        return
    assert isinstance(found, DateFormat) and found.beside
    read = [found.day_of(text) for text in texts]
    if form == "%m/%d/%Y" and all(d.day <= 12 for d in rest):
        assert found.assumed  # nothing tells the order
    else:
        assert read == days


@pytest.mark.parametrize("day_first", [True, False])
def test_days_that_were_taken_for_months_are_no_days(tmp_path, day_first):
    """Of days first read as months first those up to the twelfth became days, wrong ones: nothing is taken for
    granted until somebody says so."""
    book = Workbook(tmp_path / "x.xlsx")
    sheet, shown = book.add_worksheet(), book.add_format({"num_format": "dd/mm/yyyy"})
    sheet.write_row(0, 0, ["invoice", "invoice date", "amount"])
    for i in range(120):
        day = datetime(2024, 1, 1) + timedelta(days=3 * i)
        sheet.write(i + 1, 0, f"I{i}")
        if day.day <= 12:
            sheet.write_datetime(i + 1, 1, datetime(2024, day.day, day.month), shown)
        else:
            sheet.write(i + 1, 1, day.strftime("%d/%m/%Y" if day_first else "%m/%d/%Y"))
        sheet.write(i + 1, 2, 10.5 + i)
    book.close()
    inside("open", "c", cwd=tmp_path)
    said = inside("intake", "../x.xlsx", "--as", "x", cwd=tmp_path / "c").stdout
    text = " ".join(said.split())
    assert "none of those is after the 12th of a month" in text and "invoice date text" in text
    plan = tmp_path / "c" / "case.toml"
    inside("withdraw", "x", "--reason", "looked at", "--as", "KL", cwd=tmp_path / "c")
    plan.write_text(
        plan.read_text() + '\n[tables.y]\nread = { types = { "invoice date" = "date" } }\n'
    )
    report = inside_json("intake", "../x.xlsx", "--as", "y", cwd=tmp_path / "c")
    assert report["total"]["accepted"] == 120 and report["roles"]["date"] == "invoice date"


def test_too_few_of_one_kind_are_damage():
    days = [date(2024, 1, 1) + timedelta(days=i) for i in range(100)]
    texts = [d.isoformat() for d in days]
    assert beside_known([*texts, "25/01/2024", "26/01/2024"], Hints(dated=True)) is None
    assert beside_known([d.strftime("%d/%m/%Y") for d in days], Hints(dated=True)) is None
    assert beside_known([*texts, "lost", "gone", "torn"], Hints(dated=True)) is None
