"""Columns of the rows that the rows of a table name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Role, Table


class There(NamedTuple):
    """A column of the row that is named: the column that names it, its SQL, what it is called, itself, and its table."""

    by: str
    sql: str
    told: str
    column: Column
    table: Table


_NO_MEASURES: tuple[Role, ...] = ("id", "document", "price", "debit", "credit")
"""Roles of numbers that are not how much there is of something."""


def measures_of(table: Table) -> list[Column]:
    """The numbers of a row that say how much: no price of one, no side of an entry, and nothing that names rows."""
    none = {table.roles.get(role) for role in _NO_MEASURES}
    return [c for c in table.numbers if c.name not in none]


def columns_there(population: Population) -> Iterator[There]:
    """Each, link by link; a row of the same table is none."""
    own = population.table
    for by, link in sorted(own.links.items()):
        other = population.tables.get(link.table.name, link.table)
        for each in other.columns if other.name != own.name else ():
            if not each.is_place:
                sql = ".".join(map(quoted_name, (by, each.name)))
                yield There(by, sql, f"{each.name} of its {by}", each, other)


def numbers_there(population: Population) -> Iterator[There]:
    """The numbers among them."""
    return (there for there in columns_there(population) if there.column.type == "number")


def measures_there(population: Population) -> Iterator[There]:
    """The numbers among them that say how much."""
    return (
        there for there in numbers_there(population) if there.column in measures_of(there.table)
    )
