"""The built program: the sample case, the commands, what loads, and every user's mistake."""

from __future__ import annotations

import csv
import importlib.util
import json
import os
import re
import subprocess
import sys
from collections.abc import Iterator, Sequence
from decimal import Decimal
from pathlib import Path

import pytest
from python_calamine import CalamineWorkbook

from conftest import as_json, inside, inside_json, sabueso
from sabueso.case.folder import Case
from sabueso.case.queue import queue
from sabueso.cli.main import COMMANDS
from sabueso.cli.options import KEPT, kept_text

ROOT = Path(__file__).parents[2]
README = ROOT / "README.md"
_spec = importlib.util.spec_from_file_location("recall", ROOT / "bench" / "recall.py")
assert _spec is not None and _spec.loader is not None
recall = importlib.util.module_from_spec(_spec)
_spec.loader.exec_module(recall)


def _answers(case: Path) -> dict[str, set[tuple[str, str]]]:
    found: dict[str, set[tuple[str, str]]] = {}
    with (case / "inbox" / "answers.csv").open(encoding="utf-8", newline="") as file:
        for row in csv.DictReader(file):
            found.setdefault(row["kind"], set()).add((row["table"], row["key"]))
    return found


def _first(case: Path, count: int) -> dict[tuple[str, str], dict]:
    """Exceptions by the name that the answer key gives their subject."""
    named = {}
    for item in as_json("queue", "--top", str(count), cwd=case):
        subject = item["subject"]
        for test in ("first", "first-two"):
            if test in subject:
                named[item["table"], f"{test} {subject[test]}"] = item
        for column in ("pago", "cuenta", "empleado"):
            if column in subject:
                named[item["table"], str(subject[column])] = item
    return named


def _found_by_kind(case: Path, *firsts: int) -> Iterator[tuple[dict[str, float], int]]:
    """The share of what is planted, by kind, that so many first exceptions find, as the benchmark counts it; and
    how many of them are about innocents alone."""
    with (case / "inbox" / "answers.csv").open(encoding="utf-8", newline="") as file:
        answers = list(csv.DictReader(file))
    with Case(case) as opened:
        every = recall.found_in(opened, answers, queue(opened)[: max(firsts)])
    for first in firsts:
        told = every[:first]
        seen = set().union(*told)
        kinds: dict[str, list[bool]] = {}
        for number, answer in enumerate(answers):
            kinds.setdefault(answer["kind"], []).append(number in seen)
        innocents = sum(bool(h) and all(answers[n]["kind"] == "innocent" for n in h) for h in told)
        yield {k: sum(v) / len(v) for k, v in kinds.items() if k != "innocent"}, innocents


def _check_planted(case: Path) -> None:
    (kinds, _), (at_once, innocents) = _found_by_kind(case, 100, 50)
    assert set(kinds) == {str(kind) for kind in range(1, 17)}
    assert sum(kinds.values()) / len(kinds) >= 0.9
    assert sum(share >= 0.7 for share in kinds.values()) >= 15
    assert sum(at_once.values()) / len(at_once) >= 0.7
    assert innocents <= 5
    # What a reviewer would clear is cleared with its reason.
    answers, found = _answers(case), _first(case, 100)
    cleared = [found[key] for key in answers["innocent"] if key in found]
    assert len(cleared) >= 4
    assert all(item["reason"] for item in cleared if item["status"] == "cleared")
    assert sum(item["status"] == "cleared" for item in cleared) >= 4


def test_what_is_planted_is_among_the_first(marisma):
    """Of other seeds, and of another world, ``bench/recall.py`` tells."""
    _check_planted(marisma)


def test_the_preparer_behind_each_digit_excess_is_named(marisma):
    for number, who in (("01", "mbo"), ("02", "rvc")):
        finding = json.loads((marisma / "runs" / "0001" / f"finding-{number}.json").read_text())
        behind = {b["value"] for b in finding["groups"][0]["behind"] if b["p_adjusted"] < 1e-4}
        assert who in behind


