"""Answers of a few rows, remembered: a survey and the tests of a programme ask many things of the same rows more than
once."""

from __future__ import annotations

import pyarrow as pa

from sabueso.population.engines.few_rows import FEW
from sabueso.population.table import Table

MOST = 2_000
"""Answers that are remembered."""


class Answers:
    """What statements gave since the tables that they read were attached."""

    def __init__(self) -> None:
        self._known: dict[str, pa.Table] = {}
        self._staged: set[str] = set()
        self._still = True

    def known(self, statement: str) -> pa.Table | None:
        return self._known.get(statement)

    def keep(self, statement: str, answer: pa.Table) -> None:
        """Remember an answer, where it is little and of rows that stay as they are."""
        if not self._still or answer.num_rows > FEW or len(self._known) >= MOST:
            return
        if not any(name in statement for name in self._staged):
            self._known[statement] = answer

    def attached(self, table: Table) -> None:
        """A table is attached, maybe anew. Files that are not the case's own may change while they are read."""
        self._still = self._still and all(part.base is None for part in table.parts)
        self._known.clear()

    def staged(self, name: str) -> None:
        """A result is kept under a name, in quotes or without in a statement; another may come to be."""
        if name not in self._staged:
            self._staged.add(name)
            self._known = {text: each for text, each in self._known.items() if name not in text}
