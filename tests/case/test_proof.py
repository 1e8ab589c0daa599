"""Runs performed again, and the seal: whatever is altered shows."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import sqlite3
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import inside, inside_json, shorten
from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.sealing import check_seal

DOCS = Path(__file__).parents[2] / "docs"


@pytest.fixture(scope="module")
def sealed(marisma, tmp_path_factory):
    """The sample case, sealed. What a test alters it puts back."""
    case = tmp_path_factory.mktemp("sealed") / "marisma"
    shutil.copytree(marisma, case)
    told = inside_json("seal", "--as", "KL", cwd=case)
    assert len(told["digest"]) == 64 and told["sources"] > 20
    return case


def faults(folder: Path) -> list[str]:
    with Case.find(str(folder)) as case:
        try:
            return check_seal(case).faults
        except UserError as error:
            return [str(error)]


@pytest.mark.long
def test_a_run_performed_again_is_equal_whatever_has_changed(marisma, tmp_path):
    case = tmp_path / "m"
    shutil.copytree(marisma, case)
    first = inside_json("queue", "--top", "3", cwd=case)
    row = next(item for item in inside_json("queue", cwd=case) if item["kind"] == "row")
    reason = ("--reason", "paid back", "--as", "KL")
    inside("review", row["id"], "--cleared", "--set-aside", *reason, cwd=case)
    plan = (case / "case.toml").read_text()
    changed = plan.replace("fiscal_year_starts = 1", "fiscal_year_starts = 7")
    (case / "case.toml").write_text(changed.replace('amount = "importe", ', ""))
    assert changed != plan
    inside("withdraw", "budget", "--reason", "of another company", cwd=case)
    done = inside_json("redo", "1", cwd=case)
    assert done["equal"] and len(done["screens"]) == 21
    assert sum(s["marks"] for s in done["screens"]) >= len(first)
    assert "there is no run 7" in inside("redo", "7", cwd=case, code=2).stderr


def test_what_differs_is_named(marisma, tmp_path):
    case = tmp_path / "m"
    shorten(Path(shutil.copytree(marisma, case)))
    inside("screen", cwd=case)
    # A figure is changed together with the hashes that the register has of it: only the rows tell.
    path = case / "runs/0002/finding-01.json"
    content = json.loads(path.read_text())
    content["flag_count"] += 1
    path.write_text(json.dumps(content))
    assert "was altered" in inside("redo", cwd=case, code=2).stderr
    forge(case, path)
    done = inside("redo", cwd=case, code=2)
    assert "flag_count was" in done.stdout and "differs in 1 places" in done.stderr
    kept = case / "runs/0002/plan.toml"
    kept.write_bytes(kept.read_bytes() + b"# more")
    assert "plan.toml" in inside("redo", cwd=case, code=2).stderr


def forge(case: Path, path: Path) -> None:
    """Make the register state a file's hash as it is now, and chain its events anew."""
    import hashlib

    database = sqlite3.connect(case / "register.db")
    database.execute("DROP TRIGGER no_update_events")
    before = "0" * 64
    for seq, at, kind, subject, initials, body in database.execute(
        "SELECT seq, at, kind, subject, initials, body FROM events ORDER BY seq"
    ).fetchall():
        held = json.loads(body)
        if kind == "run" and path.name in held["files"]:
            held["files"][path.name] = hashlib.sha256(path.read_bytes()).hexdigest()
            body = json.dumps(held, ensure_ascii=False, sort_keys=True)
        text = json.dumps([before, seq, at, kind, subject, initials, body], ensure_ascii=False)
        own = hashlib.sha256(text.encode()).hexdigest()
        database.execute(
            "UPDATE events SET body = ?, previous = ?, hash = ? WHERE seq = ?",
            (body, before, own, seq),
        )
        before = own
    database.commit()
    database.close()


def test_a_sealed_case_is_as_it_was(sealed):
    assert faults(sealed) == []
    text = inside("seal", "--check", cwd=sealed).stdout
    assert "are as they were sealed" in " ".join(text.split())
    shown = json.loads((sealed / "seal.json").read_text())["seal"]["sha256"]
    assert shown in text


