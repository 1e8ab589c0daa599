"""Every example of every --help, and of a test from elsewhere, run as it stands."""

from __future__ import annotations

import csv
import os
import random
import re
import shlex
import shutil
import sqlite3
from importlib import import_module
from pathlib import Path

import pytest

from conftest import inside, sabueso, shorten
from sabueso.base import installed
from sabueso.cli.main import COMMANDS
from sabueso.population import engines
from sabueso.population.engines import EngineSettings, open_engine
from sabueso.screens import find_screen, screen_names

LONG = re.compile(
    r"sabueso (paper|intake (inbox$|.*--again)|survey($| .*--propose)|redo|review --sheet|queue --per|try (traits|.* --out))"
)
"""What takes seconds each, and is run by other tests as well."""
EXAMPLES = [
    pytest.param(name, line, marks=[pytest.mark.long] if LONG.search(line) else [])
    for name, line in [
        *(
            (n, example)
            for n in COMMANDS
            for example in import_module(f"sabueso.cli.{n}_").EXAMPLES
        ),
        *(("try", example) for t in screen_names() for example in find_screen(t).examples),
    ]
]


@pytest.fixture(scope="module")
def worked(marisma: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the sample case, beside a client's database."""
    case = Path(shutil.copytree(marisma, tmp_path_factory.mktemp("examples") / "marisma"))
    ledger = sqlite3.connect(case / "ledger.db")
    ledger.execute("CREATE TABLE entries (id TEXT, day TEXT, amount NUMERIC)")
    ledger.executemany(
        "INSERT INTO entries VALUES (?, ?, ?)", [(f"E{i}", "2025-01-02", i * 1.5) for i in range(9)]
    )
    ledger.commit()
    ledger.close()
    return case


@pytest.fixture(scope="module")
def brief(worked: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same with a short programme."""
    case = Path(shutil.copytree(worked, tmp_path_factory.mktemp("brief") / "marisma"))
    return shorten(case, "account totals")


@pytest.fixture(scope="module")
def few(marisma: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A case of two tables of the sample's."""
    case = tmp_path_factory.mktemp("few")
    inside("open", ".", cwd=case)
    for name in ("staff", "payroll"):
        (found,) = (p for p in (marisma / "inbox").iterdir() if p.stem == name)
        inside("intake", str(found), "--as", name, cwd=case)
    inside("try", "fences", "payroll", "--by", "categoria", "--keep", "pay", cwd=case)
    inside("screen", cwd=case)
    return case


@pytest.mark.parametrize(("name", "line"), EXAMPLES)
def test_examples_run_on_the_sample_case(name, line, worked, brief, tmp_path, request):
    if name == "demo":
        # What they build is built by other tests; here that they are understood.
        assert inside("demo", "--help", cwd=worked).stdout
        return
    case = brief if name in ("paper", "screen") else worked
    if "--propose" in line or name == "redo":  # of few tables it has all that it has
        case = request.getfixturevalue("few")
    folder = case.parent if name == "open" or "--case" in line else case
    if name == "withdraw":  # what it takes out, the others need
        folder = shutil.copytree(worked, tmp_path / "marisma")
    for command in line.split(" && "):
        # Without a terminal a walk is refused, in one sentence.
        code = (0, 3) if "--gate" in line else 2 if "--walk" in line else 0
        inside(*shlex.split(command)[1:], cwd=folder, code=code)
        if name == "open":
            shutil.rmtree(folder / "my-case")


@pytest.mark.parametrize("test", screen_names())
def test_the_help_of_a_test_is_its_own(test, worked):
    said = inside("try", test, "--help", cwd=worked).stdout
    assert len(find_screen(test).examples) >= 3
    for other in screen_names():
        for line in find_screen(other).examples:
            assert (line in said) == (other == test)
    assert ("--figure" in said) == bool(find_screen(test).figures)


FOREIGN = '''
"""A test of another package: rows whose amount ends in 00."""

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import missing
from sabueso.screens.interface import Caution, Finding, Flags
from sabueso.screens.limits.table import RowColumns
from sabueso.screens.settings import MeasureSettings


class Round:
    name = "round"
    summary = "rows whose amount ends in 00"
    reference = "none"
    settings = MeasureSettings

    def run(self, population, settings):
        table = population.table
        measure = table.measure(settings.on)
        reasons = [missing(measure)]
        columns = RowColumns.of(table, measure)
        base = population.base(columns.trees(), reasons)
        select = exp.select("*").from_(base.subquery("b"))
        ends = exp.EQ(this=exp.Mod(this=sql.column("amount", "b"), expression=sql.integer(100)), expression=sql.integer(0))
        found = columns.gathered(population.query(select.where(ends).limit(40)))
        found = found.append_column("score", pa.array([1.0] * found.num_rows))
        account = population.account(measure, reasons)
        return Finding(
            test=self.name, table=table.name, on=measure.name, by=[], settings=settings.model_dump(), population=account,
            groups=[{"group": {}, "n": account.used, "share": found.num_rows / account.used, "parts": [1, 2]}],
            flags=Flags("row", found), tests_made=account.used, cautions=[Caution("by_hand", "a test of the suite's", {})],
            not_tested=[], currency=table.currency, scale=measure.scale,
        )


class Half:
    renders = frozenset({"EXACT_SUM"})
'''


@pytest.fixture
def installed_beside(tmp_path, monkeypatch):
    """A package of somebody else's, installed for this process and for those it starts."""
    place = tmp_path / "site"
    (place / "foreign-1.0.dist-info").mkdir(parents=True)
    (place / "foreign.py").write_text(FOREIGN)
    (place / "foreign-1.0.dist-info" / "METADATA").write_text(
        "Metadata-Version: 2.1\nName: foreign\nVersion: 1.0\n"
    )
    (place / "foreign-1.0.dist-info" / "entry_points.txt").write_text(
        "[sabueso.screens]\nround = foreign:Round\n\n[sabueso.engines]\nhalf = foreign:Half\n"
    )
    monkeypatch.setenv(
        "PYTHONPATH", os.pathsep.join([str(place), os.environ.get("PYTHONPATH", "")])
    )
    monkeypatch.syspath_prepend(place)
    installed.every.cache_clear()
    yield
    installed.every.cache_clear()


@pytest.mark.usefixtures("installed_beside")
def test_a_test_of_another_package_goes_through_every_command(marisma, tmp_path):
    case = shorten(Path(shutil.copytree(marisma, tmp_path / "case")))

    def run(*arguments: str, code: int = 0) -> str:
        said = inside(*arguments, cwd=case, code=code)
        return said.stdout + said.stderr

    # As a process of its own finds it.
    assert "rows whose amount ends in 00" in sabueso("methods", "round", cwd=case).stdout
    said = run("try", "round", "payments", "--keep", "round amounts")
    assert "caution by_hand" in said and "flagged 40 of" in said
    for form in (
        ["--format", "json"],
        ["--format", "csv"],
        ["--out", "x.html"],
        ["--out", "x.xlsx"],
        ["--out", "x.json"],
        ["--out", "x.png"],
    ):
        run("try", "round", "payments", *form)
    assert (case / "x.png").stat().st_size > 10_000, "a test without a figure of its own has bars"
    assert "round amounts" in run("screen", "round")
    identity = next(
        line.split()[1] for line in run("queue", "--screen", "round").splitlines() if "PAY-" in line
    )
    for command in (["dig", identity], ["why", identity], ["paper"], ["queue", "--out", "q.csv"],
                    ["review", identity, "--cleared", "--reason", "x", "--as", "KL"]):  # fmt: skip
        run(*command)
    assert "Flagged 40 of" in (case / "papers" / "working-paper.html").read_text()
    plan = case / "case.toml"
    plan.write_text(plan.read_text() + '\n[engine]\nkind = "half"\n')
    assert "the engine 'half' does not write EXACT_PRODUCT_SUM, EXACT_Q" in run(
        "dig", "payments", code=2
    )


def test_engines_write_every_node():
    for point in installed.every(engines.GROUP):
        assert point.load().renders == engines.OWN_NODES
    open_engine(EngineSettings()).close()


BEGIN = (
    "sabueso queue",
    "sabueso dig payments --by cuenta,proveedor",
    "sabueso dig journal --by month --across weekday",
    'sabueso dig payments --by "band(importe, 0, 1000)" --having "count(*) > 10"',
    "sabueso dig payroll --rows",
    "sabueso survey",
    "sabueso survey payments importe --by cuenta",
    'sabueso try digits payments --digits first-two --where "importe > 0"',
    "sabueso try zscore payments --by cuenta",
    "sabueso try periods journal --per cuenta --base 2024 --current 2025 --amount-limit 50000",
    "sabueso screen",
    "sabueso redo",
)


def _followed(case, begin, deep):
    """Run commands and those that each prints as the next, so deep, one of each kind; all shapes that were seen."""
    waiting, seen = [(line, 1) for line in begin], set(begin)
    while waiting:
        line, depth = waiting.pop(0)
        # A paper that was written again after the seal is not the one that was sealed.
        code = 2 if "--walk" in line else (0, 2) if "seal --check" in line else 0
        said = inside(*shlex.split(line)[1:], cwd=case, code=code).stdout
        for printed in said.splitlines():
            found = re.match(r" (?:next:|     ) (sabueso .+)", printed)
            # One of each kind: its ids and values apart.
            shape = re.sub(r"[A-Z]+-[0-9A-Z]{5}|'[^']*'", "·", found[1]) if found else ""
            if found and depth < deep and shape not in seen:
                seen.add(shape)
                waiting.append((found[1], depth + 1))
    return seen


@pytest.mark.long
def test_every_command_that_is_printed_as_next_runs(marisma, tmp_path):
    """Followed two deep, from what is usually begun with."""
    case = shorten(Path(shutil.copytree(marisma, tmp_path / "m")), "account totals")
    assert len(_followed(case, BEGIN, 3)) > 40


def test_whatever_columns_are_called_what_is_printed_as_next_runs(tmp_path):
    """Names with blanks, marks and quotes, in tables with and without dates, parties and amounts."""
    rng = random.Random(3)
    bills, days = [], [f"{2023 + i // 180}-{1 + i % 12:02}-{1 + i % 28:02}" for i in range(360)]
    for i, day in enumerate(days):
        work = rng.randint(10_000, 900_000) / 100
        bills.append([f"PA-{i:04}", f"V{i % 7}", day, work, round(work / 10, 2), rng.choice("abc")])
    tables = {
        "bills": (["App No.", "Vendor's ID", "App Date", "Net $ Due", "Held %", 'Kind "x"'], bills),
        "vendors": (["Vendor's ID", "Legal name"], [[f"V{i}", f"House {i}"] for i in range(7)]),
        "meters": (["Meter #", "Read on", "m³"], [[f"M{i % 9}", day, i] for i, day in enumerate(days)]),
    }  # fmt: skip
    (tmp_path / "in").mkdir()
    for name, (head, rows) in tables.items():
        with (tmp_path / "in" / f"{name}.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([head, *rows])
    inside("open", "case", cwd=tmp_path)
    inside("intake", "../in", "--yes", cwd=tmp_path / "case")
    begin = ["sabueso survey", *(f"sabueso survey {name}" for name in tables), "sabueso screen"]
    assert len(_followed(tmp_path / "case", begin, 3)) > 12
