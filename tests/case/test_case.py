"""The case folder: register, ids, reviews, runs that repeat, and intake that is whole or nothing."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import os
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import inside, inside_json, sabueso, shorten
from sabueso.base.errors import UserError
from sabueso.base.files import safe_cell
from sabueso.case.exceptions import canonical, exception_id, parse_id
from sabueso.case.register_file import FileRegister


@pytest.fixture
def case(marisma: Path, tmp_path: Path) -> Path:
    """A copy of the sample case to change."""
    return Path(shutil.copytree(marisma, tmp_path / "case"))


def test_register_is_chained_and_append_only(case):
    path = case / "register.db"
    register = FileRegister(path)
    events = register.events()
    previous = "0" * 64
    for e in events:
        body = json.dumps(e.body, ensure_ascii=False, sort_keys=True)
        fields = json.dumps(
            [previous, e.seq, e.at, e.kind, e.subject, e.initials, body], ensure_ascii=False
        )
        assert e.hash == hashlib.sha256(fields.encode()).hexdigest()
        previous = e.hash
    assert register.verify() == (len(events), previous)
    register.close()
    database = sqlite3.connect(path)
    for statement in ("UPDATE events SET body = '{}'", "DELETE FROM marks", "DELETE FROM events"):
        with pytest.raises(sqlite3.IntegrityError, match="append-only"):
            database.execute(statement)
    # Whoever removes the guard and edits an event is found out by the chain.
    database.execute("DROP TRIGGER no_update_events")
    database.execute("UPDATE events SET initials = 'XX' WHERE seq = 30")
    database.commit()
    database.close()
    assert "event 30" in inside("paper", cwd=case, code=2).stderr
    path.write_bytes(b"no database at all" * 9)
    assert "register.db: is not a review register" in inside("queue", cwd=case, code=2).stderr


def test_reviews_supersede_and_need_other_initials(case):
    first, second = [e["id"] for e in inside_json("queue", "--status", "open", cwd=case)[:2]]
    proof = case / "proof.txt"
    proof.write_text("seen")
    inside(
        "review", first, second, "--error", "--amount", "12.50", "--reason", "typed twice",
        "--evidence", str(proof), "--as", "kl", cwd=case,
    )  # fmt: skip
    digest = hashlib.sha256(b"seen").hexdigest()
    assert (case / "evidence" / f"{digest}.txt").read_text() == "seen"
    for arguments, message in [
        (["--sign-off", "--as", "KL"], "needs other initials"),
        (["--sign-off"], "whose review"),
        (["--cleared", "--as", "MR"], "needs its reason"),
        (["--cleared", "--reason", "x", "--as", "K L"], "one to six letters"),
        (["--cleared", "--reason", "x", "--amount", "5", "--as", "MR"], "amount of an error"),
        (
            ["--cleared", "--reason", "x", "--evidence", "none.pdf", "--as", "MR"],
            "no such evidence",
        ),
        (["--reason", "x"], "say what to record"),
    ]:
        assert message in inside("review", first, *arguments, cwd=case, code=2).stderr
    sabueso("review", first, "--sign-off", cwd=case, SABUESO_REVIEWER="MR")
    assert (
        "signed off already"
        in inside("review", first, "--sign-off", "--as", "ZZ", cwd=case, code=2).stderr
    )
    inside("review", first, "--reopen", "--reason", "new invoice", "--as", "ZZ", cwd=case)
    now = inside_json("review", first, cwd=case)[0]
    assert (now["status"], now["signed_off"], now["reason"]) == ("open", "", "new invoice")
    other = inside_json("review", second.lower(), cwd=case)[0]
    assert (other["status"], other["error_amount"]) == ("error", "12.50")
    assert other["evidence"] == [{"file": "proof.txt", "sha256": digest}]


def test_set_aside_rows_are_left_out_and_counted(case):
    item = next(e for e in inside_json("queue", "--top", "50", cwd=case) if e["kind"] == "row")
    before = inside_json("try", "zscore", "payments", cwd=case)
    inside(
        "review",
        item["id"],
        "--cleared",
        "--reason",
        "one-off",
        "--set-aside",
        "--as",
        "KL",
        cwd=case,
    )
    after = inside_json("try", "zscore", "payments", cwd=case)
    assert after["population"]["left_out"] == {"set_aside": 1}
    assert after["population"]["used"] == before["population"]["used"] - 1
    assert after["population"]["left_out_totals"]["set_aside"] == item["amount"]


@pytest.mark.long
def test_the_same_run_again_marks_the_same_exceptions(case):
    before = inside_json("queue", "--top", "500", cwd=case)
    run = inside_json("screen", cwd=case)
    assert run["run"] == 2
    assert sum(s["new"] for s in run["screens"]) == 0
    after = inside_json("queue", "--top", "500", cwd=case)
    assert [e["id"] for e in after] == [e["id"] for e in before]
    assert [e["status"] for e in after] == [e["status"] for e in before]
    first, second = (
        json.loads((case / "runs" / n / "finding-03.json").read_text()) for n in ("0001", "0002")
    )
    assert first == second
    assert inside("screen", "first digit", "--gate", "0", cwd=case, code=3).stdout


def test_an_exception_leads_to_its_rows(case):
    queue = inside_json("queue", "--top", "500", cwd=case)
    kinds = {item["kind"]: item for item in reversed(queue)}
    assert set(kinds) == {"row", "entity", "line", "class", "cluster", "cell", "range"}
    for kind in ("row", "class", "line", "cell", "cluster", "range"):
        found = inside_json("dig", kinds[kind]["id"], "--limit", "3", cwd=case)
        assert found["population"]["used_total"] == kinds[kind]["amount"] or kind not in (
            "row",
            "class",
        )
        assert found["population"]["used"] >= 1
    line = kinds["line"]
    run = json.loads((case / "runs" / "0001" / "finding-06.json").read_text())
    current = next(
        x["current"]
        for x in run["groups"][0]["lines"]
        if x["key"]["cuenta"] == line["subject"]["cuenta"]
    )
    # A change is opened with both of its periods.
    dug = inside_json("dig", line["id"], "--by", "cuenta", cwd=case)
    assert dug["total"]["across"]["2025"] == current and len(dug["across_values"]) == 2


def test_the_same_file_is_not_taken_twice(case):
    name = "inbox/payments/pagos-2024-01.csv"
    again = inside_json("intake", name, "--as", "payments", cwd=case)
    assert again["files"] == []
    assert again["already_taken"][0]["file"] == "pagos-2024-01.csv"
    changed = case / name
    changed.write_bytes(changed.read_bytes().replace(b"TOTAL", b"Total"))
    assert "other content" in inside("intake", name, "--as", "payments", cwd=case, code=2).stderr
    later = case / "inbox" / "later.csv"
    later.write_text("pago;fecha;factura;proveedor;cuenta;importe;usuario;texto\n")
    stderr = inside("intake", str(later), "--as", "payments", cwd=case, code=2).stderr
    assert "lacks concepto and adds texto" in stderr


def test_what_a_killed_reader_was_noting_is_swept_when_it_is_old(tmp_path):
    inside("open", "case", cwd=tmp_path)
    (tmp_path / "a.csv").write_text("id,amount\na,1.50\nb,2.50\n")
    old, young = (tmp_path / "case" / f"..verified.json.{name}.part" for name in ("old", "young"))
    for path, age in ((old, 3600), (young, 0)):
        path.write_text("{")
        os.utime(path, (time.time() - age,) * 2)
    inside("intake", "../a.csv", "--as", "a", cwd=tmp_path / "case")
    assert not old.exists() and young.exists(), "somebody may be writing it"


@pytest.mark.long
def test_a_killed_intake_leaves_the_case_as_it_was_or_whole(tmp_path):
    sabueso("open", "case", cwd=tmp_path)
    case = tmp_path / "case"
    lines = "\n".join(f"P{i},2024-01-{1 + i % 28:02d},{i}.25" for i in range(30_000))
    (tmp_path / "a.csv").write_text(f"id,date,amount\n{lines}\n")
    times = []
    for name in ("once", "again"):
        start = time.monotonic()
        sabueso("intake", "../a.csv", "--as", name, cwd=case)
        times.append(time.monotonic() - start)
    # Moments over the time that it takes undisturbed; what is left of one must not stand in the
    # way of the next.
    shares = [0.02, *(random.Random(20).uniform(0.1, 1.1) for _ in range(2))]
    outcomes = []
    for i, share in enumerate(shares):
        table = f"t{i}"
        process = subprocess.Popen(
            [sys.executable, "-m", "sabueso", "intake", "../a.csv", "--as", table],
            cwd=case, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(share * min(times))
        process.kill()
        process.wait()
        taken = FileRegister(case / "register.db").events("source", subject=table)
        outcomes.append(bool(taken))
        report = inside_json("intake", "../a.csv", "--as", table, cwd=case)
        assert bool(report["already_taken"]) == bool(taken)
        for event in FileRegister(case / "register.db").events("source", subject=table):
            assert pq.read_metadata(case / event.body["parquet"]).num_rows == 30_000
    assert not all(outcomes), "the first was killed before it could end"
    last = inside_json("try", "zscore", "t2", cwd=case)["population"]
    assert last["rows"] == 30_000 and last["total"] == f"{sum(range(30_000)) + 7_500}.00"
    assert not list(case.rglob("*.part"))


keys = st.dictionaries(
    st.text(max_size=5), st.one_of(st.text(max_size=8), st.integers(), st.none()), min_size=1
)


@given(keys, keys)
def test_ids_depend_on_the_subject_alone(one, other):
    backwards = dict(reversed(list(one.items())))
    assert canonical(one) == canonical(backwards)
    known: dict[str, tuple[str, str]] = {}
    first = exception_id("PAY", "payments", canonical(one), known.get)
    known[first] = ("payments", canonical(one))
    assert exception_id("PAY", "payments", canonical(one), known.get) == first
    assert parse_id(first.lower().replace("0", "o").replace("1", "l")) == first
    # Another subject with the same characters gets longer ones.
    known[first] = ("payments", "somebody else")
    longer = exception_id("PAY", "payments", canonical(one), known.get)
    assert longer.startswith(first) and len(longer) == len(first) + 1


@pytest.mark.parametrize("text", ["", "PAY", "PAY-12", "PAY-12U45", "-12345"])
def test_what_is_no_id(text):
    with pytest.raises(UserError, match="no exception id"):
        parse_id(text)


def test_cells_that_a_spreadsheet_would_run():
    assert [safe_cell(c) for c in ("=1+1", "+x", "-x", "@x", "-12.50", "x=1", 5)] == [
        "'=1+1", "'+x", "'-x", "'@x", "-12.50", "x=1", 5,
    ]  # fmt: skip


def test_a_changed_file_replaces_the_old_one_when_told(tmp_path):
    inside("open", "c", cwd=tmp_path)
    case, source = tmp_path / "c", tmp_path / "a.csv"
    source.write_text("id,date,amount\nA,2024-01-02,1.00\nB,2024-01-03,2.00\n")
    inside("intake", "../a.csv", "--as", "a", cwd=case)
    source.write_text("id,date,amount\nA,2024-01-02,1.00\nB,2024-01-03,2.50\nC,2024-01-04,4.00\n")
    assert "--replace" in inside("intake", "../a.csv", "--as", "a", cwd=case, code=2).stderr
    report = inside_json("intake", "../a.csv", "--as", "a", "--replace", cwd=case)
    assert report["files"][0]["replaces"]
    assert inside_json("dig", "a", cwd=case)["population"]["total"] == "7.50"
    # The old one is superseded, not gone: its rows and its event stay.
    assert len(list((case / "population" / "a").glob("*.parquet"))) == 2
    assert len(FileRegister(case / "register.db").events("source")) == 2


def test_the_clients_control_figures(tmp_path):
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    for name, amount in (("a", "1.25"), ("b", "2.50")):
        (tmp_path / f"{name}.csv").write_text(f"id,amount\nX,{amount}\nY,10.00\n")
    inside("intake", "../a.csv", "--as", "t", cwd=case)
    plan = (case / "case.toml").read_text()
    control = (
        '[tables.t.control]\nrows = 4\nsum = "23.75"\nfiles = { "b.csv" = { sum = "12.51" } }\n'
    )
    (case / "case.toml").write_text(plan + control)
    done = inside("intake", "../b.csv", "--as", "t", "--gate", cwd=case, code=3)
    assert "control of the table: rows stated 4, the same found" in done.stdout
    assert "control of the table: sum stated 23.75, the same found" in done.stdout
    assert "control of b.csv: sum stated 12.51, found 12.50, difference 0.01" in done.stdout


@pytest.mark.long
def test_papers_as_data_tie_with_the_run(case):
    import pyarrow.parquet

    folder = shorten(case, "account totals") / "papers" / "data"
    inside("paper", cwd=case)
    listed = json.loads((folder / "contents.json").read_text())
    tables = {}
    for each in listed["files"]:
        content = (folder / each["file"]).read_bytes()
        assert hashlib.sha256(content).hexdigest() == each["sha256"]
        rows = list(csv.DictReader(io.StringIO(content.decode("utf-8-sig"))))
        assert len(rows) == each["rows"]
        tables[each["file"].removesuffix(".csv")] = rows
    queue = inside_json("queue", cwd=case)
    assert [row["id"] for row in tables["exceptions"][: len(queue)]] == [e["id"] for e in queue]
    for row in tables["screens"]:
        name = "screen-" + re.sub("[^a-z0-9]+", "-", row["screen"].lower())
        assert len(tables[f"{name}-flags"]) == int(row["flagged"])
        if row["test"] == "digits":
            classes = tables[f"{name}-classes"]
            assert sum(int(each["count"]) for each in classes) == int(row["used"])
            assert sum(each["flagged"] == "True" for each in classes) == int(row["flagged"])
    html = (case / "papers" / "working-paper.html").read_text()
    assert "data/screen-first-digit-of-payments-classes" in html
    # Another form takes the place of the first, but for a file that was changed since, and others'.
    (folder / "rules.csv").write_text("my own notes")
    (folder / "mine.csv").write_text("mine")
    inside("paper", "--data", "parquet", cwd=case)
    assert {p.name for p in folder.glob("*.csv")} == {"rules.csv", "mine.csv"}
    parquet = pyarrow.parquet.read_table(folder / "exceptions.parquet").to_pylist()
    inside("paper", "--data", "json", cwd=case)
    rows = json.loads((folder / "exceptions.json").read_text())["rows"]
    assert [row["id"] for row in rows] == [row["id"] for row in parquet]
    assert [row["amount"] for row in rows] == [
        None if row["amount"] is None else str(row["amount"]) for row in parquet
    ]


def test_marks_are_hashed_again_after_any_write_of_others(case):
    path, statement = case / "register.db", "UPDATE marks SET amount = '1.00' WHERE rank = 2"
    inside("queue", cwd=case)
    ident = inside_json("queue", cwd=case)[1]["id"]
    inside("review", ident, "--cleared", "--reason", "seen", "--as", "KL", cwd=case)
    inside("queue", cwd=case)
    with sqlite3.connect(path) as database:
        database.execute("DROP TRIGGER no_update_marks")
        database.execute(statement)
    database.close()
    for command in (["queue"], ["review", ident, "--reopen", "--reason", "x", "--as", "KL"]):
        assert "is not what was recorded" in inside(*command, cwd=case, code=2).stderr
    # Where somebody set the time back as well, a paper, a seal and --verify find it out.
    known = json.loads((case / ".verified.json").read_text())
    size, when = known["register"].split(" bytes, ")
    assert int(size) == path.stat().st_size
    os.utime(path, ns=(int(when), int(when)))
    for command in (["paper"], ["queue", "--verify"], ["seal", "--as", "KL"]):
        assert "altered" in inside(*command, cwd=case, code=2).stderr
