"""Two tables whose rows name the same rows of a third: the deliveries of a member, and what is settled with each."""

from __future__ import annotations

from collections.abc import Iterator

from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.screens.first_rows import AGAIN


def named_by_both(table: Table, other: Table) -> Iterator[tuple[str, str, Table]]:
    """Of each pair of columns by which both tables name the same rows of a third: the table's, the other's, and the third."""
    for column, link in sorted(table.links.items()):
        for theirs, their in sorted(other.links.items()):
            if (their.table.name, their.key) == (link.table.name, link.key):
                yield column, theirs, link.table


def happened(population: Population, other: Table, third: Table) -> bool:
    """Whether rows of two tables name what happened once, such as a shipment or a stay, and no person or thing that comes
    again and again."""
    if third.dated() is not None:
        return True
    if all(c.type not in ("date", "timestamp") for c in third.columns):
        return False
    rows = [
        p.account(None).used
        for p in (population, population.beside(other), population.beside(third))
    ]
    return min(rows[:2]) <= AGAIN * rows[2]
