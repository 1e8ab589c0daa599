"""JSON in the forms in which programs write a table: columns one after another, names beside the values."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.base.errors import UserError
from sabueso.intake.readers import json_columns
from sabueso.intake.readers.cells import batches_of
from sabueso.intake.readers.json_records import JsonReader
from sabueso.intake.settings import ReadSettings

ROWS = [[f"2025-0{1 + i % 9}-1{i % 7}", f"S{i % 5}", f"{i}.50"] for i in range(40)]
NAMES = ["date", "party", "amount"]
COLUMNS = {name: [row[at] for row in ROWS] for at, name in enumerate(NAMES)}
NUMBERED = {name: {str(i): each for i, each in enumerate(v)} for name, v in COLUMNS.items()}
OBJECTS = [dict(zip(NAMES, row, strict=True)) for row in ROWS]
FIELDS = [{"id": name, "type": "text"} for name in NAMES]


def _read(path: Path, value: object) -> tuple[list[str], list[list[object]], tuple[str, ...]]:
    path.write_text(json.dumps(value))
    layout = JsonReader().layout(path, ReadSettings())
    cells = [
        row
        for b in JsonReader().batches(path, layout, ReadSettings())
        for row in b.cells.to_pylist()
    ]
    return layout.header, [list(row.values()) for row in cells], layout.notes


@pytest.mark.parametrize(
    "form",
    [
        COLUMNS, NUMBERED, {"result": {"count": 40, **COLUMNS}}, {"meta": "x", **NUMBERED},
        [NAMES, *ROWS], {"columns": NAMES, "index": list(range(40)), "data": ROWS},
        {"meta": {"view": {"columns": [{"name": n} for n in NAMES]}}, "data": ROWS},
        {"fields": FIELDS, "records": ROWS}, {"fields": FIELDS, "records": ROWS[:4]},
        {"fields": FIELDS, "records": [NAMES, *ROWS]},
        {"schema": {"fields": FIELDS}, "data": OBJECTS[:2]}, {"fields": FIELDS, "data": OBJECTS[:2]},
    ],
)  # fmt: skip
def test_a_table_is_read_in_whatever_form_it_is_written(tmp_path, form):
    header, rows, _ = _read(tmp_path / "a.json", form)
    assert header == NAMES
    assert rows == ROWS[: len(rows)] and len(rows) in (2, 4, 40)


def test_a_first_array_that_looks_like_the_second_is_a_row(tmp_path):
    header, rows, notes = _read(tmp_path / "a.json", ROWS)
    assert header == ["column 1", "column 2", "column 3"] and rows == ROWS and not notes


def test_rows_that_are_keyed_and_not_counted_keep_their_keys(tmp_path):
    value = {"date": {"7": "2025-01-01", "9": "2025-01-02"}, "amount": {"9": "2.50", "7": "1.50"}}
    header, rows, _ = _read(tmp_path / "a.json", value)
    assert header == ["key", "date", "amount"]
    assert rows == [["7", "2025-01-01", "1.50"], ["9", "2025-01-02", "2.50"]]


def test_columns_of_different_lengths_are_no_table(tmp_path):
    with pytest.raises(UserError, match="'amount' has 3 values, and 'date' 40"):
        _read(tmp_path / "a.json", COLUMNS | {"amount": COLUMNS["amount"][:3]})


def test_columns_of_a_file_too_large_are_refused(tmp_path, monkeypatch):
    monkeypatch.setattr(json_columns, "LARGEST", 1 << 10)
    with pytest.raises(UserError, match="columns stand one after another"):
        _read(tmp_path / "a.json", COLUMNS)


def test_columns_beyond_the_first_megabyte_are_read(tmp_path):
    rows = 60_000
    value = {"date": ["2025-01-02"] * rows, "party": ["S 1"] * rows, "amount": ["1.25"] * rows}
    (tmp_path / "a.json").write_text(json.dumps(value))
    inside("open", "case", cwd=tmp_path)
    report = inside_json("intake", "../a.json", "--as", "pay", cwd=tmp_path / "case")
    assert (report["total"]["accepted"], report["total"]["amount"]) == (rows, "75000.00")


@given(
    st.integers(2, 6),
    st.integers(1, 30),
    st.sampled_from(["arrays", "objects", "columns", "named"]),
)
def test_no_row_is_lost_in_any_form(tmp_path_factory, width, length, form):
    rows = [[f"{r}.{c}5" for c in range(width)] for r in range(length)]
    names = [f"name {chr(97 + c)}" for c in range(width)]
    columns = {name: [row[at] for row in rows] for at, name in enumerate(names)}
    value = {
        "arrays": [names, *rows], "objects": [dict(zip(names, row, strict=True)) for row in rows],
        "columns": columns if length > 1 else {"rows": [dict(zip(names, rows[0], strict=True))]},
        "named": {"names": names, "values": rows},
    }[form]  # fmt: skip
    header, read, _ = _read(tmp_path_factory.mktemp("forms") / "a.json", value)
    assert header == names and read == rows


@given(st.lists(st.integers(1, 30), min_size=1, max_size=40))
def test_places_are_kept_where_they_can_be_and_are_one_of_each_row(lines):
    lines = sorted(lines)
    records = [(line, {"a": "1"}) for line in lines]
    places = [place for b in batches_of(["a"], records) for place in b.lines.tolist()]
    expected, last = [], 0
    for line in lines:
        last = max(line, last + 1)
        expected.append(last)
    assert places == expected


def test_rows_that_stand_on_one_line_are_flagged_each_for_itself(tmp_path):
    rows = [
        {"date": f"2025-01-{1 + i % 28:02d}", "party": f"S{i % 3}", "amount": 90000 + i if i % 100 == 7 else 50 + i % 9}
        for i in range(300)
    ]  # fmt: skip
    (tmp_path / "a.json").write_text(json.dumps(rows))  # without a line end, and without an id
    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    inside("intake", "../a.json", "--as", "pay", cwd=case)
    inside("try", "zscore", "pay", "--keep", "far", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    queue = inside_json("queue", cwd=case)
    assert {item["subject"]["line"] for item in queue} == {8, 108, 208}
    for item in queue:
        assert inside_json("dig", item["id"], cwd=case)["population"]["used"] == 1
