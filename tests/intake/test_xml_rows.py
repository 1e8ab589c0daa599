"""XML in which an element that repeats is a row."""

from __future__ import annotations

from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.base.errors import UserError
from sabueso.intake.readers import xml_rows
from sabueso.intake.readers.xml_rows import XmlRowsReader
from sabueso.intake.settings import ReadSettings

INVOICES = "".join(
    f'<invoice no="I{k}"><date>2025-01-{k + 1:02d}</date><supplier>S{k % 3}</supplier>'
    + "".join(f'<line><account>60{j}</account><amount ccy="EUR">{k}.{j}0</amount></line>' for j in range(3))
    + "<total>9.00</total></invoice>"
    for k in range(20)
)  # fmt: skip


def _read(path: Path, text: str, records: str | None = None) -> tuple[list[str], list[list[str]]]:
    path.write_text(text, encoding="utf-8")
    settings = ReadSettings(records=records)
    layout = XmlRowsReader().layout(path, settings)
    batches = XmlRowsReader().batches(path, layout, settings)
    return layout.header, [list(r.values()) for b in batches for r in b.cells.to_pylist()]


TEXTS = st.text(st.characters(blacklist_categories=("Cs", "Cc", "Cn")), max_size=8).map(str.strip)


@given(st.lists(st.tuples(TEXTS, TEXTS), min_size=2, max_size=12), st.booleans())
def test_every_element_that_repeats_is_a_row(tmp_path_factory, rows, namespaced):
    space = ' xmlns="urn:x" xmlns:i="urn:i" i:hint="a"' if namespaced else ""
    body = "".join(f"<p no={quoteattr(a)}><text>{escape(b)}</text></p>\n" for a, b in rows)
    path = tmp_path_factory.mktemp("xml") / "a.xml"
    header, read = _read(path, f"<?xml version='1.0'?><all{space}><!-- x -->{body}</all>")
    assert header == ["no", "text"]
    assert read == [[a or None, b or None] for a, b in rows]


def test_what_stands_around_the_rows_and_before_them_is_of_each(tmp_path):
    batch = "<batch><day>2025-02-0{0}</day><who ref='W{0}'><n>x</n></who>{1}<late>1</late></batch>"
    rows = "".join(f"<pay><amount>{i}.50</amount></pay>" for i in range(4))
    text = f"<f v='1'><made>now</made>{batch.format(1, rows)}{batch.format(2, rows)}</f>"
    header, read = _read(tmp_path / "a.xml", text, "pay")
    assert header == ["amount", "f.made", "batch.day"]
    assert read[5] == ["1.50", "now", "2025-02-02"] and len(read) == 8


def test_which_of_two_is_a_row_is_asked_and_read_as_said(tmp_path):
    source = tmp_path / "a.xml"
    with pytest.raises(UserError, match=r"'invoice' or 'invoice\.line'.* --records"):
        _read(source, f"<all>{INVOICES}</all>")
    header, read = _read(source, f"<all>{INVOICES}</all>", "invoice.line")
    assert header == [
        "account", "amount", "amount.ccy", "invoice.no", "invoice.date", "invoice.supplier",
    ]  # fmt: skip
    assert read[4] == ["601", "1.10", "EUR", "I1", "2025-01-02", "S1"] and len(read) == 60
    header, read = _read(source, f"<all>{INVOICES}</all>", "invoice")
    assert header == ["no", "date", "supplier", "line", "total"] and len(read) == 20
    with pytest.raises(UserError, match="no element 'entry'"):
        _read(source, f"<all>{INVOICES}</all>", "entry")


def test_the_program_takes_rows_in_and_keeps_what_was_said(tmp_path):
    (tmp_path / "a.xml").write_text(f"<all><made/>{INVOICES}</all>")
    (tmp_path / "b.xml").write_text(f"<all>{INVOICES.replace('I', 'J')}</all>")
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    report = inside_json("intake", "../a.xml", "--as", "lines", "--records", "line", cwd=case)
    total = sum(k + j / 10 for k in range(20) for j in range(3))
    assert (report["total"]["accepted"], report["total"]["amount"]) == (60, f"{total:.2f}")
    roles = report["roles"]
    assert roles["party"] == "invoice.supplier" and roles["date"] == "invoice.date"
    report = inside_json("intake", "../b.xml", "--as", "lines", cwd=case)
    assert report["total"]["accepted"] == 60


def test_an_element_that_comes_late_costs_its_row_alone(tmp_path, monkeypatch):
    monkeypatch.setattr(xml_rows, "LOOKED_AT", 50)
    rows = [f"<p><a>{i}</a></p>" for i in range(80)]
    rows[70] = "<p><a>70</a><b>late</b></p>"
    path = tmp_path / "a.xml"
    path.write_text(f"<r>{''.join(rows)}</r>")
    layout = XmlRowsReader().layout(path, ReadSettings())
    batches = list(XmlRowsReader().batches(path, layout, ReadSettings()))
    assert sum(len(b.lines) for b in batches) == 79
    assert [(d.line, d.column, d.value) for b in batches for d in b.damaged] == [(71, "b", "late")]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("<r><p><a>1</a></p></r>", "comes more than once"),
        ("<r><p>1</p><p>2</p></r>", "comes more than once"),
        ("<r><p><a>1</a></p><p><a>2</a></p>", "premature end"),
        ('<!DOCTYPE r [<!ENTITY x "y">]><r><p><a>&x;</a></p><p/></r>', "entities of its own"),
    ],
)
def test_what_is_no_table_is_refused(tmp_path, text, said):
    with pytest.raises(UserError, match=said):
        _read(tmp_path / "a.xml", text)
