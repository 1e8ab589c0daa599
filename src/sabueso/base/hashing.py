"""What identifies a file: its content."""

from __future__ import annotations

import hashlib
from concurrent.futures import CancelledError, Future, ThreadPoolExecutor
from pathlib import Path
from threading import Event

CHUNK = 4 << 20


class Hashed:
    """SHA-256 of a file as it grows: what was added since is read on each time.

    Use it as a context manager: on leaving, the file is closed.
    """

    def __init__(self, path: Path, given_up: Event | None = None) -> None:
        self._file = path.open("rb", buffering=0)
        self._given_up = given_up
        self._digest = hashlib.sha256()
        self._buffer = memoryview(bytearray(CHUNK))

    def __enter__(self) -> Hashed:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def read_on(self) -> None:
        """Read what the file holds by now.

        Raises
        ------
        CancelledError
            If it was given up before the end.
        """
        while size := self._file.readinto(self._buffer):
            if self._given_up is not None and self._given_up.is_set():
                raise CancelledError
            self._digest.update(self._buffer[:size])

    def hexdigest(self) -> str:
        """The hash of what was read, in hexadecimal."""
        return self._digest.hexdigest()


def file_hash(path: Path, given_up: Event | None = None) -> str:
    """SHA-256 of a file, in hexadecimal.

    Raises
    ------
    CancelledError
        If it was given up before the end.
    """
    with Hashed(path, given_up) as hashed:
        hashed.read_on()
        return hashed.hexdigest()


class Hashes:
    """SHA-256 of source files, found beside other work, one after another.

    Use it as a context manager: on leaving, what is not yet found is given up.
    """

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(1)
        self._given_up = Event()
        self._found: dict[Path, Future[str]] = {}

    def __enter__(self) -> Hashes:
        return self

    def __exit__(self, *_: object) -> None:
        self._given_up.set()
        self._pool.shutdown(cancel_futures=True)

    def begin(self, path: Path) -> None:
        """Start on a file that will be asked for."""
        if path not in self._found:
            self._found[path] = self._pool.submit(file_hash, path, self._given_up)

    def of(self, path: Path) -> str:
        """The hash of a file, waited for where it is not found yet."""
        self.begin(path)
        return self._found[path].result()
