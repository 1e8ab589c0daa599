"""The row that was chosen among several, and is not the best of them: an award to a bid that is not the lowest."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.named_columns import columns_there
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    LISTED,
    Proposal,
    is_budget,
    settings_of,
    texts_without,
)
from sabueso.screens.range.broken import count_broken

BEST_FILE, BEST_LINE = "best_file", "best_line"
MOST_SEEN, MOST_NUMBERS, MOST_KINDS = 20_000, 6, 6
"""Rows by which it is judged, numbers that may be what is chosen by, and values of what says that a row is chosen."""
ONE_EACH, SEVERAL = 0.95, 2.0
"""Share of the groups of which one row is chosen, and rows that a group has on average at least."""
BEST, OF_ALL = 0.8, 0.02
"""Share of the groups whose chosen row is the best one, from which another is odd, and share of them that may be odd."""


class Best(NamedTuple):
    """Rows that were chosen and are not the best, as a condition; by how much another is better, and where it stands."""

    broken: Tree
    by: Tree
    which: Mapping[str, Tree]


def best_of(
    table: Table, column: Column, per: Sequence[str], chosen: str, *, highest: bool
) -> Best:
    """Of the rows of each ``per`` the best is the lowest, or highest, of a number; those without it are not compared."""
    value, wanted = sql.column(column.name), expressions.condition(chosen, table, "--chosen")
    groups = [expressions.scalar(text, table, "--per") for text in per]

    def of_group(what: exp.Expr) -> exp.Window:
        return exp.Window(this=what, partition_by=[tree.copy() for tree in groups])

    def of_the_best(name: str) -> exp.Window:
        order = [sql.ordered(value.copy(), descending=highest)]
        order += [sql.ordered(sql.column(each)) for each in (FILE_COLUMN, LINE_COLUMN)]
        window = of_group(exp.FirstValue(this=sql.column(name)))
        window.set("order", exp.Order(expressions=order))
        return window

    best = of_group((exp.Max if highest else exp.Min)(this=value.copy()))
    ends = (best, value) if highest else (value, best)
    by = exp.Sub(this=ends[0].copy(), expression=ends[1].copy())
    known = [exp.Not(this=sql.is_missing(tree.copy())) for tree in groups]
    worse = exp.GT(this=exp.paren(by.copy()), expression=sql.integer(0))
    broken = exp.and_(exp.paren(wanted), *known, worse)
    places = ((BEST_FILE, FILE_COLUMN), (BEST_LINE, LINE_COLUMN))
    which = {name: exp.Case().when(broken.copy(), of_the_best(column)) for name, column in places}
    return Best(broken, exp.paren(by), which)


class _Chosen(NamedTuple):
    """What says that a row is chosen: its SQL, in words, and the rows seen of which it is so."""

    sql: str
    told: str
    rows: np.ndarray


def proposed_best(population: Population) -> Iterator[Proposal]:
    """One row of each group is chosen, nearly always the lowest or highest of a number: those that are not."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    numbers, links = _numbers(table), table.links
    named = [by for by, link in sorted(links.items()) if link.table.name != table.name]
    if not numbers or not named:
        return
    texts = texts_without(table, ("id", "text"))
    there = {
        each.told: each.sql
        for each in columns_there(population)
        if each.column.type == "text" and each.column.name != links[each.by].key
    }
    trees = {c.name: sql.column(c.name) for c in numbers}
    also = {told: expressions.scalar(text, table, "--chosen") for told, text in there.items()}
    seen, coded = first_of_both(
        population, trees, list(dict.fromkeys([*texts, *named])), MOST_SEEN, also
    )
    for per in named:
        groups = coded[per].codes
        if (groups >= 0).sum() < SEVERAL * max(len(coded[per].values), 1):
            continue
        for chosen in _choices(coded, per, texts, there):
            for column in numbers:
                highest = _which(groups, chosen.rows, seen[column.name])
                if highest is None:
                    continue
                proposal = _counted(population, column, per, chosen, highest=highest)
                if proposal is not None:
                    yield proposal
                    return


