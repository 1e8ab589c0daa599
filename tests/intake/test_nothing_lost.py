"""Nothing lost, nothing altered unseen: sources, line ends, races, alterations, what a write may touch."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json
from sabueso.case.folder import Case
from sabueso.case.register_file import FileRegister
from sabueso.intake.readers.delimited import DelimitedReader
from sabueso.intake.settings import ReadSettings
from sabueso.intake.take import Prior, intake_engine, take_file

PROGRAM = [sys.executable, "-m", "sabueso"]


@pytest.fixture
def case(tmp_path: Path) -> Path:
    """A new case beside the files of a test."""
    inside("open", "case", cwd=tmp_path)
    return tmp_path / "case"


@pytest.fixture
def ledger(case: Path) -> Path:
    """A case with one table and one screen that flags, run once."""
    rows = [f"P{i:04d},2025-01-{1 + i % 28:02d},S{i % 7},{100 + i % 13}.25" for i in range(300)]
    rows += [f"X{i},2025-02-0{i + 1},S{i},{9000 + i}.00" for i in range(5)]
    (case.parent / "a.csv").write_text("id,date,party,amount\n" + "\n".join(rows) + "\n")
    inside("intake", "../a.csv", "--as", "pay", cwd=case)
    inside("try", "zscore", "pay", "--keep", "far", cwd=case)
    inside("screen", "--as", "KL", cwd=case)
    return case


def _together(*commands: list[str], cwd: Path) -> list[tuple[int, str, str]]:
    """Run commands at once; what each gave."""
    begun = [
        subprocess.Popen(
            [*PROGRAM, *command], cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        for command in commands
    ]
    found = [(*process.communicate(timeout=120), process) for process in begun]
    assert not any("Traceback" in err for _, err, _ in found), found
    return [(process.returncode, out, err) for out, err, process in found]


def test_content_once_replaced_may_come_back(case):
    for version, amount in (("v1", "1.00"), ("v2", "2.50")):
        (case.parent / version).mkdir()
        (case.parent / version / "a.csv").write_text(f"id,amount\nA,{amount}\nB,4.00\n")
    inside("intake", "../v1/a.csv", "--as", "t", cwd=case)
    for version, total in (("v2", "6.50"), ("v1", "5.00"), ("v2", "6.50"), ("v1", "5.00")):
        inside("intake", f"../{version}/a.csv", "--as", "t", "--replace", cwd=case)
        assert inside_json("dig", "t", cwd=case)["population"]["total"] == total
    # Every time it was taken has rows of its own.
    events = FileRegister(case / "register.db").events("source")
    assert len({e.body["parquet"] for e in events}) == len(events) == 5


def test_names_that_differ_in_case_alone(case):
    (case.parent / "a.csv").write_text("ID,id,Importe\nA,x,1.00\n")
    (case.parent / "b.csv").write_text("id,ID,importe\nB,y,2.00\n")
    said = inside("intake", "../a.csv", "--as", "pay", cwd=case).stdout
    assert "column 2, 'id', is called 'id 2': another has its name" in said
    err = inside("intake", "../b.csv", "--as", "PAY", cwd=case, code=2).stderr
    assert "'PAY' differs from 'pay' in upper and lower case alone" in err
    # The next file's spelling is the table's.
    inside("intake", "../b.csv", "--as", "pay", cwd=case)
    assert inside_json("dig", "pay", cwd=case)["total"]["value"] == "3.00"
    plan = case / "case.toml"
    plan.write_text(plan.read_text() + '\n[tables.PAY]\nprefix = "PAX"\n')
    assert "upper and lower case alone" in inside("survey", cwd=case, code=2).stderr


def test_a_table_may_be_called_as_a_part_of_a_query_is(tmp_path):
    inside("open", "c", cwd=tmp_path)
    rows = "\n".join(f"R{i},G{i % 2},{100 + i % 9}.00" for i in range(60)) + "\nX,G1,99999.00\n"
    (tmp_path / "a.csv").write_text(f"id,group,amount\n{rows}")
    for name in ("limits", "flagged", "written", "slice", "link", "b", "t"):
        inside("intake", "../a.csv", "--as", name, cwd=tmp_path / "c")
        found = inside_json("try", "zscore", name, "--by", "group", cwd=tmp_path / "c")
        assert [f["subject"]["id"] for f in found["flags"]] == ["X"]
    inside("try", "fences", "flagged", "--keep", "f", cwd=tmp_path / "c")
    inside("screen", cwd=tmp_path / "c")


ENDS = st.sampled_from(["\n", "\r", "\r\n"])
CELLS = st.text(st.sampled_from('ab 1";\n\r'), max_size=6)


@given(st.lists(st.tuples(CELLS, ENDS), min_size=1, max_size=12), ENDS, st.booleans())
def test_every_record_is_found_whatever_ends_its_line(tmp_path_factory, rows, first, closed):
    path = tmp_path_factory.mktemp("ends") / "a.csv"
    texts = [first.join(["id;text;n"]) + first]
    for number, (text, end) in enumerate(rows):
        quoted = '"' + text.replace('"', '""') + '"'
        texts.append(f"R{number};{quoted};{number}{end}")
    whole = "".join(texts)
    path.write_bytes((whole if closed else whole.rstrip("\r\n")).encode())
    layout = DelimitedReader().layout(path, ReadSettings(delimiter=";"))
    batches = list(DelimitedReader().batches(path, layout, ReadSettings(delimiter=";")))
    cells = pa.concat_tables([b.cells for b in batches]).to_pylist()
    assert [row["id"] for row in cells] == [f"R{i}" for i in range(len(rows))]
    assert [row["text"] or "" for row in cells] == [text for text, _ in rows]
    assert not any(b.damaged for b in batches)
    counted = sum(len(b.lines) + b.blank + b.continued for b in batches)
    assert counted + layout.header_line == batches[-1].file_lines


def test_returns_and_feeds_in_one_file_lose_no_row(case):
    source = case.parent / "a.csv"
    source.write_bytes(b"id,importe\r1,1.50\n2,2.50\n3,3.50\n")
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=case)
    assert (report["total"]["accepted"], report["total"]["amount"]) == (3, "7.50")
    source = case.parent / "b.csv"
    source.write_bytes(b'id,importe,nota\r1,1.50,"a\nb"\r2,2.50,c\r3,3.50,"d\re"\r')
    report = inside_json("intake", "../b.csv", "--as", "u", cwd=case)
    assert (report["total"]["accepted"], report["total"]["amount"]) == (3, "7.50")
    assert report["total"]["lines"] == 6 and report["total"]["continued"] == 2


def test_lines_are_counted_apart_from_the_rows(tmp_path, monkeypatch):
    path = tmp_path / "a.csv"
    path.write_text("id,amount\nA,1.00\nB,2.00\n")
    whole = DelimitedReader.batches

    def losing(self, *args):
        for batch in whole(self, *args):
            if len(batch.lines):
                batch = type(batch)(batch.lines[1:], batch.cells.slice(1))
            yield batch

    monkeypatch.setattr(DelimitedReader, "batches", losing)
    with pytest.raises(Exception, match="2 lines are accounted for, and the file has 3"):
        take_file(path, None, ReadSettings(), Prior(), intake_engine())


def test_columns_named_as_the_place_of_a_row(case):
    (case.parent / "a.csv").write_text("_line,_file,_x,amount\nL1,F1,X1,1.00\nL2,F2,X2,2.00\n")
    (case.parent / "b.csv").write_text("_line,_file,_x,amount\nL3,F3,X3,4.00\n")
    said = inside("intake", "../a.csv", "--as", "t", cwd=case).stdout
    assert "column '_line' is called 'line' in the table" in said
    inside("intake", "../b.csv", "--as", "t", cwd=case)
    rows = inside_json("dig", "t", "--rows", cwd=case)["rows"]
    assert [(r["line"], r["file"], r["_x"], r["_line"]) for r in rows] == [
        ("L3", "F3", "X3", 2), ("L2", "F2", "X2", 3), ("L1", "F1", "X1", 2),
    ]  # fmt: skip


@pytest.mark.parametrize("digits", [27, 28, 29, 36, 38])
def test_large_amounts_are_exact(case, digits):
    values = [int("1234567890" * 4) % 10 ** (digits - 1) + n for n in (1, 2, 3)]
    lines = "".join(f"R{i},{v // 100}.{v % 100:02d}\n" for i, v in enumerate(values))
    (case.parent / "a.csv").write_text(f"id,amount\n{lines}")
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=case)
    exact = format(Decimal((0, tuple(map(int, str(sum(values)))), -2)), "f")
    assert report["total"]["amount"] == exact
    assert inside_json("dig", "t", cwd=case)["total"]["value"] == exact
    shown = inside("dig", "t", "--by", "id", cwd=case).stdout
    assert exact in shown.replace(",", "")


def test_what_is_too_large_to_be_exact_is_said(case):
    nines = "9" * 38
    (case.parent / "a.csv").write_text(f"id,amount\nA,{nines}\nB,{nines}\n")
    err = inside("intake", "../a.csv", "--as", "t", cwd=case, code=2).stderr
    assert "more than 38 digits" in err
    (case.parent / "b.csv").write_text(f"id,amount\nB,{nines}9\n" + "A,1\n" * 9)
    report = inside_json("intake", "../b.csv", "--as", "u", "--check", cwd=case)
    assert (report["total"]["accepted"], report["total"]["quarantined"]) == (9, 1)


def test_altered_rows_are_refused(ledger):
    (file,) = (ledger / "population" / "pay").glob("*.parquet")
    whole, stat = file.read_bytes(), file.stat()
    table = pq.read_table(file)

    def refused(*arguments: str) -> None:
        assert (
            "is not what was recorded"
            in inside("dig", "pay", *arguments, cwd=ledger, code=2).stderr
        )
        inside("screen", *arguments, cwd=ledger, code=2)

    pq.write_table(table.slice(0, 100), file)
    refused()
    doubled = table.set_column(
        table.column_names.index("amount"), "amount",
        pa.array([v * 2 for v in table.column("amount").to_pylist()], table.schema.field("amount").type),
    )  # fmt: skip
    pq.write_table(doubled, file)
    refused()
    # Of the same size: the time tells, or the hash where somebody has set the time back.
    flipped = bytearray(whole)
    flipped[len(whole) // 2] ^= 1
    file.write_bytes(flipped)
    refused()
    os.utime(file, ns=(stat.st_mtime_ns, stat.st_mtime_ns))
    refused("--verify")
    # What is the same again is used again, whatever its time.
    file.write_bytes(whole)
    inside("dig", "pay", cwd=ledger)
    inside("dig", "pay", "--verify", cwd=ledger)
    file.unlink()
    assert "is missing" in inside("dig", "pay", cwd=ledger, code=2).stderr


def test_an_altered_finding_is_refused(ledger):
    finding = ledger / "runs" / "0001" / "finding-01.json"
    whole = finding.read_text()
    for text in (whole.replace("9000.00", "9.00"), whole[:200], "", "[1]"):
        finding.write_text(text)
        assert "altered" in inside("paper", cwd=ledger, code=2).stderr
    finding.unlink()
    assert "is missing" in inside("paper", cwd=ledger, code=2).stderr


def test_a_folder_taken_in_again_doubles_nothing(tmp_path):
    """Columns that intake makes, of a debit and a credit, of rates, of a file's name or of a heading, do not hide that
    files are of a table that is there: those taken in stay as they are, and one that is new goes to it."""

    def lines(name, head, rows):
        path = tmp_path / "in" / name
        path.parent.mkdir(exist_ok=True)
        path.write_text("\n".join([head, *rows]) + "\n", encoding="utf-8")

    def month(m):
        days = [f"2024-{m:02}-{d:02}" for d in range(1, 29)]
        sides = [
            f"{d},62{i % 3}0,text {i % 5},{'' if i % 2 else f'{i}.50'},{f'{i}.50' if i % 2 else ''}"
            for i, d in enumerate(days)
        ]
        lines(f"ledger-2024-{m:02}.csv", "day,account,memo,debit,credit", sides)
        claims = [
            f"E{i % 7},{d},{i + 1}.25,{'CAD' if i % 9 == 0 else 'USD'}" for i, d in enumerate(days)
        ]
        lines(f"claims-2024-{m:02}.csv", "employee,spent on,amount,currency", claims)
        lines(
            f"budget-2024-{m:02}.csv",
            "cost centre,budget",
            [f"K{i},{i * 100 + m}.00" for i in range(1, 15)],
        )

    inside("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    plan = case / "case.toml"
    plan.write_text(plan.read_text().replace("# currency = \"EUR\"", "currency = \"USD\" #")
                    + "\n[tables.claims]\nread = { rates = { CAD = \"0.73\" } }\n")  # fmt: skip
    month(1)
    taken = inside_json("intake", "../in", "--yes", cwd=case)["taken"]
    names = {t["table"] for t in taken}
    assert {"ledger", "claims"} <= names and len(names) == 3
    rows = {t["table"]: t["total"]["accepted"] for t in taken}
    for more in ((), (2,), ()):
        for m in more:
            month(m)
        again = inside_json("intake", "../in", "--yes", cwd=case)["taken"]
        assert {t["table"] for t in again} == names
        assert {t["table"]: t["total"]["accepted"] for t in again} == {
            n: rows[n] if more else 0 for n in names
        }
    said = inside("intake", "../in", "--yes", cwd=case).stdout
    assert said.startswith("0 tables taken in") and "6 files of" in said
    with Case(case) as opened:
        assert {name: sum(s.accepted for s in opened.sources(name)) for name in names} == {
            n: 2 * rows[n] for n in names
        }


def test_a_table_that_lacks_the_amounts_of_another_is_one_of_its_own(tmp_path):
    """Columns that files have of themselves are none that intake made, whatever they are called."""
    folder = tmp_path / "in"
    folder.mkdir()
    days = [f"2024-03-{d:02},62{d % 3}0" for d in range(1, 29)]
    (folder / "paid.csv").write_text(
        "\n".join(["day,account,amount", *(f"{d},{i}.50" for i, d in enumerate(days))]) + "\n"
    )
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../in", "--yes", cwd=tmp_path / "case")
    (folder / "visits.csv").write_text("\n".join(["day,account", *days]) + "\n")
    (folder / "closed.csv").write_text(
        "\n".join(
            ["day,account,amount,period", *(f"{d},1.00,Q{i % 4}" for i, d in enumerate(days))]
        )
        + "\n"
    )
    report = inside_json("intake", "../in", "--yes", cwd=tmp_path / "case")
    assert not report["refused"]
    assert {t["table"]: t["total"]["accepted"] for t in report["taken"]} == {
        "paid": 0,
        "visits": 28,
        "closed": 28,
    }


@pytest.mark.long
def test_two_at_once_take_a_file_once(case):
    (case.parent / "a.csv").write_text("id,amount\n" + "".join(f"R{i},1.00\n" for i in range(2000)))
    (case.parent / "b.csv").write_text("id,amount\nB,5.00\n")
    done = _together(
        ["intake", "../a.csv", "--as", "t"], ["intake", "../a.csv", "--as", "t"],
        ["intake", "../b.csv", "--as", "u"], ["intake", "../b.csv", "--as", "v"], cwd=case,
    )  # fmt: skip
    assert [code for code, _, _ in done] == [0, 0, 0, 0]
    assert sum("was taken in before" in out for _, out, _ in done) == 1
    assert inside_json("dig", "t", cwd=case)["total"]["value"] == "2000.00"
    assert {"t", "u", "v"} == set(Case(case).plan.tables)
    assert not list(case.rglob("*.part")) and not (case / ".unfinished").exists()


@pytest.mark.long
def test_who_signs_off_is_decided_once(ledger):
    first, second, *_ = [e["id"] for e in inside_json("queue", cwd=ledger)]
    sign = ["review", first, "--sign-off", "--as"]
    inside("review", first, "--cleared", "--reason", "seen", "--as", "KL", cwd=ledger)
    done = _together([*sign, "MR"], [*sign, "ZZ"], cwd=ledger)
    assert sorted(code for code, _, _ in done) == [0, 2]
    done = _together(
        ["review", second, "--cleared", "--reason", "x", "--as", "KL"],
        ["review", second, "--error", "--reason", "y", "--as", "MR"],
        ["review", second, "--sign-off", "--as", "KL"],
        ["review", second, "--sign-off", "--as", "MR"],
        cwd=ledger,
    )
    register = FileRegister(ledger / "register.db")
    register.verify()
    disposed = ""
    for event in register.events("disposition", "sign-off", subject=second):
        assert event.kind == "disposition" or event.initials != disposed
        disposed = event.initials if event.kind == "disposition" else disposed


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="needs a device that is full")
def test_a_review_is_recorded_once_though_nothing_can_be_printed(ledger):
    identity = inside_json("queue", cwd=ledger)[0]["id"]
    command = [*PROGRAM, "review", identity, "--cleared", "--reason", "seen", "--as", "KL"]
    for _ in range(2):
        with Path("/dev/full").open("w") as full:
            done = subprocess.run(
                command, cwd=ledger, stdout=full, stderr=subprocess.PIPE, text=True, check=False
            )
        assert done.returncode in (0, 2) and "Traceback" not in done.stderr
        assert "could not be printed" in done.stderr
    closed = subprocess.run(
        f"{' '.join(map(repr, command))} >&-", shell=True, cwd=ledger, check=False
    )
    assert closed.returncode == 0
    events = FileRegister(ledger / "register.db").events("disposition")
    assert len(events) == 1
    said = inside(
        "review", identity, "--cleared", "--reason", "seen", "--as", "KL", cwd=ledger
    ).stdout
    assert f"the same was recorded before, as event {events[0].seq}" in said
    again = inside("note", "far", "--conclusion", "so it is", "--as", "KL", cwd=ledger).stdout
    again += inside("note", "far", "--conclusion", "so it is", "--as", "KL", cwd=ledger).stdout
    assert again.count("recorded before, and not again") == 1
    with Path("/dev/full").open("w") as full:
        queue = [*PROGRAM, "queue"]
        done = subprocess.run(queue, cwd=ledger, stdout=full, stderr=subprocess.PIPE, check=False)
    assert done.returncode == 2


def test_a_stop_says_what_was_recorded(case, monkeypatch):
    (case.parent / "a.csv").write_text("id,amount\nA,1.00\n")
    plan = (case / "case.toml").read_text()

    def stop(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    for number, place in enumerate(
        ("reading.take_file", "taking.flush_file", "taking.write_quarantine", "taking.write_table",
         "taking.reported")
    ):  # fmt: skip
        with monkeypatch.context() as patched:
            patched.setattr(f"sabueso.case.{place}", stop)
            err = inside("intake", "../a.csv", "--as", f"t{number}", cwd=case, code=130).stderr
        register = FileRegister(case / "register.db")
        recorded = bool(register.events("source"))
        register.close()
        assert recorded == (place == "taking.reported")
        assert ("recorded before that: source of t4 (event 1)" in err) == recorded
        assert ("as it was" in err) == (not recorded)
        assert bool(list(case.glob("population/*/*"))) == recorded
        assert ((case / "case.toml").read_text() != plan) == recorded


def test_out_writes_over_nothing_of_another_making(ledger):
    (ledger / "mine.csv").write_text("my own list")
    for target in (
        "population/pay/x.csv", "runs/0001/finding-01.json", "evidence/x.json", "quarantine/x.csv",
        "mine.csv", "../case/runs/x.json", ".written.json",
    ):  # fmt: skip
        (ledger / "quarantine").mkdir(exist_ok=True)
        (ledger / "evidence").mkdir(exist_ok=True)
        before = {p: p.read_bytes() for p in ledger.rglob("*") if p.is_file()}
        for command in (["queue"], ["dig", "pay"], ["try", "zscore", "pay"], ["survey", "pay"]):
            inside(*command, "--out", target, cwd=ledger, code=2)
        assert before == {p: p.read_bytes() for p in ledger.rglob("*") if p.is_file()}
    inside("dig", "pay", "--out", "mine.csv", "--force", cwd=ledger)
    inside("queue", "--out", "mine.csv", cwd=ledger)  # of its own making now
    (ledger / "mine.csv").write_text("with a remark of mine")
    assert "--force" in inside("queue", "--out", "mine.csv", cwd=ledger, code=2).stderr


def test_parts_that_are_gone_are_said_and_not_begun_anew(ledger):
    register, plan = ledger / "register.db", ledger / "case.toml"
    kept, text = register.read_bytes(), plan.read_bytes()
    register.unlink()
    for command in (["queue"], ["screen"], ["intake", "../a.csv", "--as", "pay"], ["survey"]):
        assert "register.db is gone" in inside(*command, cwd=ledger, code=2).stderr
        assert not register.exists()
    register.write_bytes(b"")
    assert "register.db is empty" in inside("queue", cwd=ledger, code=2).stderr
    register.write_bytes(kept)
    inside("queue", cwd=ledger)
    plan.unlink()
    for command in (["queue"], ["open", "."], ["queue", "--case", "."]):
        assert "case.toml is gone" in inside(*command, cwd=ledger, code=2).stderr
    plan.write_bytes(text)
    inside("queue", cwd=ledger)


@pytest.mark.long
def test_a_damaged_register_is_a_sentence(ledger):
    register = ledger / "register.db"
    whole = register.read_bytes()
    for cut in (1, 100, 1000, 4096, len(whole) // 2, len(whole) - 1):
        register.write_bytes(whole[:cut])
        inside("queue", cwd=ledger, code=2)
    register.write_bytes(whole)
    shown = inside("queue", cwd=ledger).stdout
    noticed = 0
    for at in range(0, len(whole), 97):
        flipped = bytearray(whole)
        flipped[at] ^= 0xFF
        register.write_bytes(flipped)
        said = inside("queue", cwd=ledger, code=(0, 2))
        # Where nothing is noticed, what is shown is the same.
        assert said.stderr or said.stdout == shown
        noticed += bool(said.stderr)
    assert noticed > 20
    register.unlink()
    register.mkdir()
    assert "cannot be opened" in inside("queue", cwd=ledger, code=2).stderr
    register.rmdir()
    other = sqlite3.connect(register)
    other.execute("CREATE TABLE events (seq INTEGER, what TEXT)")
    other.close()
    assert "lacks" in inside("queue", cwd=ledger, code=2).stderr


def test_what_a_kill_leaves_is_swept(ledger):
    for name in (".case.toml.1.part", "runs/.0002.part/x", ".unfinished/dead/0.parquet",
                 "population/pay/.x.part", "evidence/.y.part"):  # fmt: skip
        (ledger / name).parent.mkdir(parents=True, exist_ok=True)
        (ledger / name).write_text("left")
    (ledger / "own.part").write_text("the client's")
    with Case(ledger).workshop() as shop:  # in use by a process that lives
        inside("note", "far", "--observation", "x", "--as", "KL", cwd=ledger)
        assert shop.is_dir()
    assert sorted(p.name for p in ledger.rglob("*.part")) == ["own.part"]
    assert not (ledger / ".unfinished").exists()


def test_more_flags_than_can_be_reviewed(case):
    rows = "".join(f"R{i},{'5000' if i % 10 == 0 else '10'}.{i % 100:02d}\n" for i in range(4000))
    (case.parent / "a.csv").write_text(f"id,amount\n{rows}")
    inside("intake", "../a.csv", "--as", "t", cwd=case)
    inside("try", "fences", "t", "--keep", "large", cwd=case)
    plan = case / "case.toml"
    plan.write_text(plan.read_text().replace("[case]\n", "[case]\ncapacity = 25\n"))
    run = inside_json("screen", cwd=case)["screens"][0]
    assert (run["flagged"], len(run["exceptions"]), run["new"]) == (400, 25, 25)
    finding = json.loads((case / "runs/0001/finding-01.json").read_text())
    assert finding["flag_count"] == 400 and len(finding["flags"]) == 25
    every = pq.read_table(case / "runs/0001" / finding["flags_file"])
    assert every.num_rows == 400
    assert format(sum(every.column("amount").to_pylist()), "f") == finding["flag_total"]
    said = inside("screen", cwd=case).stdout
    assert "400 beyond the limits" in said and "25 strongest" in said and "--aim 25" in said
    queue = inside_json("queue", "--top", "500", cwd=case)
    inside("paper", cwd=case)
    page = (case / "papers" / "working-paper.html").read_text()
    assert "The 25 strongest became exceptions" in page and "runs/0002/flags-01.parquet" in page
    assert len(queue) == 25 and queue[0]["marks"][0]["flagged"] == 400


def test_columns_that_the_program_makes_take_no_name_of_the_clients(case):
    (case.parent / "a.csv").write_text("id,Amount,debit,credit\nA,x,1.00,\nB,y,,2.00\n")
    report = inside_json("intake", "../a.csv", "--as", "t", cwd=case)
    assert report["total"]["accepted"] == 2 and report["amount"] is None
    inside("dig", "t", "--on", "debit", cwd=case)
    (case.parent / "b.csv").write_text(
        "id,importe,moneda,IMPORTE_EUR\nA,1.00,USD,x\nB,2.00,EUR,y\n"
    )
    plan = case / "case.toml"
    roles = 'roles = { id = "id", amount = "importe", currency = "moneda" }'
    plan.write_text(
        plan.read_text()
        + f'\n[tables.u]\nprefix = "U1"\n{roles}\nread = {{ rates = {{ USD = "0.9" }} }}\n'
    )
    err = inside("intake", "../b.csv", "--as", "u", cwd=case, code=2).stderr
    assert "make a column 'importe_eur', and the file has a column 'IMPORTE_EUR' already" in err
