"""Of two tables whose rows name one another, which names which: payments name their bills, and no bill its payment."""

from __future__ import annotations

from dataclasses import replace

from sabueso.population.population import Population
from sabueso.population.table import Table


def tables_named(table: Table) -> set[str]:
    """The tables whose rows a table's rows name."""
    return {link.table.name for link in table.links.values()}


def are_linked(table: Table, other: Table) -> bool:
    """Whether rows of one name rows of the other."""
    pairs = ((table, other), (other, table))
    return any(to.name in tables_named(of) for of, to in pairs)


def named_by_others(population: Population, table: Table) -> set[str]:
    """Columns by which a table's rows tell themselves apart, and which name rows of another table only since those
    name them."""
    own = table.roles.get("id")
    return {
        column
        for column, link in table.links.items()
        if column == own
        and _names(population.tables.get(link.table.name, link.table), link.key, table, own)
    }


def one_way(population: Population) -> Population:
    """The rows and the tables beside them, without what names whoever names it."""

    def kept(table: Table) -> Table:
        back = named_by_others(population, table)
        links = {column: link for column, link in table.links.items() if column not in back}
        return replace(table, links=links) if back else table

    tables = {name: kept(table) for name, table in population.tables.items()}
    return replace(population, table=kept(population.table), tables=tables)


def _names(other: Table, column: str, table: Table, key: str) -> bool:
    """Whether a column of another table, which does not tell its own rows apart, names the rows of one by a key."""
    link = None if other.roles.get("id") == column else other.links.get(column)
    return link is not None and (link.table.name, link.key) == (table.name, key)
