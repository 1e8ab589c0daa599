"""What a single command costs beside the libraries that it uses: python bench/start.py [--case DIR] [--rounds K]

Three processes in turns: the command; one that imports the modules of other packages that the command had loaded when it
ended, in the order in which it loaded them; and one that does nothing. Given are medians of wall time and of processor time, and the
command's beside that of its libraries: what the program itself adds to them.
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

COMMANDS = (
    "try digits payments",
    "try zscore payments",
    "try fences payments",
    "try top payments",
    "dig payments",
    "queue",
)
LOADED = """
import io, sys
from contextlib import redirect_stdout
from sabueso.cli.main import main
with redirect_stdout(io.StringIO()):
    main(sys.argv[2:])
standard = set(sys.stdlib_module_names) | {"sabueso", "__main__"}
named = [m for m in sys.modules if m.partition(".")[0] not in standard]
open(sys.argv[1], "w").write("\\n".join(named))
"""
IMPORTED = """
import sys
from contextlib import suppress
from importlib import import_module
for name in open(sys.argv[1]).read().split():
    with suppress(ImportError, AttributeError):
        import_module(name)
"""


def _took(arguments: list[str], case: Path) -> tuple[float, float]:
    """Seconds of the clock, and of the processor, that a process takes."""
    before, begun = os.times(), time.perf_counter()
    done = subprocess.run(arguments, cwd=case, stdout=subprocess.DEVNULL, check=False)
    if done.returncode:
        raise SystemExit(f"{' '.join(arguments)}: exit code {done.returncode}")
    wall, after = time.perf_counter() - begun, os.times()
    spent = after.children_user + after.children_system
    return wall, spent - before.children_user - before.children_system


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--case", type=Path, default=Path("marisma"), help="the sample case")
    parser.add_argument("--rounds", type=int, default=7)
    asked = parser.parse_args()
    # As the program does, but before another is asked.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    print("command              wall   libraries  nothing   times   processor  libraries   times")
    with tempfile.TemporaryDirectory() as folder:
        modules = str(Path(folder) / "modules")
        for command in COMMANDS:
            words = command.split()
            subprocess.run(
                [sys.executable, "-c", LOADED, modules, *words], cwd=asked.case, check=True
            )
            ways = [
                [sys.executable, "-m", "sabueso", *words],
                [sys.executable, "-c", IMPORTED, modules],
                [sys.executable, "-c", "pass"],
            ]
            rounds = [[_took(way, asked.case) for way in ways] for _ in range(asked.rounds)]
            (own, cpu), (libraries, their_cpu), (nothing, _) = (
                tuple(statistics.median(r[place][k] for r in rounds) for k in (0, 1))
                for place in range(len(ways))
            )
            print(
                f"{command:<20} {own:5.2f} {libraries:11.2f} {nothing:8.2f} {own / libraries:7.2f} {cpu:11.2f} "
                f"{their_cpu:10.2f} {cpu / their_cpu:7.2f}"
            )


if __name__ == "__main__":
    main()
