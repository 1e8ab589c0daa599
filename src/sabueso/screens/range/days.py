"""Days between two dates of a row, or of a row that it names."""

from __future__ import annotations

from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name


def days_from(earlier: str, later: str, table: Table) -> Tree:
    """Days from one date of a row, or of a row it is linked with, to another.

    Raises
    ------
    UserError
        If one is no date.
    """
    known = {column.name for column in table.columns}

    def named(text: str) -> str:
        name = bare_name(text)
        plain = name in known or not set(text) & set(".(")
        return quoted_name(table.column(name).name) if plain else text

    return expressions.scalar(f"days({named(later)}, {named(earlier)})", table, "--in-order")
