"""Small tables that are asked often: which of them are worth being kept in memory, and from when on.

Every statement on a view opens each file behind it before a row is read; on a small table that is most of
what the statement takes. Keeping the rows costs once. Most commands ask a table some ten times and end, and
to keep it then costs more than it saves: it is kept as soon as its statements have taken several times as long
as keeping takes, which is in a survey, a programme and a session.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from sabueso.population.engines.interface import part_bytes
from sabueso.population.table import Table

MOST_BYTES = 4_000_000
"""On the disk, of a table that is kept; in memory it is some ten times as large, and still goes to the disk where
there is no room."""
MOST_IN_ALL = 12_000_000
"""On the disk, of all tables that are kept."""

_TIMES = 3
"""How many times as long as keeping a table takes its statements have taken before it is kept."""
# Measured, in microseconds: a statement on a view, and each file of it; to keep a table, and each byte of its files.
_STATEMENT, _FILE = 1_000, 600
_KEEPING, _BYTE = 2_000, 0.12
# The same of each column beyond those that most tables have: all are bound anew by each statement.
_USUAL, _BOUND, _KEPT = 25, 35, 120


@dataclass
class _Asked:
    """What statements on a table cost more than they would if it were kept, each and so far, and from when on it is."""

    enough: float
    each: float
    spent: float = 0.0


class Resident:
    """Counts the statements on each small table."""

    def __init__(self) -> None:
        self._waiting: dict[str, _Asked] = {}
        self._kept: dict[str, int] = {}
        self._sizes: dict[str, int] = {}

    def attached(self, table: Table, name: str) -> None:
        """A table is there as a view called ``name``, as it stands in a statement.

        Files that are not the case's own may change while they are read, and are not kept.
        """
        if any(part.base is not None for part in table.parts):
            return
        size = sum(map(part_bytes, table.parts))
        if size <= MOST_BYTES:
            files = sum(len(part.files) for part in table.parts)
            self._sizes[name] = size
            more = max(len(table.stored) - _USUAL, 0)
            enough = _TIMES * (_KEEPING + size * _BYTE + more * _KEPT)
            each = _STATEMENT + files * _FILE + len(table.parts) * more * _BOUND
            self._waiting[name] = _Asked(enough, each)

    def due(self, statement: str) -> Iterator[str]:
        """Names of the tables that are to be kept before a statement is run."""
        for name, asked in list(self._waiting.items()):
            if name not in statement:
                continue
            asked.spent += asked.each
            if asked.spent < asked.enough:
                continue
            del self._waiting[name]
            if sum(self._kept.values()) + self._sizes[name] <= MOST_IN_ALL:
                self._kept[name] = self._sizes[name]
                yield name

    def forget(self, name: str) -> bool:
        """A table is attached anew, or could not be kept: whether it was."""
        self._waiting.pop(name, None)
        return self._kept.pop(name, None) is not None
