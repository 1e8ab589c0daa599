"""Amounts as programs and typesetting write them, and what is said where they are none."""

from __future__ import annotations

import re
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.intake.formats.deciding import TextFormat, decide
from sabueso.intake.formats.hints import Hints
from sabueso.intake.readers.kept_as_text import bare, bared, kept_as_text

BLANKS = ["", " ", "\N{NO-BREAK SPACE}", "\N{NARROW NO-BREAK SPACE}"]
GROUPED = [("", "."), ("", ","), (",", "."), (".", ","), (" ", ","), ("'", "."), ("’", "."), ("\N{THIN SPACE}", ",")]  # fmt: skip
SIGNED = ["-{b}{d}", "−{b}{d}", "{d}{b}-", "({b}{d}{b})"]


def _written(cents, thousands, decimal):
    return f"{cents / 100:,.2f}".replace(",", "\0").replace(".", decimal).replace("\0", thousands)


@given(
    st.lists(st.integers(0, 10**9), min_size=3, max_size=30).filter(lambda c: max(c) > 10**6),
    st.sampled_from(GROUPED), st.sampled_from(BLANKS), st.sampled_from(SIGNED), st.data(),
)  # fmt: skip
def test_however_signs_and_marks_are_written(cents, marks, blank, signed, data):
    below = [data.draw(st.booleans()) for _ in cents]
    texts = [_written(c, *marks) for c in cents]
    texts = [
        signed.format(b=blank, d=t) if minus else t for t, minus in zip(texts, below, strict=True)
    ]
    found = decide(texts, Hints(measure=True))
    assert not isinstance(found, TextFormat), texts
    expected = [(-c if minus else c) for c, minus in zip(cents, below, strict=True)]
    assert found.read(pa.array(texts)).to_pylist() == [Decimal(c).scaleb(-2) for c in expected]
    assert all(map(found.fits, texts))


texts_kept = st.text("ab09.,'\" -", max_size=8)


@given(st.lists(texts_kept, min_size=3, max_size=12))
def test_what_a_spreadsheet_keeps_as_text_is_that_text(texts):
    written = ['="' + text.replace('"', '""') + '"' for text in texts]
    assert list(map(bare, written)) == texts
    cells = pa.table({"a": pa.array(written), "b": pa.array([f"x{text}" for text in texts])})
    assert kept_as_text(cells) == ("a",)
    found = bared(cells, ("a",))
    assert (found.column("a").to_pylist(), found.column("b")) == (texts, cells.column("b"))


def _taken(folder, text):
    (folder / "x.csv").write_text(text, encoding="utf-8")
    inside("open", "c", cwd=folder)
    return inside_json("intake", "../x.csv", "--as", "x", cwd=folder / "c")


def test_a_file_of_such_cells(tmp_path):
    lines = [f'="2024-02-{1 + i % 28:02d}",="{i:05d}","=""{i}.50""",\'{i}' for i in range(40)]
    report = _taken(tmp_path, "\n".join(['="date",="voucher",="amount",note', *lines]) + "\n")
    (file,) = report["files"]
    assert report["total"]["accepted"] == 40
    rows = inside_json("dig", "x", "--rows", "--limit", "3", cwd=tmp_path / "c")["rows"]
    assert [(r["date"], r["voucher"], r["amount"]) for r in rows] == [
        (f"2024-02-{1 + i % 28:02d}", f"{i:05d}", f"{i}.50") for i in (39, 38, 37)
    ]
    assert [str(r["note"]) for r in rows] == ["39", "38", "37"]
    said = [note for note in file["notes"] if "keeps them as text" in note]
    assert len(said) == 1 and said[0].startswith("date, voucher, amount and note")


@pytest.mark.parametrize("text", ["12.50USDT", "11.2K", "***12.50", "12.50/-"])
def test_an_amount_that_is_no_number_is_named(tmp_path, text):
    lines = [
        f"2024-02-{1 + i % 28:02d},P{i % 5},{re.sub('12', str(12 + i), text)}" for i in range(40)
    ]
    report = _taken(tmp_path, "\n".join(["date,payee,amount", *lines]) + "\n")
    (said,) = [a["text"] for a in report["assumed"] if "stays text" in a["text"]]
    assert said == f"amount is called as amounts are, and stays text: {text!r} is read as no number"


def test_two_ways_to_write_one_currency_are_not_called_several(tmp_path):
    lines = [
        f"2024-02-{1 + i % 28:02d},P{i % 5},{('EUR', '€')[i % 2]} {12 + i}.50" for i in range(40)
    ]
    report = _taken(tmp_path, "\n".join(["date,payee,amount", *lines]) + "\n")
    (said,) = [a["text"] for a in report["assumed"] if "stays text" in a["text"]]
    assert "'EUR 12.50'" in said


def test_a_payment_beside_a_charge_is_no_number_of_its_row(tmp_path):
    lines = [
        f'2024-02-{1 + i % 28:02d},T{i % 5},"{100 + i}.50","{f"({90 + i}.25)" if i % 3 else " -  "}"'
        for i in range(40)
    ]
    report = _taken(tmp_path, "\n".join(["Charge Date,Tenant,Charge,Payment", *lines]) + "\n")
    (file,) = report["files"]
    assert "Payment" not in report["roles"].values()
    assert any("Payment: '-' is read as missing" in note for note in file["notes"])


def test_a_debit_is_not_printed_once_for_several_lines(tmp_path):
    """Of an entry the debit stands on the first line; its number and day stand there alone, and are told."""
    lines = [f"JE{i:03d},2024-02-{1 + i % 28:02d},5100,{i}.50,\n,,1000,,{i}.50" for i in range(30)]
    report = _taken(tmp_path, "\n".join(["JE No,Date,Account,Debit,Credit", *lines]) + "\n")
    told = [a["text"] for a in report["assumed"] if a["key"].endswith("read.fill")]
    assert [text.split(" stands on")[0] for text in told] == ["JE No", "Date"]


@pytest.mark.parametrize("name", ["Commission %", "Amount"])
def test_a_share_is_no_amount(tmp_path, name):
    lines = [f"2024-02-{1 + i % 28:02d},Rep {i % 7},{100 + i}.50,{i % 9}.5%" for i in range(40)]
    report = _taken(tmp_path, "\n".join([f"date,rep,Commission,{name}", *lines]) + "\n")
    assert report["roles"]["amount"] == "Commission"
