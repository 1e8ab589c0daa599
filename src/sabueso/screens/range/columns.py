"""Columns of a row, or of a row that it names, as settings name them."""

from __future__ import annotations

from sabueso.population import expressions, sql
from sabueso.population.linked import linked_column
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name


def is_own(text: str, table: Table) -> bool:
    """Whether a text names a column of the row itself, or nothing else that it may be."""
    return bare_name(text) in {c.name for c in table.columns} or not set(text) & set(".(*+/'")


def listed_column(text: str, table: Table) -> tuple[Tree, str, str]:
    """A column of a row, or of one that it names, whose values are listed: as a tree, its name, and its type."""
    named = None if is_own(text, table) else linked_column(text, table, "--column")
    if named is None:
        column = table.column(bare_name(text))
        return sql.column(column.name), column.name, column.type
    called = expressions.label(text, table).replace('"', "")
    return expressions.scalar(text, table, "--column"), called, named.type
