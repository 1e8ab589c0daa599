"""Fill the README's outputs from real runs: python docs/refresh.py CASE_FOLDER.

Every ``console`` block keeps its first line, the command, and gets what that command prints in the
sample case of ``sabueso demo``. The tests run the same commands and compare.
"""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
from pathlib import Path

README = Path(__file__).parents[1] / "README.md"
BLOCK = re.compile(r"```console\n\$ (sabueso [^\n]+)\n.*?```", re.S)


def main() -> None:
    case = Path(sys.argv[1])

    def filled(match: re.Match[str]) -> str:
        arguments = shlex.split(match[1])[1:]
        done = subprocess.run(
            [sys.executable, "-m", "sabueso", *arguments],
            cwd=case,
            capture_output=True,
            encoding="utf-8",
            check=True,
        )
        printed = "\n".join(line.rstrip() for line in done.stdout.splitlines())
        return f"```console\n$ {match[1]}\n{printed}\n```"

    README.write_text(BLOCK.sub(filled, README.read_text("utf-8")), encoding="utf-8")


if __name__ == "__main__":
    main()
