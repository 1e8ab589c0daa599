"""Fixtures: the built program as a subprocess, the sample case, and populations from plain rows."""

from __future__ import annotations

import datetime as dt
import io
import itertools
import json
import os
import shutil
import subprocess
import sys
import time
import weakref
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from pathlib import Path
from typing import Any, cast

# As the program does, but before NumPy is loaded here.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# The program is started some hundred times: compiled once, and not each time.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)

import hypothesis
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from sabueso.base import outcome
from sabueso.base.errors import UserError
from sabueso.base.libraries import let_pandas_in
from sabueso.case.folder import Case
from sabueso.cli.held import Held, hold, release
from sabueso.cli.main import main
from sabueso.cli.session import UNKEPT
from sabueso.population.engines import Engine, EngineSettings, open_engine
from sabueso.population.population import Population
from sabueso.population.table import Column, Part, Table
from sabueso.population.together import count_together
from sabueso.screens import find_screen

sys.dont_write_bytecode = False

# Few examples; many where they are asked for (CONTRIBUTING.md).
EXAMPLES = int(os.environ.get("SABUESO_TEST_EXAMPLES", "8"))
hypothesis.settings.register_profile(
    "suite",
    deadline=None,
    max_examples=EXAMPLES,
    suppress_health_check=[hypothesis.HealthCheck.function_scoped_fixture],
)
hypothesis.settings.load_profile("suite")

# Java programs that live for a test: to compile for the long run would take most of their time, and to look through
# every class that they load the eighth part of the rest.
os.environ["JAVA_TOOL_OPTIONS"] = (
    "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC -XX:+UnlockDiagnosticVMOptions -XX:-BytecodeVerificationRemote"
)


def _lacking(reporter: Any) -> dict[str, int]:
    """What is to be installed before every test runs, and how many tests wait for it."""
    found: dict[str, int] = {}
    for report in reporter.stats.get("skipped", []):
        reason = str(report.longrepr[2]) if isinstance(report.longrepr, tuple) else ""
        reason = reason.removeprefix("Skipped: ")
        if reason.startswith("install "):
            found[reason] = found.get(reason, 0) + 1
    return found


def pytest_terminal_summary(terminalreporter: Any) -> None:
    for reason, tests in _lacking(terminalreporter).items():
        terminalreporter.write_line(f"{tests} tests were not run; to run them, {reason}")


@pytest.hookimpl(trylast=True)
def pytest_sessionfinish(session: pytest.Session) -> None:
    """Where all must run, as in the project's own checks, a test that could not is a failure."""
    reporter = session.config.pluginmanager.get_plugin("terminalreporter")
    if os.environ.get("SABUESO_TEST_ALL") and reporter is not None and _lacking(reporter):
        session.exitstatus = pytest.ExitCode.TESTS_FAILED


def sabueso(
    *arguments: str, cwd: Path | None = None, code: int = 0, **environment: str
) -> subprocess.CompletedProcess[str]:
    """Run the program as a user would; the exit code must be the one expected."""
    own = ("SABUESO", "COLUMNS", "NO_COLOR", "FORCE_COLOR")
    plain = {k: v for k, v in os.environ.items() if not k.startswith(own)}
    done = subprocess.run(
        [sys.executable, "-m", "sabueso", *arguments],
        cwd=cwd,
        env={**plain, "PYTHONUTF8": "1", **environment},
        capture_output=True,
        encoding="utf-8",
        stdin=subprocess.DEVNULL,
        timeout=900,
        check=False,
    )
    assert done.returncode == code, f"{arguments}\n{done.stdout}\n{done.stderr}"
    return done


STARTED = {n: os.environ[n] for n in ("COLUMNS", "NO_COLOR", "FORCE_COLOR") if n in os.environ}


@dataclass(frozen=True)
class Said:
    """What the program printed."""

    stdout: str
    stderr: str


_kept: list[Case] = []


