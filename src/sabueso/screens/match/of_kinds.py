"""What rows of one kind have of the row that they name, and others do not, as it is proposed to be compared: lines of a stay have
the price of its room, and not those of breakfasts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np

from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.match.absent import SURELY, USUAL, asked_of, linked_tables, met_keys
from sabueso.screens.named_columns import numbers_there
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    LISTED,
    Proposal,
    is_budget,
    settings_of,
    texts_without,
)

MOST_SEEN, MOST_NUMBERS, MOST_TEXTS, MOST_KINDS = 5_000, 5, 6, 12
"""Rows by which it is judged, numbers of either table, columns that may tell kinds, and kinds of one."""
FEW_OUT = 10
"""Rows that may have another number where nine in ten have the same; where more have, ninety-nine in a hundred must."""


def proposed_of_kinds_told(population: Population) -> Iterator[Proposal]:
    """Numbers of the rows of a kind that are those of the row that they name, but for a few."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    names = texts_without(table, ("id", "document", "party", "account", "currency"))
    names = [name for name in names if name not in table.links][:MOST_TEXTS]
    mine = _numbers(table)
    if not names or not mine:
        return
    there = {link: other for other, link in linked_tables(table) if not is_budget(other)}
    theirs = [
        each
        for each in numbers_there(population)
        if each.by in there
        and each.column in _numbers(each.table)
        and each.column.name != table.links[each.by].key
    ]
    if not theirs:
        return
    trees: dict[str, Tree] = {quoted_name(c.name): sql.column(c.name) for c in mine}
    trees |= {each.sql: expressions.scalar(each.sql, table, "--on") for each in theirs}
    seen, coded = first_of_both(population, trees, names, MOST_SEEN)
    for link, other in there.items():
        for own in mine:
            for each in theirs:
                if each.by != link or own.scale != each.column.scale:
                    continue
                kind = _kind(coded, seen[quoted_name(own.name)], seen[each.sql])
                if kind is not None:
                    yield from _counted(population, other, link, own.name, each.column.name, kind)


def _numbers(table: Table) -> list[Column]:
    """Prices, quantities and other numbers of a row, but what tells it."""
    numbers = table.numbers
    return [c for c in numbers if c.name != table.roles.get("id")][:MOST_NUMBERS]


def _kind(coded: Mapping[str, Coded], own: np.ndarray, their: np.ndarray) -> tuple[str, str] | None:
    """The column and the kind of which nearly all rows have the same, where of all rows too few have."""
    known = ~(np.isnan(own) | np.isnan(their))
    same = known & (own == their)
    if same.sum() < LEAST_OF_RULE or same.sum() >= USUAL * known.sum():
        return None
    for name, kinds in coded.items():
        if not 2 <= len(kinds.values) <= MOST_KINDS:
            continue
        for value, code in sorted((value, code) for code, value in enumerate(kinds.values)):
            rows = known & (kinds.codes == code)
            n = int(rows.sum())
            if n < LEAST_OF_RULE or same[rows].sum() < USUAL * n:
                continue
            _, sizes = np.unique(their[rows], return_counts=True)
            # One number that nearly all have would be the same by the way.
            if sizes.max() < USUAL * n:
                return name, value
    return None


def _counted(
    population: Population, other: Table, link: str, own: str, their: str, kind: tuple[str, str]
) -> Iterator[Proposal]:
    table, (name, value) = population.table, kind
    where = f"{quoted_name(name)} = {literal(value)}"
    keys = {link: table.links[link].key, own: their}
    n, found = met_keys(replace(population, where=where), other, keys)
    out = n - found
    if (
        n < LEAST_OF_RULE
        or not 0 < out <= LISTED
        or found < (SURELY if out > FEW_OUT else USUAL) * n
    ):
        return
    yield Proposal(
        f"{own} of {table.name} other than in {other.name} where {name} is {value}",
        settings_of(where=where) | asked_of(other, list(keys.items())),
        f"Rows of a kind that have another {own} than the {their} of what they name.",
        f"{out:,} of {n:,} rows are not found there as they are",
    )
