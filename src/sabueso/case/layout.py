"""What lies where in a case folder, and what is said where a part is gone."""

from __future__ import annotations

import os
from pathlib import Path

from sabueso.base.errors import UserError

PLAN, REGISTER = "case.toml", "register.db"
OWN_FOLDERS = ("population", "runs", "evidence", "quarantine", "sources")
"""Folders that hold what the register speaks of."""


def relative(path: Path, folder: Path) -> str:
    """A path as the plan names it: relative to the case where it lies within or beside it."""
    try:
        return Path(os.path.relpath(path.resolve(), folder)).as_posix()
    except ValueError:  # another drive
        return path.resolve().as_posix()


def parts_of(folder: Path) -> list[str]:
    """Parts of a case that are there beside its plan and register."""
    told_by = {"population": "*/*.parquet", "runs": "*/run.json"}
    return [name for name, files in told_by.items() if any((folder / name).glob(files))]


def plan_gone(folder: Path) -> UserError | None:
    """What is said where a case has lost its plan; None where there is no case."""
    parts = parts_of(folder) if (folder / REGISTER).is_file() else []
    if not parts:
        return None
    return UserError(
        f"{folder / PLAN} is gone, though {REGISTER} and {', '.join(parts)} are there: restore it "
        "from a copy; no new plan is begun"
    )
