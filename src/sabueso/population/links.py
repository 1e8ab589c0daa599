"""Which columns of different tables hold the same values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table

LEAST_SHOWN, LEAST_FOUND = 0.05, 5
"""Share and number of the rows found from which two columns may have to do with each other."""
LEAST_WITHIN = 0.9
"""The share within one table, whose columns easily share a few codes."""


@dataclass(frozen=True)
class Link:
    """A column whose values are found in another table's column of unique values."""

    column: str
    other: str
    rows: int
    found: int

    @property
    def share(self) -> float:
        return self.found / self.rows if self.rows else 0.0


def links(populations: Sequence[Population]) -> list[Link]:
    """Columns whose texts, or some of them, are found among the unique values of another table's column."""
    keys = []
    for p in populations:
        for c in p.table.columns:
            if c.type == "text" and c.name not in (FILE_COLUMN, LINE_COLUMN):
                value = sql.column(c.name)
                fields = [
                    exp.alias_(exp.Count(this=value), "n"),
                    exp.alias_(exp.Count(this=exp.Distinct(expressions=[value.copy()])), "d"),
                ]
                row = p.query(exp.select(*fields).from_(p.source())).to_pylist()[0]
                keys.append((p, c, row["n"], row["d"]))
    found = []
    for p, c, filled, many in keys:
        for other, key, n, distinct in keys:
            if key is c or not distinct or n != distinct or not filled:
                continue
            own = other is p
            if own and (filled == many or not _is_another(p, c, key)):
                continue
            link = _link(p, c, other.table, key, filled)
            least = LEAST_WITHIN if own else LEAST_SHOWN
            if link.share >= least and link.found >= LEAST_FOUND:
                found.append(link)
    return sorted(found, key=lambda link: (-link.share, link.column, link.other))


def _is_another(p: Population, c: Column, key: Column) -> bool:
    """Whether a column names other rows of its table, as parents do, and does not repeat the row's own key."""
    same = exp.EQ(this=sql.column(c.name), expression=sql.column(key.name))
    own = exp.select(exp.alias_(sql.count(), "n")).from_(p.source()).where(same)
    return 2 * int(p.query(own).to_pylist()[0]["n"]) < int(p.account(None).rows)


def _link(p: Population, c: Column, other: Table, key: Column, filled: int) -> Link:
    left, right = sql.column(c.name, "a"), sql.column(key.name, "b")
    select = exp.select(exp.alias_(sql.count(), "n")).from_(exp.alias_(p.source(), "a"))
    named = exp.alias_(exp.Table(this=exp.to_identifier(other.name, quoted=True)), "b")
    select = select.join(named, on=exp.EQ(this=left, expression=right), join_type="inner")
    rows = p.query(select).to_pylist()[0]["n"]
    return Link(f"{p.table.name}.{c.name}", f"{other.name}.{key.name}", filled, rows)