def test_the_sample_intake_reconciles(marisma):
    events = json.loads(inside("queue", "--format", "json", cwd=marisma).stdout)
    assert events
    report = inside_json("intake", *map(str, sorted((marisma / "inbox/payments").glob("*.csv"))),
                     "--as", "again", "--check", cwd=marisma)  # fmt: skip
    total = report["total"]
    assert total["quarantined"] == 9
    assert (
        total["read"] == total["accepted"] + total["quarantined"] + total["totals"] + total["blank"]
    )
    # The sum, computed from the bytes of the files without this program.
    expected = Decimal(0)
    damaged = 0
    for path in (marisma / "inbox/payments").glob("*.csv"):
        for line in path.read_bytes().decode("latin-1").splitlines()[1:]:
            cells = line.split(";")
            if line.startswith("TOTAL") or not line:
                continue
            amount = cells[5].replace(".", "").replace(",", ".") if len(cells) == 8 else "damaged"
            whole = re.fullmatch(r"-?\d+\.\d\d", amount) and '"' not in line and "31/06" not in line
            if whole:
                expected += Decimal(amount)
            damaged += not whole
    assert damaged == 9
    assert Decimal(total["amount"]) == expected
    stated = [t for f in report["files"] for t in f["totals_lines"]]
    assert (len(stated), sum(t["agrees"] for t in stated)) == (24, 23)
    quarantine = (marisma / "quarantine/payments/pagos-2025-07.csv").read_text(encoding="utf-8-sig")
    assert len(list(csv.DictReader(quarantine.splitlines()))) == 9


def test_paper_holds_everything_and_nothing_from_elsewhere(marisma):
    page = (marisma / "papers/working-paper.html").read_text(encoding="utf-8")
    assert not re.search(r"(?:src|href)=\"(?!data:|#)", page)
    assert "<script" not in page
    # Of each screen that has something to draw: all but those of nothing, or of equals, flagged.
    assert page.count("data:image/svg+xml") == 21
    for item in as_json("queue", "--top", "500", cwd=marisma):
        assert item["id"] in page
        assert item["reason"] in page
    book = CalamineWorkbook.from_path(str(marisma / "papers/exceptions.xlsx"))
    rows = book.get_sheet_by_name("exceptions").to_python()
    assert len(rows) - 1 == len(as_json("queue", "--top", "500", cwd=marisma))


def test_data_cannot_become_markup_or_a_formula(tmp_path):
    inside("open", "c", cwd=tmp_path)
    case = tmp_path / "c"
    rows = [f'"<b>{i}</b>",2024-01-02,{10 + i % 7}.00,"=HYPERLINK(""x"")"' for i in range(40)]
    rows.append('"<script>alert(1)</script>",2024-01-03,99999.00,"=1+1"')
    (tmp_path / "x.csv").write_text("\n".join(["id,date,amount,supplier", *rows]) + "\n")
    inside("intake", "../x.csv", "--as", "x", cwd=case)
    inside("try", "fences", "x", "--keep", "=cmd()", cwd=case)
    inside("screen", cwd=case)
    inside("paper", cwd=case)
    page = (case / "papers/working-paper.html").read_text()
    assert "<script>alert" not in page and "&lt;script&gt;alert(1)" in page
    out = inside("dig", "x", "--rows", "--format", "csv", cwd=case).stdout
    assert ",'=1+1," in out and ",=" not in out
    inside("queue", "--out", "q.xlsx", cwd=case)
    row = CalamineWorkbook.from_path(str(case / "q.xlsx")).get_sheet_by_index(0).to_python()[1]
    assert row[7] == "=cmd()"


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["quue"], "did you mean 'queue'"),
        (["try", "digit", "payments"], "did you mean 'digits'"),
        (["try", "digits", "paymnts"], "did you mean 'payments'"),
        (["try", "digits", "payments", "--on", "imprte"], "did you mean 'importe'"),
        (["try", "digits", "payments", "--on", "concepto"], "holds text"),
        (["try", "digits", "payments", "--where", "importe > (select 1)"], "not allowed"),
        (["try", "zscore", "payments", "--limit", "x"], "limit = 'x'"),
        (["try", "zscore", "payments", "--out", "x.pdf"], "expected a file that ends in"),
        (["try", "zscore", "payments", "--out", "nowhere/x.csv"], "there is no folder"),
        (["try", "periods", "journal", "--per", "account", "--current", "2025"], "--base PERIOD"),
        (
            [
                "try",
                "periods",
                "journal",
                "--per",
                "account",
                "--current",
                "2025",
                "--base",
                "2025-Q1",
            ],
            "overlap",
        ),
        (["dig", "payments", "--by", "imprte"], "did you mean 'importe'"),
        (["dig", "PAY-00000"], "no exception"),
        (["review", "PAY-0"], "no exception id"),
        (["queue", "--top", "0"], "at least 1"),
        (["queue", "--screen", "nothing like it"], "no screen"),
        (["screen", "no such"], "no one screen"),
        (["intake", "nothing.csv", "--as", "x"], "no such file"),
        (["intake", "inbox/payments", "--as", "x y"], "not usable"),
        (["intake", "runs", "--as", "x"], "no file that a reader takes"),
        (["note", "payments", "--observation", " ", "--as", "KL"], "is empty"),
        (["open", "."], "is a case already"),
        (["demo", "inbox"], "not empty"),
    ],
)
def test_mistakes_get_one_sentence(marisma, arguments, message):
    before = sorted(p for p in marisma.rglob("*") if p.is_file())
    done = inside(*arguments, cwd=marisma, code=2)
    assert re.search(message, done.stderr), done.stderr
    assert done.stderr.startswith("sabueso: ") and done.stderr.count("\n") == 1
    assert "Traceback" not in done.stderr and not done.stdout
    assert sorted(p for p in marisma.rglob("*") if p.is_file()) == before


