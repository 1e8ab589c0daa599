"""Sabueso beside its rivals, in one run: python bench/run.py [--rows 1000000 10000000] [--rounds 3].

For each size a made-up ledger is written, and these run in turn, each as a process of its own:

a  sabueso intake, then sabueso screen with a programme of five core tests
b  a plain pandas script that does the same five tests from the CSV   (rivals/five_pandas.py)
c  the same five tests as hand-written SQL on DuckDB from the CSV     (rivals/five_sql.py)
d  a bare multi-threaded parse of the CSV by pyarrow, to a table

Printed are medians of wall-clock seconds, the ratios pair by pair, and the peak memory of each
process; the answers of a, b and c must agree, or the run stops. Rows above --most-in-memory are
not given to the pandas script, which holds them all.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from decimal import Decimal
from math import isclose
from pathlib import Path
from typing import Any

from ledger import write_ledger

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "sabueso"]
PROGRAMME = """
[[screens]]
name = "digits"
test = "digits"
table = "ledger"
digits = "first-two"

[[screens]]
name = "zscore"
test = "zscore"
table = "ledger"
by = ["account"]
limit = "20"

[[screens]]
name = "fences"
test = "fences"
table = "ledger"
by = ["account"]
where = "amount > 0"
scale = "log"
beyond = "outer"

[[screens]]
name = "distance"
test = "distance"
table = "ledger"
per = ["supplier"]
measures = ["sum(amount)", "count(*)"]
fit = "classical"

[[screens]]
name = "periods"
test = "periods"
table = "ledger"
per = ["account"]
base = "2024"
current = "2025"
amount_limit = "5000"
"""


@dataclass(frozen=True)
class Run:
    seconds: float
    peak: float  # MB, the largest of the processes


# An installed program is compiled; one that runs from its sources is, unless Python is told not to.
ENVIRONMENT = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}


def run(*command: str, folder: Path, **more: str) -> Run:
    """One process: its time, and its peak memory by the operating system's account of it."""
    start = time.perf_counter()
    process = subprocess.Popen(
        command, cwd=folder, stdout=subprocess.DEVNULL, env=ENVIRONMENT | more
    )
    peak = 0.0
    if hasattr(os, "wait4"):
        _, status, usage = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
        peak = usage.ru_maxrss / (1024 if sys.platform != "darwin" else 1024**2)
    else:
        process.wait()
    if process.returncode:
        raise SystemExit(f"{' '.join(command)} ended with {process.returncode}")
    return Run(time.perf_counter() - start, peak)


def sabueso(folder: Path, memory: str, **more: str) -> dict[str, Run]:
    """Intake and screening in a fresh case; the case stays for the answers."""
    case = folder / "case"
    shutil.rmtree(case, ignore_errors=True)
    run(*PROGRAM, "open", str(case), folder=folder)
    plan = case / "case.toml"
    engine = f'\n[engine]\nkind = "duckdb"\nmemory = "{memory}"\n' if memory else ""
    plan.write_text(plan.read_text() + engine)
    taken = run(*PROGRAM, "intake", "../ledger.csv", "--as", "ledger", folder=case, **more)
    plan.write_text(plan.read_text() + PROGRAMME)
    return {"intake": taken, "screen": run(*PROGRAM, "screen", folder=case, **more)}


def our_answers(case: Path) -> dict[str, dict[str, Any]]:
    """The recorded findings in the shape of the rivals' answers."""
    found = {}
    for path in sorted((case / "runs" / "0001").glob("finding-*.json")):
        finding = json.loads(path.read_text())
        found[finding["test"]] = finding

    def cents(text: str) -> int:
        return int(Decimal(text) * 100)

    def total(test: str, *names: str) -> float:
        values = []
        for group in found[test]["groups"]:
            for name in names:
                group = group[name]
            values.append(float(group or 0))  # a group of two rows has no skewness
        return sum(values)

    digits = found["digits"]["groups"][0]
    classes = digits["classes"]
    zscore, fences, distance, periods = (
        found[name] for name in ("zscore", "fences", "distance", "periods")
    )
    lines = periods["groups"][0]["lines"]
    names = {"count": "n", "mean": "mean", "std": "sd", "median": "median"}
    shape = {"skew": "skewness", "kurt": "kurtosis", "mad": "mad"}
    effects = names | {"sum": "sum", "p95": "p95"}
    return {
        "digits": {
            "n": digits["n"],
            "counts": sum(c["count"] * int(c["digits"]) for c in classes),
            "amounts": sum(cents(c["amount"]) * int(c["digits"]) for c in classes),
            "chi_square": digits["chi_square"],
            "mad": digits["mad"],
            "mantissa_l2": digits["mantissa_l2"],
        },
        "zscore": {
            "figures": {k: total("zscore", v) for k, v in (names | shape).items()}
            | {"p95": total("zscore", "with_flags", "p95")},
            "without": {k: total("zscore", "without_flags", v) for k, v in effects.items()},
            "flagged": zscore["flag_count"],
            "flagged_amount": cents(zscore["flag_total"]),
        },
        "fences": {
            "flagged": fences["flag_count"],
            "flagged_amount": cents(fences["flag_total"]),
        },
        "distance": {
            "subjects": distance["groups"][0]["n"],
            "center": distance["groups"][0]["center"],
            "covariance": [v for row in distance["groups"][0]["covariance"] for v in row],
            "flagged": distance["flag_count"],
            "greatest": distance["flags"][0]["score"],
        },
        "periods": {
            "base": sum(cents(line["base"]) for line in lines),
            "current": sum(cents(line["current"]) for line in lines),
            "flagged": periods["flag_count"],
            "moved": sum(abs(cents(line["change"])) for line in lines if line["flagged"]),
        },
    }


