"""The files that paths, folders and patterns name."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.intake.readers.audit_export import files_of
from sabueso.intake.readers.choice import reader_for


def source_files(case: Case, given: Sequence[str], table: str) -> list[Path]:
    """The files that paths, folders and patterns name; the plan's sources where none is given.

    Raises
    ------
    UserError
        If a path names nothing, or there is nothing to read.
    """
    patterns = list(given)
    base = Path.cwd()
    if not patterns:
        section = case.plan.tables.get(table)
        patterns = section.sources if section else []
        base = case.folder
        if not patterns:
            raise UserError(f"name the files to take in: sabueso intake PATH --as {table}")
    found: list[Path] = []
    for pattern in patterns:
        path = base / pattern
        if path.is_dir():
            files = sorted(p for p in path.iterdir() if p.is_file() and _readable(p))
            if not files:
                raise UserError(f"{pattern}: the folder holds no file that a reader takes")
        elif path.is_file():
            files = _described(path)
        elif any(mark in pattern for mark in "*?["):
            anchor = Path(path.anchor or ".")
            files = sorted(p for p in anchor.glob(str(path.relative_to(anchor))) if p.is_file())
            if not files:
                raise UserError(f"{pattern}: no file matches")
        else:
            raise UserError(f"{pattern}: there is no such file or folder")
        found += [file for file in files if file not in found]
    for file in found:
        try:
            str(file).encode()
        except UnicodeEncodeError:
            raise UserError(
                f"{file}: the file's name is not UTF-8 text, and could not be recorded; take in a copy "
                "under another name"
            ) from None
    return found


def _described(path: Path) -> list[Path]:
    """A file, or the one that an index of files describes.

    Raises
    ------
    UserError
        If it describes several, which are tables of their own.
    """
    named = files_of(path)
    if named is not None and len(named) > 1:
        names = ", ".join(each.name for each in named)
        raise UserError(
            f"{path}: describes {len(named)} tables: {names}; name one of them, or take all in with sabueso "
            f"intake {path.parent}"
        )
    return named or [path]


def _readable(path: Path) -> bool:
    try:
        reader_for(path)
    except UserError:
        return False
    return not path.name.startswith(".")
