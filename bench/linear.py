"""Intake and five core tests as rows grow: python bench/linear.py [--rows 10000000 100000000].

For each size a made-up ledger is written, taken into a fresh case and screened by the programme of bench/run.py, each
command a process of its own. Printed are seconds, seconds per million rows, the most memory, and what lies on
the disk meanwhile: the file, the Parquet of the population, and the most that the engine put aside.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
import threading
import time
from pathlib import Path

from ledger import write_ledger
from run import sabueso

MB = 1_000_000


class Aside(threading.Thread):
    """The most bytes that lie in a folder while something runs."""

    def __init__(self, folder: Path) -> None:
        super().__init__(daemon=True)
        self.folder, self.most, self.on = folder, 0, True

    def run(self) -> None:
        while self.on:
            self.most = max(self.most, size(self.folder))
            time.sleep(0.25)


def size(path: Path) -> int:
    """Bytes of a file, or of all files below a folder; one that goes meanwhile has none."""
    total = 0
    for each in [path] if path.is_file() else path.rglob("*"):
        try:
            total += each.stat().st_size if each.is_file() else 0
        except OSError:
            continue
    return total


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, nargs="+", default=[10_000_000, 100_000_000])
    parser.add_argument("--memory", default="", help="[engine] memory of the case, such as 1GB")
    given = parser.parse_args()
    print(
        "| million rows | step | seconds | s per million | peak MB | file MB | population MB | put aside MB |\n"
        "|---:|---|---:|---:|---:|---:|---:|---:|",
        flush=True,
    )
    for rows in given.rows:
        folder = Path(tempfile.mkdtemp(prefix="linear-"))
        try:
            aside_folder = folder / "aside"
            aside_folder.mkdir()
            write_ledger(rows, str(folder / "ledger.csv"))
            file = size(folder / "ledger.csv")
            aside = Aside(aside_folder)
            aside.start()
            ran = sabueso(folder, given.memory, TMPDIR=str(aside_folder))
            aside.on = False
            taken = size(folder / "case" / "population")
            for step, figures in ran.items():
                print(
                    f"| {rows // 10**6:,} | {step} | {figures.seconds:.1f} | "
                    f"{figures.seconds * 10**6 / rows:.2f} | {figures.peak:,.0f} | {file / MB:,.0f} | "
                    f"{taken / MB:,.0f} | {aside.most / MB:,.0f} |",
                    flush=True,
                )
        finally:
            shutil.rmtree(folder)


if __name__ == "__main__":
    main()
