"""Amounts, shares, periods and clients' texts as they are written and read: what is written is read back."""

from __future__ import annotations

import csv
import io
import json
from datetime import date
from decimal import Decimal
from itertools import pairwise

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from sabueso.base.errors import UserError, nearest
from sabueso.base.figures import FIGURES, plain_figures
from sabueso.base.files import csv_rows, json_text, safe_cell
from sabueso.base.typed import typed_amount
from sabueso.base.visible import clipped, json_visible, visible
from sabueso.base.words import listed
from sabueso.population.period_names import names_month, period_of, shared_year, span_named
from sabueso.report import numbers as num

cents = st.integers(-(10**12), 10**12)
texts = st.text(max_size=40)


def _grouped(whole: int, mark: str) -> str:
    return f"{whole:,}".replace(",", mark)


@given(
    cents,
    st.sampled_from(
        [(".", ","), (",", "."), ("'", "."), (" ", ","), ("\u202f", ","), ("", "."), ("", ",")]
    ),
)
def test_a_typed_amount_is_what_was_meant(units, marks):
    """In the ways of seven countries, with two decimals."""
    thousands, decimal = marks
    whole, rest = divmod(abs(units), 100)
    text = f"{'-' if units < 0 else ''}{_grouped(whole, thousands)}{decimal}{rest:02d}"
    assert typed_amount(text, "--amount") == Decimal(units) / 100
    assert typed_amount(f" {text.replace('-', chr(0x2212))} ", "--amount") == Decimal(units) / 100


@given(st.integers(1, 999), st.integers(0, 999), st.sampled_from(",."))
def test_an_amount_that_may_be_two_is_asked_about(whole, rest, mark):
    with pytest.raises(UserError, match="may be"):
        typed_amount(f"{whole}{mark}{rest:03d}", "--amount")


@given(texts)
def test_any_text_is_an_amount_or_one_sentence(text):
    try:
        assert isinstance(typed_amount(text, "--amount"), Decimal)
    except UserError as error:
        assert str(error).startswith("--amount ")


@given(cents)
def test_an_amount_is_read_back_from_what_is_shown(units):
    value = Decimal(units).scaleb(-2)
    shown = num.amount(value)
    assert Decimal(shown.replace(",", "").replace(num.MINUS, "-")) == value
    assert "-" not in shown and shown.count(".") == 1
    assert typed_amount(shown, "--amount") == value


@given(st.floats(-1e15, 1e15), st.integers(0, 4))
def test_a_figure_is_rounded_and_nothing_has_no_sign(value, places):
    for shown, worth, places_ in (
        (num.number(value, places), value, places),
        (num.percent(value / 1e15, places).rstrip("%"), value / 1e13, places),
        (num.amount(value, places), value, places),
    ):
        read = float(shown.replace(",", "").replace(num.MINUS, "-"))
        assert read == pytest.approx(worth, abs=0.5000001 * 10**-places_, rel=6e-3)
        if num.MINUS in shown:
            assert any(digit in shown for digit in "123456789"), shown


def test_figures_as_they_stand_in_a_sentence():
    assert [num.p_text(p) for p in (0.00001, 0.01234, 1.0)] == [
        "p < 0.0001",
        "p = 0.0123",
        "p = 1.0000",
    ]
    assert [num.many(n, "row") for n in (0, 1, 1200)] == ["0 rows", "1 row", "1,200 rows"]
    assert num.many(2, "entry", "entries") == "2 entries"
    assert [num.percent(s) for s in (0.1234, -0.0001, -1.5, None)] == [
        "12.3%",
        "0.0%",
        "\u2212150.0%",
        "–",
    ]
    assert [num.number(v) for v in (None, 0.0, -0.001, 1e-7, -2e13)] == [
        "–",
        "0.00",
        "0.00",
        "1e\u221207",
        "\u22122e+13",
    ]
    assert num.group_name({}) == "all rows"
    assert num.group_name({"sign(amount)": -1, "account": None}) == "negative · (missing)"
    assert listed(["a"]) == "a"
    assert listed(["a", "b", "c"]).count(",") == 1 and listed(["a", "b", "c"]).endswith(" c")


@given(texts)
def test_nothing_that_cannot_be_seen_is_shown(text):
    shown = visible(text)
    assert not any(
        ord(c) < 32 or 0x7F <= ord(c) < 0xA0 or c in "\u200b\u202e\u2066\ufeff" for c in shown
    )
    assert visible(shown) == shown
    assert visible("a\nb\x1b", keep="\n") == "a\nb\\x1b"
    # JSON says the same to whoever reads it as JSON.
    told = json_visible(json.dumps(text, ensure_ascii=False))
    assert json.loads(told) == text
    assert "\u202e" not in told