@pytest.mark.parametrize(
    ("plan", "message"),
    [
        ("[case]\nname = 'x'\ncurrency = \n", "line 3"),
        (
            "[case]\nname = 'x'\n\n[engin]\nkind = 'duckdb'\n",
            r"line 4: engin: there is no such key; did you mean 'engine'",
        ),
        ("[case]\nname = 'x'\n[tables.pay]\nprefix = 'pay'\n", r"line 4: tables\.pay\.prefix"),
        (
            "[case]\nname = 'x'\n[tables.pay]\nprefix = 'PAY'\nroles = { amunt = 'a' }\n",
            "line 5.*did you mean 'amount'",
        ),
        (
            "[case]\nname = 'x'\n[[screens]]\nname = 's'\ntable = 'pay'\n",
            r"line 3: screens\.0\.test.*required",
        ),
        ("name = 'x'\n", "required|no such key"),
    ],
)
def test_a_malformed_plan_names_its_line(tmp_path, plan, message):
    (tmp_path / "case.toml").write_text(plan)
    done = sabueso("queue", cwd=tmp_path, code=2)
    assert re.search(message, done.stderr), done.stderr
    assert done.stderr.count("\n") == 1


def test_outside_of_a_case(tmp_path):
    assert "sabueso open" in sabueso("queue", cwd=tmp_path, code=2).stderr
    assert "no case folder" in sabueso("queue", "--case", "nowhere", cwd=tmp_path, code=2).stderr
    sabueso("open", "c", cwd=tmp_path)
    assert "no run is recorded" in sabueso("paper", "--case", "c", cwd=tmp_path, code=2).stderr
    assert "has no screens" in sabueso("screen", cwd=tmp_path, code=2, SABUESO_CASE="c").stderr


def test_outputs_in_every_form(marisma, tmp_path):
    base = ["try", "fences", "payroll", "--by", "categoria"]
    flagged = inside_json(*base, cwd=marisma)["flag_count"]
    for suffix in ("csv", "xlsx", "parquet", "json", "html", "png", "svg"):
        out = tmp_path / f"f.{suffix}"
        inside(*base, "--out", str(out), cwd=marisma)
        assert out.stat().st_size > 1000
    with (tmp_path / "f.csv").open(encoding="utf-8-sig", newline="") as file:
        assert len(list(csv.DictReader(file))) == flagged
    text = inside(*base, cwd=marisma).stdout
    assert max(map(len, text.split("next:")[0].splitlines())) <= 100
    assert "\x1b" not in text


