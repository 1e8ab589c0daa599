"""Files that a command has begun and not finished, and what a killed one left of them."""

from __future__ import annotations

import shutil
import sqlite3
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

FOLDER = ".unfinished"
_LOCK = "lock"
# Written whole by write_whole, or as a folder beside its name, and always under the case's lock: who
# holds the lock and finds one knows that nobody is writing it.
_UNDER_LOCK = (
    ".case.toml.*.part", "runs/.*.part", "quarantine/*/.*.part", "evidence/.*.part",
    "papers/.working-paper.html.*.part", "papers/.exceptions.xlsx.*.part", "papers/data/.*.part",
    "population/*/.*.part", "population/*/.*.again", "sources/*/.*.part",
)  # fmt: skip
_OF_READERS, LONG_AGO = "..verified.json.*.part", 60.0
"""What commands that only read note beside the register without the lock, a small file at once: one that is
a minute old is nobody's any more."""


@contextmanager
def workshop(case: Path) -> Iterator[Path]:
    """A folder of this process's own, on the case's disk, for as long as it works; gone afterwards.

    Call it under the case's lock. A lock of the operating system's, which ends with the process
    that holds it, tells a folder in use from one that a killed command left; a file-locking call of
    one system would not work on another, the database library's does.
    """
    folder = case / FOLDER / uuid.uuid4().hex[:12]
    folder.mkdir(parents=True)
    held = sqlite3.connect(folder / _LOCK, isolation_level=None)
    held.execute("BEGIN EXCLUSIVE")
    try:
        yield folder
    finally:
        held.close()
        shutil.rmtree(folder, ignore_errors=True)
        _drop_empty(folder.parent)


def sweep(case: Path) -> None:
    """Remove what killed commands left. Call it under the case's lock."""
    for pattern in _UNDER_LOCK:
        for path in case.glob(pattern):
            _remove(path)
    for path in case.glob(_OF_READERS):
        if _age(path) > LONG_AGO:
            _remove(path)
    parent = case / FOLDER
    if parent.is_dir():
        for folder in parent.iterdir():
            if not _in_use(folder):
                _remove(folder)
        _drop_empty(parent)


def _age(path: Path) -> float:
    """Seconds since a file was written; none where it is gone meanwhile."""
    try:
        return time.time() - path.stat().st_mtime
    except OSError:
        return 0.0


def _in_use(folder: Path) -> bool:
    lock = folder / _LOCK
    if not lock.is_file():
        return False
    probe = sqlite3.connect(lock, timeout=0, isolation_level=None)
    try:
        probe.execute("BEGIN EXCLUSIVE")
    except sqlite3.OperationalError:
        return True
    finally:
        probe.close()
    return False


def _remove(path: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


def _drop_empty(folder: Path) -> None:
    try:
        folder.rmdir()
    except OSError:  # another command is at work in it
        return