def _keep(folder: Path) -> None:
    """Keep the case of a folder loaded from one command to the next, as a session at the terminal does."""
    try:
        if _kept and _kept[0].folder == folder.resolve():
            _kept[0].look_again()
        else:
            let_go()
            if (folder / "case.toml").exists():
                _kept.append(Case.find())
                _kept[0].keep_open()
    except UserError:  # a plan that cannot be read: the command says so
        let_go()
    if _kept:
        hold(Held(_kept[0]))


def _begins_anew(arguments: Sequence[str]) -> bool:
    return bool(arguments) and arguments[0] in UNKEPT


def let_go() -> None:
    """Close the case that was kept loaded."""
    release()
    while _kept:
        _kept.pop().close()


def inside(
    *arguments: str, cwd: Path, code: int | tuple[int, ...] = 0, alone: bool = False
) -> Said:
    """Run the program in this process, where the process is not the point: on a case that stays loaded from
    one command to the next, or ``alone``."""
    out, err, before = io.StringIO(), io.StringIO(), Path.cwd()
    outcome.forget()
    os.chdir(cwd)
    # As for a process of its own: what this one was started with is no part of the trial, what a test
    # sets is.
    held = {name: value for name, value in STARTED.items() if os.environ.get(name) == value}
    for name in held:
        del os.environ[name]
    try:
        if alone or _begins_anew(arguments):
            let_go()
        else:
            _keep(cwd)
        with redirect_stdout(out), redirect_stderr(err):
            found = main(list(arguments))
        if found and _kept:
            _kept[0].close_register()
    finally:
        release()
        os.chdir(before)
        os.environ.update(held)
        let_pandas_in()
    expected = code if isinstance(code, tuple) else (code,)
    assert found in expected, f"{arguments}\n{out.getvalue()}\n{err.getvalue()}"
    assert "Traceback" not in err.getvalue()
    return Said(out.getvalue(), err.getvalue())


def inside_json(*arguments: str, cwd: Path) -> Any:
    return json.loads(inside(*arguments, "--format", "json", cwd=cwd).stdout)


def as_json(*arguments: str, cwd: Path) -> Any:
    return json.loads(sabueso(*arguments, "--format", "json", cwd=cwd).stdout)


