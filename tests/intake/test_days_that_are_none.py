"""Days that may be the wrong way round, or of another calendar, are not taken for granted; weekdays before a day are
left off."""

from __future__ import annotations

from datetime import date, timedelta

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.formats.deciding import TextFormat, decide
from sabueso.intake.formats.hints import Hints

DATED = Hints(dated=True, measure=True)
DAYS = [date(2024, 1, 1) + timedelta(days=n) for n in range(366)]


def _taken(folder, days, **read):
    lines = [f'"{day}",V{i % 7},{100 + i}.50' for i, day in enumerate(days)]
    (folder / "x.csv").write_text(
        "\n".join(["Date,Vendor,Amount", *lines]) + "\n", encoding="utf-8"
    )
    inside("open", "c", cwd=folder)
    asked = [part for name, value in read.items() for part in (f"--{name}", value)]
    report = inside_json("intake", "../x.csv", "--as", "x", *asked, cwd=folder / "c")
    return report, [a["text"] for a in report["assumed"]]


@given(st.lists(st.sampled_from(DAYS), min_size=20, max_size=60), st.data())
def test_both_orders_in_one_column_are_no_days(days, data):
    """Where each order is told by days of its own, none of those up to the twelfth is taken for granted."""
    swapped = [data.draw(st.booleans()) for _ in days]
    texts = [
        f"{d:%m/%d/%Y}" if other else f"{d:%d/%m/%Y}"
        for d, other in zip(days, swapped, strict=True)
    ]
    alone = [
        sum(d.day > 12 and other is way for d, other in zip(days, swapped, strict=True))
        for way in (True, False)
    ]
    found = decide(texts, DATED)
    if min(alone) > max(0.05 * len(days), 1):
        assert isinstance(found, TextFormat)
    elif not min(alone) and max(alone):
        read = [
            d if other == (alone[0] > 0) or d.day == d.month else None
            for d, other in zip(days, swapped, strict=True)
        ]
        told = [
            got
            for got, own in zip(found.read(pa.array(texts)).to_pylist(), read, strict=True)
            if own
        ]
        assert told == [own for own in read if own]


def test_it_is_said_and_an_order_that_is_given_is_kept(tmp_path):
    days = [f"{d:%m/%d/%Y}" if i % 3 == 0 else f"{d:%d/%m/%Y}" for i, d in enumerate(DAYS[:200])]
    for name in "ab":
        (tmp_path / name).mkdir()
    report, said = _taken(tmp_path / "a", days)
    assert report["total"]["accepted"] == 200 and "date" not in report["roles"]
    (text,) = [t for t in said if t.startswith("Date holds days")]
    assert text.endswith("the others may be either, and it stays text")
    report, said = _taken(tmp_path / "b", days, dates="day first")
    assert report["roles"]["date"] == "Date" and 0 < report["total"]["quarantined"] < 67


def test_a_later_file_of_both_orders_is_refused_until_one_is_said(tmp_path):
    _taken(tmp_path, [f"{d:%d/%m/%Y}" for d in DAYS[:100]])
    days = [f"{d:%m/%d/%Y}" if i % 3 == 0 else f"{d:%d/%m/%Y}" for i, d in enumerate(DAYS[100:300])]
    lines = [f"{day},V1,{500 + i}.25" for i, day in enumerate(days)]
    (tmp_path / "y.csv").write_text("\n".join(["Date,Vendor,Amount", *lines]) + "\n")
    said = inside("intake", "../y.csv", "--as", "x", cwd=tmp_path / "c", code=2).stderr
    assert "y.csv: column 'Date' holds days that can only be day first" in said
    given_ = ("--dates", "day first")
    report = inside_json("intake", "../y.csv", "--as", "x", *given_, cwd=tmp_path / "c")
    assert 0 < report["total"]["quarantined"] < 67


def test_a_few_of_the_other_order_are_said(tmp_path):
    days = [f"{d:%d/%m/%Y}" for d in DAYS[:200]]
    days[50], days[51] = "02/20/2024", "02/21/2024"
    report, said = _taken(tmp_path, days)
    assert report["total"]["quarantined"] == 2
    assert (
        "Date: 2 days of the first 200 can only be month first, such as '02/20/2024', and go to quarantine: others may be so too"
        in said
    )


@pytest.mark.parametrize(
    ("form", "read"),
    [("%A, %B %d, %Y", True), ("%a %d %b %Y", True), ("%a, %d %b %Y", True), ("1403/%m/%d", False), ("1445-%m-%d", False)],
)  # fmt: skip
def test_weekdays_are_left_off_and_years_of_another_calendar_are_none(tmp_path, form, read):
    days = [d.strftime(form) for d in DAYS if d.day < 29][:150]
    report, said = _taken(tmp_path, days)
    assert report["total"]["accepted"] == 150
    if read:
        rows = inside_json(
            "dig", "x", "--rows", "--limit", "1", "--sort", "Amount asc", cwd=tmp_path / "c"
        )
        assert report["roles"]["date"] == "Date" and rows["rows"][0]["Date"] == "2024-01-01"
    else:
        assert f"Date is called as days are, and stays text: {days[0]!r} is read as no day" in said


def test_the_month_of_a_year_is_no_day_that_could_not_be_read(tmp_path):
    rows = [f"{day.year},{day.month:02},{day:%d/%m/%Y},{n}.50" for n, day in enumerate(DAYS)]
    (tmp_path / "x.csv").write_text("\n".join(["Ano,Mês Extrato,Data,Valor", *rows]))
    inside("open", "c", cwd=tmp_path)
    said = inside("intake", "../x.csv", "--as", "x", cwd=tmp_path / "c").stdout
    assert "is called as days are" not in said
