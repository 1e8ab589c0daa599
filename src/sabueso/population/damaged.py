"""Lines of the client's files that could not be read as rows, as they were listed when they were set aside."""

from __future__ import annotations

import csv
import re
from collections.abc import Callable, Iterator

from sabueso.population.table import Table


def damaged_lines(table: Table) -> Iterator[str]:
    """The text of each line of a table's files that was set aside as damaged."""
    for path in table.quarantined:
        with path.open(encoding="utf-8-sig", newline="") as file:
            for row in csv.DictReader(file):
                yield row.get("record") or ""


def damaged_words(table: Table) -> frozenset[str]:
    """The words of damaged lines, as numbers of a series may stand among them."""
    return frozenset(
        word for line in damaged_lines(table) for word in re.split(r"[\s;,|\"']+", line) if word
    )


def all_damaged(
    first: int, last: int, spelled: Callable[[int], str], damaged: frozenset[str]
) -> bool:
    """Whether every number of a gap, both ends included, is among the words of damaged lines: those
    numbers are in the files."""
    # A gap longer than there are words is not counted through.
    return last - first < len(damaged) and all(
        spelled(number) in damaged for number in range(first, last + 1)
    )
