"""Which columns of a table can be measured together."""

from __future__ import annotations

from collections.abc import Sequence

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column

NO_MEASURES = ("id", "document", "account", "party", "preparer", "approver", "text")
LEAST_SHARE = 0.5
"""Share of the rows that must have all the measures."""
FEW_CODES = 0.1
"""Distinct values a row at which whole numbers of one length are codes and no measures."""


def proposed_measures(population: Population) -> list[Column]:
    """Number columns that measure something, and that enough rows have together.

    Line numbers, codes and constants are none; of a debit, a credit and the amount made of them the
    amount is taken.
    """
    table = population.table
    roles = {column: role for role, column in table.roles.items()}
    columns = [
        c
        for c in table.columns
        if c.type == "number"
        and c.name not in (FILE_COLUMN, LINE_COLUMN)
        and roles.get(c.name) not in NO_MEASURES
        and not (roles.get(c.name) in ("debit", "credit") and "amount" in table.roles)
    ]
    kept = _measuring(population, columns) if columns else []
    while len(kept) > 1:
        filled = _filled(population, kept)
        if filled[-1] >= LEAST_SHARE * max(_rows(population), 1):
            break
        kept.pop(filled[:-1].index(min(filled[:-1])))
    return kept


def _rows(population: Population) -> int:
    return population.account(None).used


def _measuring(population: Population, columns: Sequence[Column]) -> list[Column]:
    fields = []
    for i, c in enumerate(columns):
        value = sql.column(c.name)
        distinct = exp.Count(this=exp.Distinct(expressions=[value.copy()]))
        figures = (
            exp.Count(this=value),
            distinct,
            exp.Min(this=value.copy()),
            exp.Max(this=value.copy()),
        )
        fields += [exp.alias_(f, f"{name}{i}") for name, f in zip("ndlg", figures, strict=True)]
    row = population.query(population.used(exp.select(*fields))).to_pylist()[0]
    kept = []
    for i, c in enumerate(columns):
        n, distinct, least, greatest = (row[f"{name}{i}"] for name in "ndlg")
        whole = c.scale == 0
        lines = whole and n and distinct == n and int(greatest) - int(least) + 1 == n
        codes = (
            whole
            and n
            and least >= 100
            and len(str(least)) == len(str(greatest))
            and distinct < FEW_CODES * n
        )
        if n and distinct > 1 and not lines and not codes:
            kept.append(c)
    return kept


def _filled(population: Population, columns: Sequence[Column]) -> list[int]:
    """Rows that have each of the columns, and last those that have all of them."""
    present = [exp.Not(this=sql.is_missing(sql.column(c.name))) for c in columns]
    fields = [exp.alias_(sql.only(sql.count(), p), f"n{i}") for i, p in enumerate(present)]
    together = sql.only(sql.count(), sql.both(p.copy() for p in present))
    fields.append(exp.alias_(together, "all"))
    row = population.query(population.used(exp.select(*fields))).to_pylist()[0]
    return [int(row[f"n{i}"]) for i in range(len(columns))] + [int(row["all"])]