@pytest.mark.long
def test_any_flipped_byte_is_found(sealed):
    rng = random.Random(7)
    content = json.loads((sealed / "seal.json").read_text())
    names = [*content["files"], *content["sources"]]
    by_kind = {}
    for name in names:
        by_kind.setdefault(name.split("/")[0] + Path(name).suffix, []).append(name)
    assert {"case.toml", "population.parquet", "runs.json", "papers.html"} <= set(by_kind) or len(
        by_kind
    ) > 4
    chosen = [rng.choice(each) for each in by_kind.values() for _ in range(2)]
    for name in [*chosen, *["register.db"] * 8, *["seal.json"] * 4]:
        path = sealed / name
        before = path.read_bytes()
        state = path.stat()
        altered = bytearray(before)
        place = rng.randrange(len(altered))
        if rng.random() < 0.2:
            altered = altered[:place]
        else:
            altered[place] ^= 1 << rng.randrange(8)
        path.write_bytes(altered)
        os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))
        found = faults(sealed)
        path.write_bytes(before)
        os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))
        assert found, (name, place)
    gone = sealed / rng.choice(names)
    kept = gone.read_bytes()
    gone.unlink()
    assert any(gone.name in fault for fault in faults(sealed))
    gone.write_bytes(kept)


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE marks SET amount = '1.00' WHERE rowid = 5",
        "UPDATE marks SET score = score + 1 WHERE rowid = 9",
        "DELETE FROM marks WHERE rowid = 3",
        "DELETE FROM exceptions WHERE rowid = 3",
        "UPDATE exceptions SET key = '{}' WHERE rowid = 2",
        "UPDATE events SET initials = 'XX' WHERE kind = 'disposition'",
        "UPDATE events SET body = replace(body, 'cleared', 'error') WHERE kind = 'disposition'",
        "DELETE FROM events WHERE seq = 20",
        "DELETE FROM events WHERE seq = (SELECT max(seq) FROM events)",
        "DELETE FROM events WHERE seq > (SELECT max(seq) FROM events) - 5",
        "INSERT INTO marks SELECT run, screen || ' ', exception, rank, flagged, score, \"limit\", direction, "
        "p_adjusted, amount, at_stake, label, selector FROM marks LIMIT 1",
    ],
)
def test_rows_edited_in_the_register_are_found(sealed, statement):
    path = sealed / "register.db"
    before = path.read_bytes()
    database = sqlite3.connect(path)
    for (name,) in database.execute(
        "SELECT name FROM sqlite_master WHERE type = 'trigger'"
    ).fetchall():
        database.execute(f"DROP TRIGGER {name}")
    database.execute(statement)
    database.commit()
    database.close()
    found, said = faults(sealed), ""
    if "max(seq)" in statement:
        # Whoever writes to it next is stopped.
        reason = ("--reopen", "--reason", "x", "--as", "AB")
        said = inside("review", "PAY-YMMFX", *reason, cwd=sealed, code=2).stderr
    path.write_bytes(before)
    assert "max(seq)" not in statement or "nothing was written" in said
    assert any("register" in fault for fault in found), found


def test_what_comes_after_a_seal_is_said_and_no_fault(sealed, tmp_path):
    case = tmp_path / "later"
    shutil.copytree(sealed, case)
    found = inside_json("queue", "--status", "open", "--top", "1", cwd=case)[0]["id"]
    inside("review", found, "--cleared", "--reason", "seen", "--as", "AB", cwd=case)
    done = inside_json("seal", "--check", cwd=case)
    assert done["unaltered"] and done["since"] == ["events of the register, 1"]
    inside("screen", "account totals", cwd=case)
    assert any("runs/0002" in each for each in inside_json("seal", "--check", cwd=case)["since"])


def test_without_a_seal_the_register_tells(marisma, tmp_path):
    case = tmp_path / "m"
    shutil.copytree(marisma, case)
    assert inside_json("seal", "--check", cwd=case)["sealed"] is False
    source = next((case / "inbox/payments").glob("*.csv"))
    source.write_bytes(source.read_bytes() + b"x")
    assert source.name in inside("seal", "--check", cwd=case, code=2).stderr
    assert "nothing is sealed" in inside("seal", "--as", "KL", cwd=case, code=2).stderr


def test_the_lines_of_the_page_check_a_seal(sealed, monkeypatch):
    (lines,) = re.findall(r"```python\n(.*?)```", (DOCS / "proof.md").read_text(), re.S)
    monkeypatch.chdir(sealed.parent)
    exec(compile(lines, "proof.md", "exec"), {})
    paper = sealed / "papers/working-paper.html"
    before = paper.read_bytes()
    paper.write_bytes(before[:-1])
    with pytest.raises(AssertionError, match="working-paper"):
        exec(compile(lines, "proof.md", "exec"), {})
    paper.write_bytes(before)


@pytest.mark.parametrize(
    "asked",
    [
        ("digits", "--digits", "first-two", "--where", "importe > 0", "--by-whom", "usuario"),
        ("zscore", "--by", "cuenta", "--scale", "log"),
        ("periods", "--per", "cuenta", "--base", "2024", "--current", "2025"),
    ],
)
def test_the_statements_of_a_finding_run_without_this_program(marisma, tmp_path, asked):
    """Another's connection, over the same files: every statement runs, and the sums are those told."""
    import duckdb

    path = tmp_path / "made.sql"
    name, *options = asked
    inside("try", name, "payments", *options, "--out", str(path), cwd=marisma)
    found = inside_json("try", name, "payments", *options, cwd=marisma)
    connection = duckdb.connect()
    statements = duckdb.extract_statements(path.read_text())
    assert len(statements) > 3
    results = [connection.execute(statement).fetchall() for statement in statements]
    rows, total = found["population"]["rows"], Decimal(found["population"]["total"])

    def adds_up_to(result: list[tuple[object, ...]], told: object) -> bool:
        """Whether a column of a result is told, in one row or as parts: the rows used and those left out."""
        columns = [
            [v for v in column if isinstance(v, type(told))] for column in zip(*result, strict=True)
        ]
        return any(column and sum(column) == told for column in columns)

    assert any(adds_up_to(result, rows) and adds_up_to(result, total) for result in results)
    if name == "digits":
        counts = {c["count"] for c in found["groups"][0]["classes"]}
        assert any(counts <= {v for row in result for v in row} for result in results)