def compare(ours: Any, theirs: Any, place: str) -> int:
    """Count the figures that agree; stop at one that does not."""
    if isinstance(ours, dict):
        return sum(compare(ours[key], theirs[key], f"{place}.{key}") for key in ours)
    if isinstance(ours, list):
        return sum(
            compare(a, b, f"{place}[{i}]")
            for i, (a, b) in enumerate(zip(ours, theirs, strict=True))
        )
    exact = isinstance(ours, int) and isinstance(theirs, int)
    if ours != theirs and (exact or not isclose(ours, theirs, rel_tol=1e-5)):
        raise SystemExit(f"the answers differ: {place} is {ours} here and {theirs} there")
    return 1


def measure(rows: int, rounds: int, memory: str, most: int, folder: Path) -> list[str]:
    """The lines of one size's table."""
    csv = folder / "ledger.csv"
    write_ledger(rows, str(csv))
    print(f"{rows:,} rows, {csv.stat().st_size / 1e6:,.0f} MB", file=sys.stderr)
    runs: dict[str, list[Run]] = {}
    parse = f"import pyarrow.csv as c; print(c.read_csv({str(csv)!r}).num_rows)"
    for _ in range(rounds):
        for name, taken in sabueso(folder, memory).items():
            runs.setdefault(name, []).append(taken)
        for name, script in (("sql", "five_sql.py"), ("pandas", "five_pandas.py")):
            if name == "sql" or rows <= most:
                command = [sys.executable, str(HERE / "rivals" / script), str(csv), f"{name}.json"]
                runs.setdefault(name, []).append(run(*command, folder=folder))
        runs.setdefault("parse", []).append(run(sys.executable, "-c", parse, folder=folder))
        print({k: round(v[-1].seconds, 2) for k, v in runs.items()}, file=sys.stderr)
    mine, agreed = our_answers(folder / "case"), 0
    for name in ("sql", "pandas"):
        if name in runs:
            agreed += compare(mine, json.loads((folder / f"{name}.json").read_text()), name)

    def seconds(name: str) -> list[float]:
        if name == "both":
            return [a + b for a, b in zip(seconds("intake"), seconds("screen"), strict=True)]
        return [each.seconds for each in runs[name]]

    def cells(name: str) -> str:
        parts = ("intake", "screen") if name == "both" else (name,)
        peak = max(each.peak for part in parts for each in runs[part])
        middle = statistics.median(seconds(name))
        ratios = [
            f"{statistics.median(a / b for a, b in zip(seconds(name), seconds(rival), strict=True)):.2f}"
            if rival in runs and rival != name
            else ""
            for rival in ("sql", "pandas", "parse")
        ]
        return f"{middle:.1f} | {middle / rows * 1e6:.2f} | {peak:,.0f} | {' | '.join(ratios)}"

    labels = {
        "both": "Sabueso, intake and five tests",
        "intake": "Sabueso, intake alone",
        "screen": "Sabueso, five tests on the taken table",
        "sql": "hand-written SQL, from the CSV",
        "pandas": "pandas script, from the CSV",
        "parse": "bare parse by pyarrow",
    }
    shown = [name for name in labels if name == "both" or name in runs]
    return [f"| {rows / 1e6:g} | {labels[name]} | {cells(name)} |" for name in shown] + [
        f"<!-- {rows:,} rows: {agreed} figures agree -->"
    ]