@given(texts, st.integers(1, 20))
def test_a_cut_text_is_no_longer_than_said(text, most):
    cut = clipped(text, most)
    assert len(cut) <= most
    assert cut == text if len(text) <= most else cut.endswith("…") and text.startswith(cut[:-1])


@given(st.lists(st.lists(texts, min_size=2, max_size=4), max_size=5))
def test_no_cell_starts_a_formula_and_every_row_is_one(rows):
    read = list(csv.reader(io.StringIO(csv_rows(rows), newline="")))
    assert len(read) == len(rows)
    for cells, own in zip(read, rows, strict=True):
        assert cells == [str(safe_cell(cell)) for cell in own]
        for cell in cells:
            assert cell.lstrip()[:1] not in ("=", "@", "\t", "\r") or not cell.lstrip()[:1]
            if cell.lstrip()[:1] in ("+", "-"):
                assert Decimal(cell.replace(",", "")) is not None


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | texts,
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(texts, inner, max_size=3),
        max_leaves=12,
    )
)
def test_json_is_read_back(content):
    text = json_text(content)
    found = json.loads(text)
    if isinstance(content, dict):
        found.pop("format", None)
        content = {k: v for k, v in content.items() if k != "format"}
    assert found == content


def test_digits_of_every_script_are_those_of_ascii():
    zeros = [chr(code) for code, digit in FIGURES.items() if digit == "0"]
    assert len(zeros) >= 19
    for zero in zeros:
        text = "".join(chr(ord(zero) + digit) for digit in range(10))
        assert plain_figures(text) == "0123456789"
        assert int(text) == 123456789, "the language reads them alike"


MONTHS = {
    "January": 1, "Febrero": 2, "März": 3, "avril": 4, "Mai": 5, "junio": 6, "July": 7, "août": 8, "Septiembre": 9,
    "ottobre": 10, "Nov": 11, "Dezember": 12,
}  # fmt: skip


@given(
    st.sampled_from(sorted(MONTHS)),
    st.integers(1990, 2059),
    st.sampled_from(["{m} {y}", "{m}-{y}", "{y} {m}", "sales_{m}_{y}", "{m} {y} (final)"]),
)
def test_months_are_told_in_the_names_of_files(name, year, form):
    text = form.format(m=name, y=year)
    assert period_of(text) == f"{year}-{MONTHS[name]:02d}"
    assert period_of(name, f"books {year}") == f"{year}-{MONTHS[name]:02d}"


@given(st.dates(date(2012, 1, 1), date(2059, 12, 31)))
def test_periods_that_are_written_are_read_back(day):
    """Before 2012 two digits after a year may be a month or the year after it."""
    month, quarter = f"{day:%Y-%m}", f"{day.year}-Q{(day.month + 2) // 3}"
    for text, name in (
        (f"{day:%Y-%m-%d}", f"{day:%Y-%m-%d}"), (f"x {day:%d.%m.%Y}", f"{day:%Y-%m-%d}"), (month, month),
        (f"{day:%Y%m}", month), (quarter, quarter), (f"Q{quarter[-1]} {day.year}", quarter),
        (f"{day.year}", f"{day.year}"), (f"{day.year}-{day.year + 1}", f"{day.year}-{day.year + 1}"),
    ):  # fmt: skip
        assert period_of(text) == name, text
        span = span_named(name)
        assert span is not None and (span.start <= day < span.end or len(name) == 9)
    assert span_named(f"{day:%m/%Y}") == span_named(month) == span_named(f"{day.month}/{day.year}")
    assert names_month(month) and not names_month(f"total {day.year}")


@given(st.integers(1, 12), st.integers(2000, 2050))
def test_a_year_of_the_books_may_begin_in_any_month(first, year):
    span = span_named(str(year), first)
    assert (span.start, span.end) == (date(year, first, 1), date(year + 1, first, 1))
    # Quarters are those of the calendar.
    quarters = [span_named(f"{year}-Q{q}", first) for q in range(1, 5)]
    assert (quarters[0].start, quarters[-1].end) == (date(year, 1, 1), date(year + 1, 1, 1))
    assert all(a.end == b.start for a, b in pairwise(quarters))


def test_sheets_of_one_year():
    assert shared_year([f"{m} 24" for m in ("Jan", "Feb", "Mar")]) == "2024"
    assert shared_year(["Jan 24", "Feb 24", "Total"]) == ""
    assert shared_year([]) == ""


@given(st.text(alphabet="abcdefgh_", min_size=4, max_size=10), st.data())
def test_the_nearest_name_is_offered(name, data):
    place = data.draw(st.integers(0, len(name) - 1))
    wrong = name[:place] + data.draw(st.sampled_from("xyz")) + name[place + 1 :]
    assume(wrong != name)
    said = nearest(wrong, [name, "0" * 12])
    assert said == "" or name in said
    assert nearest(wrong, []) == ""
    assert nearest("?", ["a", "b", "a"]) == "; there is a, b"
