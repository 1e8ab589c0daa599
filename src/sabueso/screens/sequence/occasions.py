"""Occasions that columns name, such as a school year and a term, or a run of the payroll, as numbers that follow one another
in the order of their first days."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Table, bare_name

MOST = 400
"""Occasions that there may be: numbers of papers are none."""


@dataclass(frozen=True)
class Occasions:
    """The names of occasions in their order; ``column`` is what names one in a condition."""

    names: tuple[str, ...]
    column: str
    tree: Tree

    @classmethod
    def of(cls, columns: Sequence[str], day: str | None, population: Population) -> Occasions:
        """Those that rows name, in the order of the first days of each: of the role date, or of a column of days.

        Raises
        ------
        UserError
            If there are no days, or too many occasions.
        """
        table = population.table
        column = _text(columns, table)
        tree = expressions.scalar(column, table, "--occasions")
        first = exp.Min(this=sql.cast(_day(day, table), "DATE"))
        select = exp.select(exp.alias_(tree.copy(), "name"), exp.alias_(first, "first"))
        missing = [Reason("missing", sql.is_missing(tree.copy()))]
        grouped = population.used(select, missing).group_by(tree.copy()).limit(MOST + 1)
        rows = population.query(grouped).to_pylist()
        if len(rows) > MOST:
            raise UserError(
                f"--occasions {', '.join(columns)} of table {table.name!r} name more than {MOST:,}; expected columns "
                "that name occasions, such as a year and a term"
            )
        # What has no day at all comes last.
        rows.sort(key=lambda row: (row["first"] is None, str(row["first"]), row["name"]))
        return cls(tuple(row["name"] for row in rows), column, tree)

    def number(self) -> Tree:
        """A number for each occasion: one more than for the one before it."""
        if not self.names:
            return sql.cast(exp.null(), "BIGINT")
        choice = exp.Case(this=self.tree.copy())
        for place, name in enumerate(self.names, 1):
            choice = choice.when(sql.text(name), sql.integer(place), copy=False)
        return choice

    def named(self, number: int) -> str:
        return self.names[number - 1]

    def told(self, number: int) -> str:
        """The value of the column of a condition."""
        return self.named(number)


def _text(columns: Sequence[str], table: Table) -> str:
    """The columns as one text, with a blank between them."""
    parts = []
    for given in columns:
        column = table.column(bare_name(given))
        name = quoted_name(column.name)
        parts.append(name if column.type == "text" else f"cast({name} as text)")
    return " || ' ' || ".join(parts)


def _day(given: str | None, table: Table) -> Tree:
    date = table.dated()
    if given is None and date is None:
        raise UserError(
            f"--occasions needs a date in the role date; table {table.name!r} has none: say with --of"
        )
    if given is None and date is not None:
        return sql.column(date.name)
    column = table.column(bare_name(str(given)))
    if column.type not in ("date", "timestamp"):
        raise UserError(f"--of {given}: --occasions takes a column of days")
    return sql.column(column.name)
