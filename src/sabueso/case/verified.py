"""What was found unaltered in a register, as long as nobody but this program has written to it.

The marks of a long queue take longer to hash than to list. Once they are found to be what their run
recorded, that is remembered with the size and the time of the register's file, as of files of rows; a
change of either, or ``--verify``, has them hashed again. A seal and a paper never ask here.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from contextlib import suppress
from hashlib import sha256
from typing import TYPE_CHECKING

from sabueso.base.files import json_text, write_whole

if TYPE_CHECKING:
    from pathlib import Path

    from sabueso.case.register import Register

_FILE, _ORDER = ".verified.json", ".order.json"

Placed = tuple[str, str, bool]
"""An exception in its place in the queue: its id, its kind, and whether a screen flagged it."""


def known(folder: Path, register: Register) -> set[str]:
    """Hashes of marks that the register as it is now was seen to have."""
    try:
        found = json.loads((folder / _FILE).read_text(encoding="utf-8"))
        if not found["register"] or found["register"] != register.state():
            return set()
        return set(found["marks"])
    except (OSError, ValueError, KeyError, TypeError):
        return set()


def remember(folder: Path, state: str, hashes: Iterable[str]) -> None:
    """Keep that the register had these in a state, taken before they were read."""
    if not state:
        return
    content = json_text({"register": state, "marks": sorted(hashes)})
    with suppress(OSError):  # a case that may only be read
        write_whole(folder / _FILE, content.encode())


def known_order(folder: Path, key: str) -> list[Placed] | None:
    """The order of the queue that was found of marks with such a key; None where it is not known."""
    try:
        content = (folder / _ORDER).read_text(encoding="utf-8")
        head, _, kept = content.partition("\n")
        if head != _head(key, kept):
            return None
        return [(one, kind, flagged) for one, kind, flagged in zip(*json.loads(kept), strict=True)]
    except (OSError, ValueError):
        return None


def keep_order(folder: Path, key: str, order: Sequence[Placed]) -> None:
    """Keep the order of the queue: of a hundred thousand exceptions it takes longer to find than to read."""
    columns = [[placed[field] for placed in order] for field in range(3)]
    kept = json.dumps(columns)
    with suppress(OSError):  # a case that may only be read
        write_whole(folder / _ORDER, f"{_head(key, kept)}\n{kept}".encode())


def _head(key: str, kept: str) -> str:
    """What tells that what is kept belongs to a key, and is whole."""
    return sha256(f"{key}\n{kept}".encode()).hexdigest()