def fresh_case(rows: int, folder: Path) -> Path:
    """A case with a ledger of so many rows and the programme."""
    case = folder / "case"
    shutil.rmtree(case, ignore_errors=True)
    write_ledger(rows, str(folder / "ledger.csv"))
    run(*PROGRAM, "open", str(case), folder=folder)
    run(*PROGRAM, "intake", "../ledger.csv", "--as", "ledger", folder=case)
    with (case / "case.toml").open("a") as plan:
        plan.write(PROGRAMME)
    return case


def completion(line: str, folder: Path) -> Run:
    """What the shell asks for when the tab key is pressed at the end of a line."""
    asked = {
        "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_STDOUT_FILENAME": os.devnull,
        "COMP_LINE": line, "COMP_POINT": str(len(line)), "COMP_TYPE": "9",
    }  # fmt: skip
    return run(*PROGRAM, folder=folder, **asked)


def start_up(folder: Path, rounds: int) -> list[str]:
    """Start of the program, and one test on 100,000 rows."""
    case = fresh_case(100_000, folder)
    run(*PROGRAM, "screen", folder=case)
    commands = {
        "python -c pass": [sys.executable, "-c", "pass"],
        "--help": [*PROGRAM, "--help"],
        "--version": [*PROGRAM, "--version"],
        "queue, of 100,000 rows": [*PROGRAM, "queue"],
        "try zscore by account, 100,000 rows": [
            *PROGRAM, "try", "zscore", "ledger", "--by", "account",
        ],
        "try digits, 100,000 rows": [*PROGRAM, "try", "digits", "ledger"],
    }  # fmt: skip
    each: dict[str, list[float]] = {}
    for _ in range(max(rounds, 5)):
        for name, command in commands.items():
            each.setdefault(name, []).append(run(*command, folder=case).seconds)
        for line in ("sabueso qu", "sabueso try zscore ledger --sc", "sabueso why LED-"):
            each.setdefault(f"completion of {line}", []).append(completion(line, case).seconds)
    return [f"| {name} | {statistics.median(times):.2f} |" for name, times in each.items()]


SINGLE = {
    "digits": ["digits", "ledger", "--digits", "first-two"],
    "zscore by account": ["zscore", "ledger", "--by", "account"],
    "fences by account": ["fences", "ledger", "--by", "account"],
    "distance, classical": [
        "distance", "ledger", "--per", "supplier", "--measures", "sum(amount),count(*)",
        "--fit", "classical",
    ],
    "distance, robust": [
        "distance", "ledger", "--per", "supplier", "--measures", "sum(amount),count(*)",
    ],
    "periods": [
        "periods", "ledger", "--per", "account", "--base", "2024", "--current", "2025",
        "--amount-limit", "5000",
    ],
}  # fmt: skip


def single_tests(folder: Path, rounds: int) -> list[str]:
    """Each core test on 1,000,000 rows, start included, printed as text."""
    case = fresh_case(1_000_000, folder)
    each: dict[str, list[float]] = {}
    for _ in range(max(rounds, 5)):
        for name, arguments in SINGLE.items():
            each.setdefault(name, []).append(run(*PROGRAM, "try", *arguments, folder=case).seconds)
    return [
        f"| {name} | {min(times):.2f} | {statistics.median(times):.2f} |"
        for name, times in each.items()
    ]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, nargs="+", default=[1_000_000, 10_000_000])
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--memory", default="", help="[engine] memory of the case, such as 1GB")
    parser.add_argument("--most-in-memory", type=int, default=10_000_000, metavar="ROWS")
    given = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="ledger-"))
    try:
        lines = []
        for rows in given.rows:
            lines += measure(rows, given.rounds, given.memory, given.most_in_memory, folder)
        starts = start_up(folder, given.rounds)
        singles = single_tests(folder, given.rounds)
    finally:
        shutil.rmtree(folder)
    memory = f", engine memory {given.memory}" if given.memory else ""
    print(
        f"{os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}; medians "
        f"of {given.rounds} rounds{memory}\n\n"
        "| million rows | | seconds | s per million | peak MB | ÷ SQL | ÷ pandas | ÷ parse |\n"
        "|---:|---|---:|---:|---:|---:|---:|---:|"
    )
    print("\n".join(lines))
    print("\n| start | seconds |\n|---|---:|")
    print("\n".join(starts))
    print("\n| one test, 1 million rows | least seconds | median |\n|---|---:|---:|")
    print("\n".join(singles))


if __name__ == "__main__":
    main()
