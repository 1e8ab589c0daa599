"""Delimited text in other marks than the usual: delimiters, single quotes, marks after a backslash."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.base.errors import UserError
from sabueso.intake.readers.delimited import DelimitedReader
from sabueso.intake.settings import ReadSettings

TEXTS = st.text(st.sampled_from("ab 1\"'\\,;~|\n¦N"), max_size=7)


def _cells(path: Path, settings: ReadSettings) -> tuple[list[str], list[list[str]], list[str]]:
    """Names, rows and the texts of damaged lines, as the reader gives them."""
    layout = DelimitedReader().layout(path, settings)
    batches = list(DelimitedReader().batches(path, layout, settings))
    rows = [
        ["" if cell is None else str(cell) for cell in row.values()]
        for row in pa.concat_tables([b.cells for b in batches]).to_pylist()
    ]
    return layout.header, rows, [d.text for b in batches for d in b.damaged]


@given(
    st.lists(st.tuples(TEXTS, TEXTS), min_size=1, max_size=8),
    st.sampled_from([",", ";", "\t", "~", "\x01"]),
    st.sampled_from(['"', "'"]),
    st.booleans(),
)
def test_what_a_writer_of_each_dialect_wrote_is_read(
    tmp_path_factory, rows, delimiter, quote, escape
):
    text = io.StringIO(newline="")
    writer = csv.writer(
        text, delimiter=delimiter, quotechar=quote, quoting=csv.QUOTE_ALL, lineterminator="\n",
        doublequote=not escape, escapechar="\\" if escape else None,
    )  # fmt: skip
    writer.writerows([("id", "one", "two"), *((f"R{i}", *row) for i, row in enumerate(rows))])
    path = tmp_path_factory.mktemp("dialect") / "a.csv"
    path.write_text(text.getvalue(), encoding="utf-8", newline="")
    settings = ReadSettings(
        delimiter=delimiter, quote=quote, escape="backslash" if escape else "none", header=1
    )
    header, read, damaged = _cells(path, settings)
    assert header == ["id", "one", "two"] and not damaged
    assert read == [[f"R{i}", *row] for i, row in enumerate(rows)]


@pytest.mark.parametrize(
    "mark", ["~", "^", "\x01", "\x1f", "¦", "§", "||", ";;", "~|~", "|~|", "\t|\t"]
)
def test_a_delimiter_that_is_not_usual_is_found(tmp_path, mark):
    rows = [
        [f"R{i}", f"2025-01-{1 + i % 28:02d}", "" if i % 3 else "S 1", f"{i}.50"] for i in range(60)
    ]
    lines = [mark.join(row) for row in [["id", "date", "party", "amount"], *rows]]
    path = tmp_path / "a.txt"
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    header, read, damaged = _cells(path, ReadSettings())
    assert header == ["id", "date", "party", "amount"] and not damaged
    assert read == rows


MEMO = {
    "backslash": [r'"said \"no\", twice"', r'"C:\\new\\"', '"plain"'],
    "single": ["'it''s \"so\", here'", "'plain'", "''"],
    "bare": [r"Smith\, John", "plain", r"a\\b"],
}  # fmt: skip
MEANT = {
    "backslash": ['said "no", twice', "C:\\new\\", "plain"],
    "single": ['it\'s "so", here', "plain", ""],
    "bare": ["Smith, John", "plain", "a\\b"],
}


@pytest.mark.parametrize("kind", MEMO)
def test_quotes_and_escapes_are_found_and_a_line_set_aside_is_shown_as_it_stands(tmp_path, kind):
    memo = MEMO[kind]
    rows = [f"{i},{memo[i % 3]},{i}.50" for i in range(60)]
    rows[40] = odd = f"40,{memo[0]},{memo[1]},extra,40.50"
    path = tmp_path / "a.csv"
    path.write_text("id,memo,amount\n" + "\n".join(rows) + "\n")
    _, read, damaged = _cells(path, ReadSettings())
    assert damaged == [odd]
    assert read == [[str(i), MEANT[kind][i % 3], f"{i}.50"] for i in range(60) if i != 40]


def test_lines_within_quotes_are_read_as_what_stands_in_them(tmp_path):
    rows = [[str(i), f'S {i % 3}, "the" first', f"1,00{i % 7}.50"] for i in range(60)]
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([["id", "party", "amount"], *rows])
    lines = ['"' + line.replace('"', '""') + '"' for line in text.getvalue().splitlines()]
    lines.insert(30, odd := '"29,""x, y"",1,2"')
    path = tmp_path / "a.csv"
    path.write_text("\r\n".join(lines) + "\r\n", newline="")
    header, read, damaged = _cells(path, ReadSettings())
    assert (header, read, damaged) == (["id", "party", "amount"], rows, [odd])


@pytest.mark.parametrize(
    "memo",
    ['"C:\\dir\\"', "'quoted' in part", "o'neil's", "'00123", 'a \\ b', '"said ""no"", twice"', "a||b~c^d"],
)  # fmt: skip
def test_usual_marks_stay_what_they_are(tmp_path, memo):
    path = tmp_path / "a.csv"
    path.write_text("id,memo,amount\n" + "".join(f"{i},{memo},{i}.50\n" for i in range(60)))
    header, read, damaged = _cells(path, ReadSettings())
    meant = next(csv.reader([memo]))[0].removeprefix("'" if memo == "'00123" else "")
    assert header == ["id", "memo", "amount"] and not damaged
    assert {row[1] for row in read} == {meant}


@pytest.mark.parametrize("row", ["{0}|||{0}.50", "{0}%||b|{0}.50"])
def test_bars_that_stand_for_empty_cells_are_no_mark_of_two(tmp_path, row):
    path = tmp_path / "a.txt"
    path.write_text("id %|a|b|amount\n" + "".join(row.format(i) + "\n" for i in range(60)))
    assert _cells(path, ReadSettings())[0] == ["id %", "a", "b", "amount"]


def test_a_unit_before_each_delimiter_is_no_part_of_it(tmp_path):
    path = tmp_path / "a.csv"
    path.write_text("rate %,amount\n" + "".join(f"{i}%,{i}.50\n" for i in range(60)))
    assert _cells(path, ReadSettings())[1][5] == ["5%", "5.50"]


def test_the_plan_keeps_the_marks_for_the_files_to_come(tmp_path):
    inside("open", "case", cwd=tmp_path)
    row = "'{0}','2025-0{1}-0{2}','S''{2}','1,0{1}{2}.50'\n"
    for month in (1, 2):
        text = "'id','date','party','amount'\n" + "".join(
            row.format(10 * month + day, month, day) for day in range(1, 8)
        )
        (tmp_path / f"pay-{month}.csv").write_text(text)
    report = inside_json("intake", "../pay-1.csv", "--as", "pay", cwd=tmp_path / "case")
    assert report["total"]["amount"] == "7101.50"
    inside("intake", "../pay-2.csv", "--as", "pay", cwd=tmp_path / "case")
    dug = inside_json("dig", "pay", "--by", "party", cwd=tmp_path / "case")
    assert "S'3" in str(dug)


@pytest.mark.parametrize("delimiter", ["", "abcd", '"', "\\", "a\n"])
def test_what_can_be_no_delimiter_is_refused(tmp_path, delimiter):
    with pytest.raises((UserError, ValueError), match="delimiter is one to three"):
        ReadSettings(delimiter=delimiter)
