"""More flags than anybody can review: python bench/many_flags.py [--rows 10000000] [--rounds 3].

One ledger, two programmes: a limit that about ten rows pass, and one that an eighth of all rows pass.
Printed are the medians of wall-clock seconds and the greatest memory of `screen` under each, their
ratio, and the same of `queue` afterwards.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ledger import write_ledger

PROGRAM = [sys.executable, "-m", "sabueso"]


def timed(arguments: list[str], cwd: Path) -> tuple[float, int, str]:
    """Seconds, greatest memory in MB, and what was printed, of a command."""
    out = cwd / "printed.txt"
    start = time.monotonic()
    with out.open("w") as file:
        process = subprocess.Popen([*PROGRAM, *arguments], cwd=cwd, stdout=file)
        _, status, usage = os.wait4(process.pid, 0)
    assert status == 0, arguments
    return time.monotonic() - start, usage.ru_maxrss // 1024, out.read_text()


def main() -> None:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        write_ledger(args.rows, str(folder / "ledger.csv"))
        timed(["open", "case"], folder)
        case = folder / "case"
        timed(["intake", "../ledger.csv", "--as", "ledger"], case)
        for name, limit in (("few", "110"), ("many", "0.55")):
            timed(["try", "zscore", "ledger", "--limit", limit, "--keep", name], case)
        taken: dict[str, list[float]] = {"few": [], "many": [], "queue": []}
        memory: dict[str, int] = {}
        flagged: dict[str, int] = {}
        for _ in range(args.rounds):
            for name in ("few", "many"):
                seconds, peak, text = timed(["screen", name, "--format", "json"], case)
                taken[name].append(seconds)
                memory[name] = max(memory.get(name, 0), peak)
                flagged[name] = json.loads(text)["screens"][0]["flagged"]
            seconds, peak, _ = timed(["queue"], case)
            taken["queue"].append(seconds)
            memory["queue"] = max(memory.get("queue", 0), peak)
    print(
        "| command | rows beyond the limit | seconds | greatest memory, MB |\n|---|---:|---:|---:|"
    )
    for name in ("few", "many"):
        median = statistics.median(taken[name])
        print(
            f"| `screen`, {args.rows:,} rows | {flagged[name]:,} | {median:.2f} | {memory[name]} |"
        )
    print(f"| `queue` afterwards | | {statistics.median(taken['queue']):.2f} | {memory['queue']} |")
    ratios = [m / f for m, f in zip(taken["many"], taken["few"], strict=True)]
    print(f"\nRatio of the two screens, round by round: {', '.join(f'{r:.2f}' for r in ratios)}.")


if __name__ == "__main__":
    main()