@pytest.fixture(scope="session")
def marisma(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The sample case at full size, as ``sabueso demo`` leaves it. Do not change it.

    It is built once; each process of the suite has a copy, as some tests look at what lies in it before and
    after.
    """
    folder = tmp_path_factory.mktemp("sample") / "marisma"
    together = tmp_path_factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        together = together.parent
    built, begun = together / "built" / "marisma", together / "begun"
    try:
        begun.touch(exist_ok=False)
    except FileExistsError:
        until = time.monotonic() + 900
        while not (built.parent / "done").exists():
            assert time.monotonic() < until, "the process that builds the sample case ended"
            time.sleep(0.2)
    else:
        sabueso("demo", str(built))
        (built.parent / "done").touch()
    return Path(shutil.copytree(built, folder))


def shorten(case: Path, *kept: str) -> Path:
    """Take the screens out of a case's programme but the first two and those named by a beginning: a paper
    of them has all that a paper has, in a fifth of the time."""
    plan = case / "case.toml"
    before, *screens = plan.read_text(encoding="utf-8").split("[[screens]]")
    named = [text for text in screens[2:] if any(f'name = "{name}' in text for name in kept)]
    plan.write_text("[[screens]]".join([before, *screens[:2], *named]), encoding="utf-8")
    return case


Rows = Sequence[dict[str, Any]]


def table_of(rows: Rows, path: Path, **roles: str) -> Table:
    """A table ``ledger`` of plain rows, written to a Parquet file: columns by their Python types."""
    names = list(rows[0])
    columns, arrays = [], []
    for name in names:
        values = [row[name] for row in rows]
        sample = next((v for v in values if v is not None), "")
        if isinstance(sample, (Decimal, int)):
            exact = [None if v is None else Decimal(v) for v in values]
            scale = max([-int(v.as_tuple().exponent) for v in exact if v is not None], default=0)
            columns.append(Column(name, "number", max(scale, 0), 18))
            arrays.append(pa.array(exact, pa.decimal128(18, max(scale, 0))))
        elif isinstance(sample, str):
            columns.append(Column(name, "text"))
            arrays.append(pa.array(values, pa.string()))
        elif isinstance(sample, datetime):
            columns.append(Column(name, "timestamp"))
            arrays.append(pa.array(values, pa.timestamp("us")))
        elif isinstance(sample, dt.time):
            columns.append(Column(name, "time"))
            arrays.append(pa.array(values, pa.time64("us")))
        else:
            columns.append(Column(name, "date"))
            arrays.append(pa.array(values, pa.date32()))
    names += ["_file", "_line"]
    columns += [Column("_file", "text"), Column("_line", "number")]
    arrays += [
        pa.array(["rows.csv"] * len(rows)),
        pa.array(range(2, len(rows) + 2), pa.int64()),
    ]
    pq.write_table(pa.table(arrays, names=names), path, store_decimal_as_integer=True)
    return Table(
        "ledger", "LED", tuple(columns), (Part(tuple(columns), (path,)),), dict(roles), "EUR"
    )


_at_hand: list[Engine] = []
"""A few engines that nobody uses: to open one takes longer than most questions that a test asks of it."""


def _put_back(engine: Engine) -> None:
    if len(_at_hand) < 3:
        _at_hand.append(engine)
    else:
        engine.close()


class _Lent:
    """An engine that is there for the next one as soon as nobody holds this."""

    def __init__(self) -> None:
        self._engine = _at_hand.pop() if _at_hand else open_engine(EngineSettings())
        weakref.finalize(self, _put_back, self._engine)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._engine, name)


def lend_engine() -> Engine:
    """An embedded engine as it is opened, but not locked: it may have been another's before."""
    return cast(Engine, _Lent())


@pytest.fixture
def populate(tmp_path: Path) -> Callable[..., Population]:
    """A population of plain rows on the embedded engine: columns by their Python types."""
    built = itertools.count()

    def build(rows: Rows, where: str | None = None, **roles: str) -> Population:
        table = table_of(rows, tmp_path / f"rows{next(built)}.parquet", **roles)
        engine = lend_engine()
        engine.attach(table)
        return Population(engine, table, where, tables={"ledger": table})

    return build


@contextmanager
def populated(folder: Path, tables: dict[str, Rows], **roles: str) -> Iterator[Population]:
    """The first of several tables of plain rows, beside the others."""
    engine, built = lend_engine(), {}
    for name, rows in tables.items():
        own = {role: column for role, column in roles.items() if column in rows[0]}
        built[name] = replace(table_of(rows, folder / f"{name}.parquet", **own), name=name)
        engine.attach(built[name])
    yield Population(engine, next(iter(built.values())), tables=built)


def screened(population: Population, test: str, **settings: Any) -> dict[str, Any]:
    """The JSON of a test on a population, as the program would print it."""
    screen = find_screen(test)
    validated = screen.settings.from_plan(settings, "test")
    finding = screen.run(population, validated)
    # What a programme has counted for it is what it counts.
    shared = replace(population, known={})
    asked = [(shared, counting) for counting in screen.counts(shared, validated)]
    count_together(asked)
    assert all(shared.counted_as(counting) in shared.known for _, counting in asked)
    assert not asked or shared.account(*asked[0][1]) == finding.population
    content = finding.as_json()
    account = content["population"]
    assert account["used"] + sum(account["left_out"].values()) == account["rows"]
    text = json.dumps(content, allow_nan=False)
    # What a run keeps is read back as what it was.
    assert screen.recorded(json.loads(text)).as_json() == content
    return content
