"""Days with a time of day behind them, in the ways in which programs write both."""

from __future__ import annotations

import doctest
from datetime import date, datetime

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.formats import clocks, dates
from sabueso.intake.formats.dates import DATE_FORMS, DateFormat
from sabueso.intake.formats.deciding import decide
from sabueso.intake.formats.hints import Hints
from sabueso.intake.formats.numbers import NumberFormat

DAYS = {
    "%d/%m/%Y": "%d/%m/%Y", "%m/%d/%Y": "%m/%d/%Y", "%d.%m.%Y": "%d.%m.%Y", "%d-%m-%y": "%d-%m-%y",
    "%Y-%m-%d": "%Y-%m-%d", "%Y%m%d": "%Y%m%d", "day name": "%d-%b-%y", "name day": "%B %d, %Y",
}  # fmt: skip
TIMES = [
    "%H:%M",
    "%H:%M:%S",
    "%H.%M.%S",
    "%H:%M:%S.%f",
    "%I:%M %p",
    "%I.%M.%S.%f %p",
    "%I:%M:%S%p",
    "%H:%M Uhr",
]
BETWEEN = [" ", ", ", "T", "  ", " - ", "-"]
seconds = st.datetimes(datetime(1990, 1, 1), datetime(2060, 12, 31))


def test_examples():
    assert doctest.testmod(clocks).failed == 0


@given(
    st.lists(seconds, min_size=1, max_size=12),
    st.sampled_from(sorted(DAYS)),
    st.sampled_from(TIMES),
    st.sampled_from(BETWEEN),
)
def test_a_moment_is_read_as_it_was_written(moments, day, clock, between):
    """One by one, and all at once."""
    texts = [m.strftime(DAYS[day] + between + clock) for m in moments]
    expected = [datetime.strptime(t, DAYS[day] + between + clock) for t in texts]
    form = DateFormat(day + clocks.SUFFIX)
    assert form.type == "timestamp" and all(map(form.fits, texts))
    given_texts = pa.array([*texts, None, texts[0]])
    assert form.read(given_texts).to_pylist() == [*expected, None, expected[0]]
    kept, dates.MANY_DATES = dates.MANY_DATES, 0
    try:
        assert form.read(given_texts).to_pylist() == [*expected, None, expected[0]]
        # A moment at midnight that is written as its day alone is that, all at once too.
        alone = moments[0].strftime(DAYS[day])
        both = form.read(pa.array([texts[0], alone])).to_pylist()
        assert both == [expected[0], datetime.strptime(alone, DAYS[day])]
    finally:
        dates.MANY_DATES = kept


@pytest.mark.parametrize(
    "text", ["31/02/2024 10:00", "03/03/2024 24:05", "03/03/2024 10:60", "03/03/2024 13:05 PM", "03/03/2024 10",
             "10:05 03/03/2024", "03/03/2024 10:05 03/03/2024"],
)  # fmt: skip
def test_what_is_no_moment_fits_none(text):
    assert not any(DateFormat(form).fits(text) for form in DATE_FORMS)


@pytest.mark.parametrize(
    ("header", "texts", "read"),
    [
        ("Txn Dt/Tm", ["01-Jan-24 13:05", "28-Feb-24 0:15"], ("2024-01-01", "2024-02-28")),
        ("Fecha", ["25/03/2024 02:05 p. m.", "01/04/2024 11:59 a. m."], ("2024-03-25", "2024-04-01")),
        ("Buchung am", ["25.03.2024, 14:05 Uhr", "01.04.2024, 00:05 Uhr"], ("2024-03-25", "2024-04-01")),
        ("Timestamp", ["20240325140511", "20240401000000"], ("2024-03-25", "2024-04-01")),
    ],
)  # fmt: skip
def test_columns_of_moments_date_their_rows(tmp_path, header, texts, read):
    lines = [f"{text};{10 + i}.50;S{i % 5}" for i, text in enumerate(texts * 10)]
    (tmp_path / "x.csv").write_text(
        "\n".join([f"{header};amount;supplier", *lines]) + "\n", "utf-8"
    )
    inside("open", "c", cwd=tmp_path)
    report = inside_json("intake", "../x.csv", "--as", "x", cwd=tmp_path / "c")
    assert report["roles"]["date"] == header
    rows = inside_json("dig", "x", "--rows", cwd=tmp_path / "c")["rows"]
    assert {row[header][:10] for row in rows} == set(read)
    hours = inside_json("dig", "x", "--by", "hour", cwd=tmp_path / "c")
    assert len(hours["total"]["groups"]) == 2


ORDINAL = {
    "%Y%j": lambda d: d.strftime("%Y%j"),
    "%y%j": lambda d: d.strftime("%y%j"),
    "century %y%j": lambda d: f"1{d:%y%j}",
    "century %y%m%d": lambda d: f"1{d:%y%m%d}",
}


@given(
    st.lists(st.dates(date(2022, 1, 1), date(2029, 12, 31)), min_size=12, max_size=40, unique=True),
    st.sampled_from(sorted(ORDINAL)),
)
def test_days_that_are_figures_alone_are_read_where_a_name_says_so(days, form):
    texts = [ORDINAL[form](day) for day in days]
    found = decide(texts, Hints(dated=True))
    assert found == DateFormat(form)
    assert found.read(pa.array(texts)).to_pylist() == days
    assert not isinstance(decide(texts, Hints()), DateFormat)


@given(
    st.lists(st.dates(date(1955, 1, 1), date(2035, 12, 31)), min_size=40, max_size=60, unique=True)
)
def test_numbers_of_days_are_those_of_a_spreadsheet(days):
    texts = [str((day - date(1899, 12, 30)).days) for day in days]
    found = decide(texts, Hints(dated=True))
    assert found.form == "serial" and found.read(pa.array(texts)).to_pylist() == days


@pytest.mark.parametrize(
    ("numbers", "day_of", "days"),
    [
        (range(45_000, 45_400, 7), True, True),  # days of 2023 and 2024
        (range(12_000, 62_000, 900), True, False),  # what meters stand at, by day
        (range(12_000, 68_000, 900), False, False),
        (range(30_000, 44_000, 300), True, False),
        (range(30_000, 44_000, 300), False, True),  # days on which people were born
        ([*range(45_000, 45_040), 812], True, False),
    ],
)
def test_what_a_meter_stands_at_is_no_day(numbers, day_of, days):
    found = decide([str(number) for number in numbers], Hints(dated=True, measure=True, day_of=day_of))  # fmt: skip
    assert isinstance(found, DateFormat if days else NumberFormat)


@given(
    st.lists(st.dates(date(2000, 1, 1), date(2029, 12, 31)), min_size=12, max_size=40, unique=True),
    st.sampled_from(["%d%m%y", "%m%d%y", "%y%m%d"]),
)
def test_six_figures_of_day_month_and_year_are_no_day_of_a_year(days, order):
    found = decide([day.strftime(order) for day in days], Hints(dated=True))
    assert not (isinstance(found, DateFormat) and found.form in ORDINAL)
