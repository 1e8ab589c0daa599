"""What was found unaltered in a register, as long as nobody but this program has written to it.

The marks of a long queue take longer to hash than to list. Once they are found to be what their run
recorded, that is remembered with the size and the time of the register's file, as of files of rows; a
change of either, or ``--verify``, has them hashed again. A seal and a paper never ask here.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from contextlib import suppress
from typing import TYPE_CHECKING

from sabueso.base.files import json_text, write_whole

if TYPE_CHECKING:
    from pathlib import Path

    from sabueso.case.register import Register

_FILE = ".verified.json"


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
