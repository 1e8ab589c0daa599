"""Prices and rates that hardly any row has, where all others have one of a few, as they are proposed: a list price that was
raised for three members, a discount of 100 among 0, 10 and 25."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.words import CalledSo, either
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_numbers
from sabueso.screens.proposal import DISCOUNT, LEAST_OF_RULE, TAX, Proposal, is_budget, settings_of

MOST_SEEN, MOST_COLUMNS = 20_000, 6
"""Rows by which it is judged what may be looked at, and columns that are."""
MOST_KINDS, MOST_ODD, SHARE = 8, 10, 0.03
"""Numbers that all other rows have one of, rows that may be odd, and their share."""
TIMES = 10
"""How many times as many rows each usual number has as all odd ones together."""
_RATE = CalledSo(
    r"%|\brate\b|price|perc|pct|tasa|tarif|prec|preis|prix|prezz|pre[çc]o|porcen|satz|prozent|taux|pourc|aliquota|tarief|prijs"
)


def proposed_odd_numbers(population: Population) -> Iterator[Proposal]:
    """Of each column of prices or rates the few rows that have none of its usual numbers."""
    table = population.table
    columns = _columns(table)
    if not columns or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    seen = first_numbers(population, {c.name: sql.column(c.name) for c in columns}, MOST_SEEN)
    for column in columns:
        values = seen[column.name][~np.isnan(seen[column.name])]
        if not len(values) or np.unique(values).size > MOST_KINDS + MOST_ODD:
            continue
        each = _counts(population, column)
        usual = _usual(each)
        odd = {value: n for value, n in each.items() if value not in usual}
        if not usual or not odd or _came_later(population, column, usual):
            continue
        n, out = sum(each.values()), sum(odd.values())
        shown = [f"{value:,f}" for value in sorted(usual)]
        yield Proposal(
            f"{column.name} of {table.name} other than {either(shown)}",
            settings_of(column=quoted_name(column.name), allowed=[format(v, "f") for v in sorted(usual)]),
            "A price, or a rate, that hardly any other row has.",
            f"{n - out:,} of {n:,} rows have {either(shown)}",
        )  # fmt: skip


def _columns(table: Table) -> list[Column]:
    """The price, and what is called as prices and rates are."""
    numbers = table.numbers
    taken = {n for role, n in table.roles.items() if role != "price"} | set(table.links)
    named = [c for c in numbers if c.name not in taken and _is_called_so(c.name)]
    return sorted(named, key=lambda c: c.name != table.roles.get("price"))[:MOST_COLUMNS]


def _is_called_so(name: str) -> bool:
    return bool(_RATE.search(name) or DISCOUNT.search(name) or TAX.search(name))


def _counts(population: Population, column: Column) -> dict[Decimal, int]:
    """How many rows have each number."""
    value = sql.column(column.name)
    select = exp.select(exp.alias_(value, "v"), exp.alias_(sql.count(), "n"))
    select = population.used(select).where(exp.Not(this=sql.is_missing(value.copy())))
    found = population.query(select.group_by(value.copy()).limit(2 * (MOST_KINDS + MOST_ODD)))
    return {Decimal(str(row["v"])): int(row["n"]) for row in found.to_pylist()}


def _usual(each: dict[Decimal, int]) -> set[Decimal]:
    """The few numbers of which each has many times the rows that all but these have; none where there are no such."""
    ordered = sorted(each, key=lambda value: -each[value])
    n = sum(each.values())
    for many in range(1, min(MOST_KINDS, len(ordered) - 1) + 1):
        out = n - sum(each[value] for value in ordered[:many])
        if out <= min(MOST_ODD, SHARE * n):
            return set(ordered[:many]) if each[ordered[many - 1]] >= TIMES * out else set()
    return set()


def _came_later(population: Population, column: Column, usual: set[Decimal]) -> bool:
    """Whether every row with another number is after all that have a usual one: a price that was raised."""
    date = population.table.dated()
    if date is None:
        return False
    value, day = sql.column(column.name), sql.column(date.name)
    has = exp.In(this=value, expressions=[sql.number(each) for each in sorted(usual)])
    fields = {
        "first": exp.Min(this=exp.Case().when(exp.Not(this=has), day)),
        "last": exp.Max(this=exp.Case().when(has.copy(), day.copy())),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    (row,) = population.query(population.used(select)).to_pylist()
    return row["first"] is not None and row["last"] is not None and row["first"] > row["last"]
