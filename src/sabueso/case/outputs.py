"""Files that a command writes for the user: nowhere among the case's own, over no file of another's."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.files import json_text, whole_file, write_whole
from sabueso.base.hashing import file_hash
from sabueso.case.folder import Case
from sabueso.case.layout import OWN_FOLDERS, PLAN, REGISTER
from sabueso.case.unfinished import FOLDER

KEPT = ".written.json"
"""The files written for the user, and the hash that each had: it tells one of this program's making,
unchanged since, from any other."""


def check_target(case: Case, path: Path, *, force: bool) -> None:
    """Refuse a target that is the case's own, or that would be lost.

    Parameters
    ----------
    force : bool
        Let a file that is not of this program's making, or was changed since, be written over.

    Raises
    ------
    UserError
        If it lies within the case's own folders, or is there already and not of this program's
        making.
    """
    target = path.resolve()
    for name in (*OWN_FOLDERS, FOLDER):
        own = case.folder / name
        if any(_same(parent, own) for parent in target.parents):
            raise UserError(
                f"--out {path}: {name}/ of the case holds what was recorded; choose another folder"
            )
    for name in (PLAN, REGISTER, KEPT):
        if _same(target, case.folder / name):
            raise UserError(f"--out {path}: {name} is the case's own; choose another name")
    if target.is_dir():
        raise UserError(f"--out {path}: this is a folder; expected a file")
    if force or not target.exists():
        return
    digest = hashlib.sha256(target.read_bytes()).hexdigest()
    if _written(case).get(str(target)) != digest:
        raise UserError(
            f"--out {path}: a file of this name is there, and is not one that sabueso wrote, or has "
            "changed since; choose another name, or write over it with --force"
        )


def write_target(case: Case, path: Path, content: bytes) -> None:
    """Write a file for the user, and remember it."""
    write_whole(path, content)
    known = _written(case) | {str(path.resolve()): hashlib.sha256(content).hexdigest()}
    try:
        write_whole(case.folder / KEPT, json_text(known).encode())
    except PermissionError:
        return  # a case that may only be read: the file is there, and next time --force is asked for


@contextmanager
def streamed_target(case: Case, path: Path) -> Iterator[Path]:
    """A file for the user that is written piece by piece, and remembered when it is whole."""
    with whole_file(path) as temporary:
        yield temporary
        digest = file_hash(temporary)
    known = _written(case) | {str(path.resolve()): digest}
    with suppress(PermissionError):  # as above
        write_whole(case.folder / KEPT, json_text(known).encode())


def _written(case: Case) -> dict[str, str]:
    try:
        known = json.loads((case.folder / KEPT).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}  # nothing is known of any file, and none is written over
    return known if isinstance(known, dict) else {}


def _same(path: Path, own: Path) -> bool:
    """Whether both are one file or folder, however it is spelt."""
    try:
        return path == own or path.samefile(own)
    except OSError:  # one of them is not there
        return False
