"""Drill-downs on a large ledger beside the same SQL by hand on the same Parquet.

Usage: python bench/drill.py [--rows N] [--rounds K]

Each figure is a whole process. The rival is one query of the embedded engine's own library, with its start.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import duckdb

VIEWS = {
    "the column amount": (
        ["survey", "ledger", "amount"],
        "select count(*), count(amount), sum(amount), min(amount), max(amount), avg(amount), "
        "stddev_samp(amount), skewness(amount), quantile_disc(amount, [0.01, 0.05, 0.25, 0.5, 0.75, 0.95, "
        "0.99]), count(distinct amount), count(*) filter (amount < 0), count(*) filter (amount = 0) from r",
    ),
    "account across month": (
        ["dig", "ledger", "--by", "account", "--across", "month"],
        "select account, strftime(date, '%Y-%m') m, count(*), sum(amount) from r group by grouping sets "
        "((account, m), (account), (m), ())",
    ),
    "account, preparer": (
        ["dig", "ledger", "--by", "account,preparer"],
        "select account, preparer, count(*), sum(amount) from r group by grouping sets "
        "((account, preparer), (account), ())",
    ),
    "account, distinct and median": (
        [
            "dig",
            "ledger",
            "--by",
            "account",
            "--measures",
            "count(distinct preparer),median(amount)",
        ],
        "select account, count(*), count(distinct preparer), median(amount) from r group by grouping sets "
        "((account), ())",
    ),
}


def write(folder: Path, rows: int) -> Path:
    """A ledger of 2,000 accounts, 60 preparers and 24 months."""
    path = folder / "ledger.parquet"
    duckdb.sql(
        f"""copy (select 'E' || i as id, date '2024-01-01' + cast(hash(i, 1) % 731 as int) as date,
        cast(60000 + hash(i, 2) % 2000 as varchar) as account, 'U' || (hash(i, 3) % 60) as preparer,
        cast(exp(4 + 3 * (hash(i, 4) % 1000) / 1000.0) as decimal(18, 2)) as amount
        from range({rows}) t(i)) to '{path}' (format parquet)"""
    )
    return path


def timed(command: list[str], cwd: Path) -> tuple[float, float]:
    """Seconds and most megabytes of a process; its memory is known on POSIX systems."""
    began = time.perf_counter()
    process = subprocess.Popen(
        command, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    _, status, used = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{command} ended with {process.returncode}")
    return time.perf_counter() - began, used.ru_maxrss / 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        path = write(folder, args.rows)
        program = [sys.executable, "-m", "sabueso"]
        timed([*program, "open", "c"], folder)
        case = folder / "c"
        timed([*program, "intake", str(path), "--as", "ledger", "--attach"], case)
        print(f"{args.rows:,} rows, {args.rounds} rounds, seconds: median (least to most)")
        for name, (options, query) in VIEWS.items():
            rival = f"import duckdb\nr = duckdb.read_parquet({str(path)!r})\nlen(duckdb.sql({query!r}).fetchall())"
            ours, theirs = [], []
            for _ in range(args.rounds):
                theirs.append(timed([sys.executable, "-c", rival], case))
                ours.append(timed([*program, *options], case))
            times = [[seconds for seconds, _ in found] for found in (ours, theirs)]
            told = [f"{statistics.median(x):.2f} ({min(x):.2f} to {max(x):.2f})" for x in times]
            ratio = statistics.median(a / b for a, b in zip(*times, strict=True))
            memory = [max(most for _, most in found) for found in (ours, theirs)]
            print(
                f"{name}: {told[0]}, SQL {told[1]}, ratio {ratio:.2f}; "
                f"{memory[0]:,.0f} MB, SQL {memory[1]:,.0f} MB"
            )


if __name__ == "__main__":
    main()