def _numbers(table: Table) -> list[Column]:
    """What rows may be chosen by, money first."""
    first = (table.role("price"), table.role("amount"))
    rest = table.numbers
    every = {c.name: c for c in (*(c for c in first if c is not None), *rest)}
    every.pop(table.roles.get("id", ""), None)
    return list(every.values())[:MOST_NUMBERS]


def _choices(
    coded: Mapping[str, Coded], per: str, texts: Sequence[str], there: Mapping[str, str]
) -> Iterator[_Chosen]:
    """What one row of nearly each group has: a state, or what the row that the group is of names."""
    groups = coded[per].codes
    for name in texts:
        values = coded[name].values
        if name == per or not 2 <= len(values) <= MOST_KINDS:
            continue
        for code, value in enumerate(values):
            rows = coded[name].codes == code
            if _is_one_each(groups, rows):
                yield _Chosen(f"{quoted_name(name)} = {literal(value)}", f"{name} is {value}", rows)
    for told, text in there.items():
        if not told.endswith(f" of its {per}"):
            continue
        for name in texts:
            if name == per:
                continue
            rows = _same(coded[name], coded[told])
            if _is_one_each(groups, rows):
                yield _Chosen(f"{quoted_name(name)} = {text}", f"{name} is the {told}", rows)


def _same(one: Coded, other: Coded) -> np.ndarray:
    """The rows of which two columns have the same."""
    places = {value: code for code, value in enumerate(other.values)}
    codes = np.array([places.get(value, -2) for value in one.values] + [-2])
    return np.asarray(codes[one.codes] == other.codes)


def _is_one_each(groups: np.ndarray, rows: np.ndarray) -> bool:
    """Whether one row of nearly each group of several is so."""
    known = groups >= 0
    sizes = np.bincount(groups[known])
    several = sizes >= SEVERAL
    if several.sum() < LEAST_OF_RULE:
        return False
    chosen = np.bincount(groups[known & rows], minlength=len(sizes))
    return float((chosen[several] == 1).mean()) >= ONE_EACH


def _which(groups: np.ndarray, rows: np.ndarray, values: np.ndarray) -> bool | None:
    """Whether the chosen rows are the highest of their groups, or the lowest; None where they are neither, or would be as
    often by chance."""
    known = (groups >= 0) & ~np.isnan(values)
    found, places = np.unique(groups[known], return_inverse=True)
    own, picked = values[known], rows[known]
    low, high = np.full(len(found), np.inf), np.full(len(found), -np.inf)
    np.minimum.at(low, places, own)
    np.maximum.at(high, places, own)
    told = picked & (low[places] < high[places])
    if told.sum() < LEAST_OF_RULE:
        return None
    shares = [float((own[told] == end[places][told]).mean()) for end in (low, high)]
    return None if max(shares) < BEST else shares[1] > shares[0]


def _counted(
    population: Population, column: Column, per: str, chosen: _Chosen, *, highest: bool
) -> Proposal | None:
    table = population.table
    found = best_of(table, column, [quoted_name(per)], chosen.sql, highest=highest)
    n = replace(population, where=chosen.sql).account(None).used
    _, out = count_broken(population, column.name, found.broken)
    if not 0 < out <= max(LISTED, OF_ALL * n) or out > (1 - BEST) * n:
        return None
    end = "highest" if highest else "lowest"
    return Proposal(
        f"{column.name} of {table.name} not the {end} of its {per} where {chosen.told}",
        settings_of(**{end: quoted_name(column.name)}, per=[quoted_name(per)], chosen=chosen.sql),
        f"Rows that were chosen though another of their {per} is {'higher' if highest else 'lower'}.",
        f"of {n:,} that were chosen {n - out:,} are the {end}",
    )