def test_help_and_what_it_loads(marisma):
    for command in COMMANDS:
        text = inside(command, "--help", cwd=marisma).stdout
        assert text.count(f"sabueso {command}") >= 3, command
    assert "--by-whom" in sabueso("try", "digits", "--help").stdout
    heavy = (
        "duckdb",
        "sqlglot",
        "numpy",
        "pyarrow",
        "pydantic",
        "sqlalchemy",
        "rich",
        "scipy",
        "scipy.stats",
        "pyarrow.compute",
        "matplotlib",
        "pandas",
        "numpy.f2py.crackfortran",
        "numpy.testing._private",
        "sabueso.population.survey",
        "sabueso.screens.limits.proposing",
        "sabueso.screens.digits.proposed",
        "sabueso.screens.repeats.proposed",
    )

    def loaded(*lines: Sequence[str]) -> set[str]:
        code = (
            "import sys; from sabueso.cli.main import main\n"
            f"for line in {[list(line) for line in lines]!r}:\n"
            "    try: main(line)\n"
            "    except SystemExit: pass\n"
            f"print('LOADED', *[m for m in {heavy!r} if m in sys.modules])"
        )
        done = subprocess.run(
            [sys.executable, "-c", code],
            cwd=marisma,
            capture_output=True,
            encoding="utf-8",
            check=True,
        )
        return set(done.stdout.rpartition("LOADED")[2].split())

    helps = [[name, "--help"] for name in COMMANDS] + [["try", "zscore", "--help"]]
    assert loaded(["--help"], ["--version"], *helps) == set()
    assert loaded(["queue"]) == {"pydantic", "rich"}
    spared = {"matplotlib", "pandas", "sqlalchemy", "scipy.stats", "pyarrow.compute"}
    spared |= {"numpy.f2py.crackfortran", "numpy.testing._private"}
    # What proposes screens, and what describes tables, is not needed to run one.
    spared |= {"sabueso.population.survey", "sabueso.screens.limits.proposing"}
    spared |= {"sabueso.screens.digits.proposed", "sabueso.screens.repeats.proposed"}
    for test in ("zscore", "digits"):
        assert not spared & loaded(["try", test, "payments"]), test
    for test in ("fences", "top", "repeats"):
        slow = {"scipy", "sabueso.population.survey", "sabueso.screens.repeats.proposed"}
        assert not slow & loaded(["try", test, "payments"]), test


def completed(line: str, cwd: Path, tmp_path: Path) -> list[str]:
    """What the shell is told when the tab key is pressed at the end of a line."""
    told = tmp_path / "told"
    told.unlink(missing_ok=True)
    environment = os.environ | {
        "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_STDOUT_FILENAME": str(told),
        "COMP_LINE": line, "COMP_POINT": str(len(line)), "COMP_TYPE": "9",
    }  # fmt: skip
    subprocess.run([sys.executable, "-m", "sabueso"], cwd=cwd, env=environment, check=False)
    return [word.strip() for word in told.read_text("utf-8").splitlines()]


def test_completion_knows_the_case(marisma, tmp_path):
    identity = as_json("queue", "--top", "1", cwd=marisma)[0]["id"]
    for line, words in [
        ("sabueso qu", ["queue"]),
        ("sabueso try zs", ["zscore"]),
        ("sabueso try zscore pay", ["payments", "payroll"]),
        ("sabueso try zscore payments --sc", ["--scale"]),
        ("sabueso try zscore payments --scale l", ["log"]),
        (f"sabueso why {identity}", [identity]),
        (f"sabueso review {identity[:4]}", None),
        ("sabueso screen ", None),
    ]:
        found = completed(line, marisma, tmp_path)
        assert found == words if words else len(found) > 1, line
    nowhere = tmp_path / "nowhere"
    nowhere.mkdir()
    assert completed("sabueso try zscore pay", nowhere, tmp_path) == []
    assert list(nowhere.iterdir()) == []


def test_kept_options_are_those_of_the_models():
    assert KEPT.read_text("utf-8") == kept_text(), "run: python -m sabueso.cli.options"


def test_the_tour_prints_what_the_readme_says(marisma):
    """Every command of the README with its output, run on the sample case."""
    blocks = re.findall(
        r"```console\n\$ (sabueso [^\n]+)\n(.*?)```", README.read_text("utf-8"), re.S
    )
    assert len(blocks) >= 5
    for command, expected in blocks:
        import shlex

        arguments = shlex.split(command)[1:]
        if arguments[0] == "demo":
            continue
        printed = inside(*arguments, cwd=marisma).stdout
        lines = [line.rstrip() for line in printed.splitlines()]
        wanted = [line.rstrip() for line in expected.rstrip("\n").splitlines()]
        assert _plain(lines) == _plain(wanted), command


def _plain(lines: list[str]) -> list[str]:
    """Without what the clock decides."""
    return [re.sub(r"20\d\d-\d\d-\d\d \d\d:\d\d(:\d\d UTC)?", "TIME", line) for line in lines]
