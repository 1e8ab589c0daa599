"""What is flagged where nothing is wrong: python bench/clean.py [--seeds 1,2,3]

The sample world is made without what is planted, its inbox taken in, and the programme is the one that
survey --propose makes. Printed are the exceptions with an adjusted p below 0.001 among the first hundred
that are about no innocent, and for each screen how many it flags beside how many chance would give.
"""

from __future__ import annotations

import argparse
import csv
import subprocess
import sys
import tempfile
from pathlib import Path

from sabueso.case.folder import Case
from sabueso.case.queue import queue
from sabueso.case.recording import latest_findings
from sabueso.demo.inbox import write_inbox
from sabueso.screens import find_screen

SURE, FIRST = 0.001, 100


def run(case: Path, *command: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "sabueso", *command], cwd=case, capture_output=True, text=True, check=False
    )  # fmt: skip
    if done.returncode not in (0, 2):
        raise SystemExit(f"{command}: {done.stderr}")


def world(case: Path, seed: int) -> set[str]:
    """A case of the world without anything planted, its proposed programme run; keys of the innocents."""
    run(case, "open", ".")
    write_inbox(case / "inbox", seed, 1.0, lambda _: None, planted=False)
    with (case / "inbox" / "answers.csv").open(encoding="utf-8") as handle:
        innocents = {row["key"] for row in csv.DictReader(handle)}
    (case / "inbox" / "answers.csv").unlink()
    run(case, "intake", "inbox", "--yes")
    run(case, "screen", "--as", "XX")
    return innocents


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seeds", default="1,2,3")
    args = parser.parse_args()
    for seed in args.seeds.split(","):
        with tempfile.TemporaryDirectory(prefix="clean") as place:
            innocents = world(Path(place), int(seed))
            with Case(Path(place)) as case:
                items = queue(case)
                print(f"seed {seed}: {len(items)} exceptions")
                for item in items[:FIRST]:
                    sure = [
                        m for m in item.marks if m.p_adjusted is not None and m.p_adjusted < SURE
                    ]
                    known = innocents & {str(v) for v in item.key.values()}
                    if sure and not known:
                        told = ", ".join(f"{m.screen} ({m.p_adjusted:.2g})" for m in sure)
                        print(f"  {item.place:>3} {item.label[:60]:<60} {told}")
                for each in latest_findings(case):
                    chance, flags = each.finding.flags_by_chance, each.finding.flags
                    judged = find_screen(each.finding.test).view(each.finding).judges_by_p
                    many = flags.with_p() if judged else len(flags)
                    if chance is not None and (many or 0) > 2 * chance + 2:
                        print(f"  {each.screen}: {many} flagged, {chance:.2g} by chance")


if __name__ == "__main__":
    main()
