"""Days between two dates of a row, or of a row that it names."""

from __future__ import annotations

from sabueso.population import expressions
from sabueso.population.expressions import quoted_name
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name
from sabueso.screens.range.columns import is_own


def days_from(earlier: str, later: str, table: Table) -> Tree:
    """Days from one date of a row, or of a row it is linked with, to another.

    Raises
    ------
    UserError
        If one is no date.
    """

    def named(text: str) -> str:
        own = is_own(text, table)
        return quoted_name(table.column(bare_name(text)).name) if own else text

    return expressions.scalar(f"days({named(later)}, {named(earlier)})", table, "--in-order")
