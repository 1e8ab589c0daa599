"""Numbers of a row, and of the rows that it names, those that these name too."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Role, Table


class NamedNumber(NamedTuple):
    """A number as SQL, how it is told, and how many links lead to it."""

    sql: str
    told: str
    links: int


def named_numbers(population: Population, links: int, none: tuple[Role, ...]) -> list[NamedNumber]:
    """Numbers that have none of some roles where they stand: those of the row first, then those of rows up to so many
    links away. No table is looked into twice on one way."""
    return sorted(
        _of(population, population.table, (), links, none), key=lambda number: number.links
    )


def _of(
    population: Population,
    table: Table,
    path: tuple[tuple[str, str], ...],
    links: int,
    none: tuple[Role, ...],
) -> Iterator[NamedNumber]:
    columns = [column for column, _ in path]
    taken = {table.roles.get(role) for role in none}
    for column in table.columns:
        if column.type == "number" and not column.is_place and column.name not in taken:
            text = ".".join(map(quoted_name, (*columns, column.name)))
            yield NamedNumber(text, _told(column, columns), len(columns))
    seen = {population.table.name, *(name for _, name in path)}
    for name, link in sorted(table.links.items()) if links else ():
        to = population.tables.get(link.table.name, link.table)
        if to.name not in seen:
            yield from _of(population, to, (*path, (name, to.name)), links - 1, none)


def _told(column: Column, path: list[str]) -> str:
    """``Free days of the Carrier of its Shipment``."""
    if not path:
        return column.name
    *near, last = reversed(path)
    return " of ".join([column.name, *(f"the {name}" for name in near), f"its {last}"])
