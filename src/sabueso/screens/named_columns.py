"""Columns of the rows that the rows of a table name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table


class There(NamedTuple):
    """A column of the row that is named: the column that names it, its SQL, what it is called, itself, and its table."""

    by: str
    sql: str
    told: str
    column: Column
    table: Table


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
