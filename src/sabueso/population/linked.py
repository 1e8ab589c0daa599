"""Columns of linked tables: ``supplier.name``, and through two links and more, ``po.receipt.quantity``."""

from __future__ import annotations

import sqlglot.expressions as exp
from sqlglot.errors import SqlglotError

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.parsing import read_expression
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table


def linked(parts: list[str], table: Table, what: str) -> Tree:
    """A linked table's value for each row; its least where a key repeats.

    Parameters
    ----------
    parts : list of str
        Links, and then a column: of the table that the last of them leads to.
    """
    steps, wanted = _path(parts, table, what)
    last = f"{_LINK}{len(steps)}"
    least = exp.select(exp.Min(this=sql.column(wanted.name, last)))
    for place, (column, other, key) in enumerate(steps, 1):
        named = exp.alias_(exp.Table(this=exp.to_identifier(other, quoted=True)), f"{_LINK}{place}")
        before = table.name if place == 1 else f"{_LINK}{place - 1}"
        same = exp.EQ(
            this=sql.column(key, f"{_LINK}{place}"), expression=sql.column(column, before)
        )
        # One engine takes no query within a query within: the tables are joined instead.
        least = least.from_(named).where(same) if place == 1 else least.join(named, on=same)
    return exp.Subquery(this=least)


def linked_column(text: str, table: Table, what: str) -> Column | None:
    """The column of another table that a text names through links, as it stands there; None of any other text.

    Raises
    ------
    UserError
        If a link or the column does not exist.
    """
    try:
        tree = read_expression(text)
    except SqlglotError:
        return None
    if not isinstance(tree, exp.Column) or len(tree.parts) < 2:
        return None
    return _path([part.name for part in tree.parts], table, what)[1]


def _path(parts: list[str], table: Table, what: str) -> tuple[list[tuple[str, str, str]], Column]:
    """(column, other table, its key) of each link, and the column at the end."""
    steps, at = [], table
    shown = ".".join(parts)
    try:
        for name in parts[:-1]:
            column, link = at.link(name)
            steps.append((column.name, link.table.name, link.key))
            at = link.table
        return steps, at.column(parts[-1])
    except UserError as error:
        raise UserError(f"{what} {shown!r}: {error}") from None


_LINK = "_link"
"""The beginning of names that no table of a case can have."""
