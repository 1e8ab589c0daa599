"""Time intake and each core test as whole programs, beside rivals: python bench/run.py [ROWS].

Each command is a process of its own, its start included; commands and rivals alternate. Printed are
medians of the rounds and the ratio to the rival: a bare parse of the same file by pyarrow for the
intake, a plain pandas script from the CSV for each test.
"""

from __future__ import annotations

import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ledger import write_ledger

ROUNDS = 3
PARSE = "import pyarrow.csv as c; c.read_csv('ledger.csv')"
LOAD = "import pandas as pd, numpy as np; d = pd.read_csv('ledger.csv'); x = d.amount\n"
TESTS: dict[str, tuple[list[str], str]] = {
    "digits": (
        ["digits", "ledger", "--digits", "first-two"],
        "u = (x.abs() * 100).round().astype('int64'); u = u[u > 0]\n"
        "print(u.astype(str).str.ljust(2, '0').str[:2].value_counts().sort_index())",
    ),
    "zscore": (
        ["zscore", "ledger", "--by", "account"],
        "g = x.groupby(d.account); z = (x - g.transform('mean')) / g.transform('std')\n"
        "print(d[z.abs() > 3].amount.sum(), g.median().sum(), g.skew().sum())",
    ),
    "fences": (
        ["fences", "ledger", "--by", "account", "--beyond", "outer"],
        "g = x.groupby(d.account); a, b = g.transform('quantile', .25), g.transform('quantile', .75)\n"
        "print(d[(x > b + 3 * (b - a)) | (x < a - 3 * (b - a))].amount.sum())",
    ),
    "distance": (
        ["distance", "ledger", "--per", "supplier", "--measures", "sum(amount),count(*)"],
        "e = x.groupby(d.supplier).agg(['sum', 'count']); o = e - e.mean()\n"
        "s = np.linalg.inv(e.cov()); print(((o @ s) * o).sum(axis=1).nlargest(20))",
    ),
    "periods": (
        ["periods", "ledger", "--per", "account", "--base", "2024", "--current", "2025"],
        "y = d.date.str[:4]; t = x.groupby([d.account, y]).sum().unstack()\n"
        "print((t['2025'] - t['2024']).abs().nlargest(20))",
    ),
}


def timed(command: list[str], folder: Path) -> float:
    start = time.perf_counter()
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - start


def main() -> None:
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    folder = Path(tempfile.mkdtemp(prefix="ledger-"))
    program = [sys.executable, "-m", "sabueso"]
    try:
        write_ledger(rows, str(folder / "ledger.csv"))
        size = (folder / "ledger.csv").stat().st_size / 1e6
        print(f"{rows:,} rows, {size:,.0f} MB; {os.cpu_count()} cores, {platform.machine()}, "
              f"Python {platform.python_version()}; medians of {ROUNDS} rounds, seconds\n")  # fmt: skip
        print("| command | seconds | rival | seconds | ratio |\n|---|---:|---|---:|---:|")
        ours, theirs = [], []
        for i in range(ROUNDS):
            case = folder / f"case{i}"
            subprocess.run([*program, "open", str(case)], stdout=subprocess.DEVNULL, check=True)
            ours.append(timed([*program, "intake", "../ledger.csv", "--as", "ledger"], case))
            theirs.append(timed([sys.executable, "-c", PARSE], folder))
        report("intake", ours, "pyarrow, bare parse", theirs)
        for name, (arguments, rival) in TESTS.items():
            ours, theirs = [], []
            for _ in range(ROUNDS):
                ours.append(timed([*program, "try", *arguments], folder / "case0"))
                theirs.append(timed([sys.executable, "-c", LOAD + rival], folder))
            report(f"try {name}", ours, "pandas, from the CSV", theirs)
        start = [timed([*program, "--help"], folder) for _ in range(5)]
        print(f"| --help | {statistics.median(start):.2f} | | | |")
    finally:
        shutil.rmtree(folder)


def report(name: str, ours: list[float], rival: str, theirs: list[float]) -> None:
    a, b = statistics.median(ours), statistics.median(theirs)
    print(f"| {name} | {a:.2f} | {rival} | {b:.2f} | {a / b:.2f} |", flush=True)


if __name__ == "__main__":
    main()
