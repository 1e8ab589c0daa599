"""Figures that another table has for a day and a kind, such as rates of exchange, as they are proposed to be compared."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.match.absent import asked_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, met_by

USUAL, SURELY = 0.9, 0.98
"""Share of the rows of a day and kind that is known which have its figure, from which another is odd; and share of the rows of
the kinds whose days are known, from which a day that is not is no rule of its own."""
MOST_KINDS, MOST_FIGURES = 40, 4


class _List(NamedTuple):
    """A table with one figure, or a few, for a day and a kind."""

    table: Table
    day: Column
    kind: Column
    figures: list[Column]
    kinds: list[str]


def proposed_dated(population: Population) -> Iterator[Proposal]:
    """Rows whose figure is not the one that another table has for their day and kind, where nearly all have that."""
    table = population.table
    day = table.dated()
    if day is None or is_budget(table) or table.roles.keys().isdisjoint(("amount", "price")):
        return
    numbers = [c for c in table.numbers if c.name not in _taken(table)]
    for name, other in sorted(population.tables.items()):
        found = None if name == table.name or not numbers else _list_of(population, other)
        kind = None if found is None else _same_kind(table, found.kind)
        if found is None or kind is None:
            continue
        chosen = f"{quoted_name(kind)} in ({', '.join(map(literal, found.kinds))})"
        rows = replace(population, where=chosen)
        unit = _unit(population, found)
        if unit == "day" and found.day.type != day.type:
            continue
        pair = {kind: found.kind.name}
        n, known = _met(rows, found, day, pair, unit)
        if known < LEAST_OF_RULE or known < SURELY * n:
            continue
        for own in numbers:
            for figure in found.figures:
                _, same = _met(rows, found, day, {**pair, own.name: figure.name}, unit)
                if not USUAL * known <= same < known:
                    continue
                days = [(day.name, found.day.name)] if unit == "day" else []
                on = [*days, (kind, found.kind.name), (own.name, figure.name)]
                yield Proposal(
                    f"{own.name} of {table.name} other than in {name}",
                    asked_of(other, on, where=chosen, when=None if unit == "day" else unit),
                    f"Rows of which {name} has another {figure.name} for their {day.name if unit == 'day' else unit} and {kind}.",
                    f"{same:,} of {known:,} rows have the one of their {unit} and {kind}",
                    knows=own.name,
                )  # fmt: skip


def _list_of(population: Population, other: Table) -> _List | None:
    """A table as one with figures for days and kinds, each day and kind once; None where it is none."""
    own = other.dated()
    texts = [c for c in other.columns if c.type == "text" and not c.is_place]
    figures = other.numbers
    if own is None or "amount" in other.roles:
        return None
    if len(texts) != 1 or not 0 < len(figures) <= MOST_FIGURES:
        return None
    beside = population.beside(other)
    kind, n = sql.column(texts[0].name), exp.alias_(sql.count(), "n")
    each = exp.select(sql.column(own.name), kind, n).group_by(sql.column(own.name), kind.copy())
    most = exp.alias_(exp.Max(this=sql.column("n", "d")), "most")
    kinds = exp.select(exp.alias_(sql.column(texts[0].name, "d"), "kind"), most)
    kinds = kinds.from_(beside.used(each).subquery("d")).group_by(sql.column(texts[0].name, "d"))
    seen = beside.query(kinds.limit(MOST_KINDS + 2)).to_pylist()
    values = [row["kind"] for row in seen if row["kind"] is not None]
    if not 0 < len(values) <= MOST_KINDS or any(row["most"] > 1 for row in seen):
        return None
    return _List(other, own, texts[0], figures, sorted(values))


def _unit(population: Population, found: _List) -> str:
    """Whether figures are of days or, where a kind has one in each month, of months."""
    beside = population.beside(found.table)
    month = sql.period(sql.column(found.day.name), "month", found.table.fiscal_year_starts)
    several = exp.select(exp.alias_(sql.count(), "n"), exp.alias_(month.copy(), "month"))
    each = beside.used(several).group_by(sql.column(found.kind.name), month.copy()).subquery("e")
    fields = {
        "most": exp.Max(this=sql.column("n", "e")),
        "months": exp.Count(this=exp.Distinct(expressions=[sql.column("month", "e")])),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items())).from_(each)
    (row,) = population.query(select).to_pylist()
    return "month" if row["most"] == 1 and int(row["months"]) > 1 else "day"


def _met(
    rows: Population, found: _List, day: Column, keys: Mapping[str, str], unit: str
) -> tuple[int, int]:
    """Rows with their day, or its month, and all keys, and how many of them the list has."""

    def of(date: Column, names: Iterable[str]) -> dict[str, Tree]:
        time: Tree = sql.cast(sql.column(date.name), "DATE")
        if unit != "day":
            time = sql.period(time, unit, rows.table.fiscal_year_starts)
        return {"time": time, **{f"key{i}": sql.column(name) for i, name in enumerate(names)}}

    return met_by(rows, found.table, of(day, keys), of(found.day, keys.values()))


def _same_kind(table: Table, kind: Column) -> str | None:
    """The column of rows that tells the same kinds as one of another table: called alike, or their currency."""
    for column in table.columns:
        if column.type == "text" and column.name.casefold() == kind.name.casefold():
            return column.name
    return table.roles.get("currency")


def _taken(table: Table) -> set[str | None]:
    return {table.roles.get(role) for role in ("amount", "quantity", "id", "document")}
