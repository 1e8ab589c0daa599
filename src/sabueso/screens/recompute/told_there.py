"""Amounts that are told by what several rows name, or by what that names in turn: a fee by its plan, a commission by the plan
of what was sold; of all rows, or of those of one kind."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from sabueso.population import expressions
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, few_of, settings_of, texts_without
from sabueso.screens.recompute.amounts import further
from sabueso.screens.recompute.priced import Priced, held, is_rule
from sabueso.screens.recompute.ties import in_three
from sabueso.stats.additive import HOLDS

MOST_SEEN, MOST_THERE = 5_000, 5
"""Rows by which it is judged, and numbers of the other table that are tried."""
DIFFERENT, FEW_DIFFERENT, BY_CHANCE = 5, 3, 0.6
"""Different amounts that there must be, or fewer where less than a share of the rows would have the amount of another."""
OF_EACH = 1.5
"""Rows in the mean that name one row, from which it is told for several: of one each sums are compared."""
MOST_KINDS_OF, MOST_KINDS, LEFT = 4, 4, 0.2
"""Columns of texts that may tell kinds of rows apart, kinds of one, and the share of the rows that differ in all which may do so in
those of a kind, at most, for it to be told of these."""


class Way(NamedTuple):
    """How rows lead to a row of another table: the SQL of what names it, what it is called, and the table."""

    sql: str
    told: str
    table: Table


class _Kind(NamedTuple):
    """Rows of one kind, or all: their condition, how they are told, and which of those seen they are."""

    where: str | None
    told: str
    rows: np.ndarray


def proposed_told_there(population: Population, amount: Column) -> Iterator[Proposal]:
    """Amounts that are those of the row that several name, or of the row that this names."""
    table = population.table
    own = [amount, *further(table, amount)]
    left = {each.name for each in own}
    kinds = texts_without(table, ("id", "document", "text", "currency", "party"))
    kinds = [name for name in kinds if name not in table.links][:MOST_KINDS_OF]
    for way in ways(population):
        theirs = _numbers(way.table, amount)
        if not theirs or not left:
            continue
        named = {c.name: f"{way.sql}.{quoted_name(c.name)}" for c in theirs}
        asked = [*(quoted_name(c.name) for c in own), *named.values()]
        trees = {text: expressions.scalar(text, table, "--expect") for text in asked}
        key = {way.sql: expressions.scalar(way.sql, table, "--expect")}
        numbers, codes = first_of_both(population, trees, kinds, MOST_SEEN, key)
        if not are_several(codes[way.sql].codes):
            continue
        there = {name: numbers[text] for name, text in named.items()}
        for mine in (each for each in own if each.name in left):
            values = numbers[quoted_name(mine.name)]
            proposal = _told(population, mine, values, there, way, codes, kinds)
            if proposal is not None:
                left.discard(mine.name)
                yield proposal
                break


def _told(
    population: Population,
    mine: Column,
    values: np.ndarray,
    there: Mapping[str, np.ndarray],
    way: Way,
    codes: Mapping[str, Coded],
    kinds: list[str],
) -> Proposal | None:
    """That an amount is one of the numbers there: in all rows, or in those of a kind, where most that differ are of another."""
    best: tuple[Priced, str | None] | None = None
    for kind in _kinds(values, codes, kinds):
        if best is not None and best[0].differing <= few_of(best[0].checked):
            break
        found = _held(population, mine, values, there, way, kind)
        fewer = best is None or (found is not None and LEFT * best[0].differing >= found.differing)
        if found is not None and fewer:
            best = found, kind.where
    if best is None or not best[0].differing:
        return None
    made = best[0].proposal(mine.name, population.table.name, f"what {way.table.name} tells")
    return replace(made, settings={**made.settings, **settings_of(where=best[1])})


def _held(
    population: Population,
    mine: Column,
    values: np.ndarray,
    there: Mapping[str, np.ndarray],
    way: Way,
    kind: _Kind,
) -> Priced | None:
    """The number that nearly all rows of a kind have, or have with a minus."""
    for sign, word in ((1, ""), (-1, "minus ")) if kind.where else ((1, ""),):
        own = values[kind.rows]
        shares = {name: _same(own, sign * theirs[kind.rows]) for name, theirs in there.items()}
        best = max(shares, key=lambda name: shares[name])
        if shares[best] >= HOLDS:
            text = f"{way.sql}.{quoted_name(best)}"
            rows = replace(population, where=kind.where) if kind.where else population
            told = f"{word}{best} of {way.told}{kind.told}"
            found = held(rows, mine, text if sign > 0 else f"-{text}", told)
            if is_rule(found):
                return found
    return None


def _kinds(values: np.ndarray, codes: Mapping[str, Coded], names: list[str]) -> Iterator[_Kind]:
    """All rows, and then those of each kind of a few."""
    yield _Kind(None, "", np.ones(len(values), dtype=bool))
    for name in names:
        found = codes[name]
        if not 2 <= len(found.values) <= MOST_KINDS:
            continue
        for place, value in enumerate(found.values):
            rows = found.codes == place
            if rows.sum() >= LEAST_OF_RULE:
                yield _Kind(
                    f"{quoted_name(name)} = {literal(value)}", f" where {name} is {value}", rows
                )


def ways(population: Population) -> Iterator[Way]:
    """What rows name, and then what that names in turn."""
    table = population.table
    further_on: list[Way] = []
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        if other.name == table.name or in_three(population, other):
            continue
        yield Way(quoted_name(column), f"its {column}", other)
        for each, of in sorted(other.links.items()):
            to = population.tables.get(of.table.name, of.table)
            if to.name not in (table.name, other.name):
                sql = ".".join(map(quoted_name, (column, each)))
                further_on.append(Way(sql, f"the {each} of its {column}", to))
    yield from further_on


def _numbers(other: Table, amount: Column) -> list[Column]:
    """Numbers of another table that may be an amount: with as many decimals, and no price or quantity, which are
    compared by a match."""
    none = {other.roles.get(role) for role in ("price", "quantity", "id")}
    alike = other.numbers
    return [c for c in alike if c.name not in none and c.scale == amount.scale][:MOST_THERE]


def are_several(codes: np.ndarray) -> bool:
    known = codes[codes >= 0]
    return len(known) >= max(LEAST_OF_RULE, OF_EACH * len(np.unique(known)))


def _same(mine: np.ndarray, theirs: np.ndarray) -> float:
    """Of the rows that have both, the share in which they are the same, if they are several."""
    known = ~(np.isnan(mine) | np.isnan(theirs))
    mine, theirs = mine[known], theirs[known]
    if len(mine) < LEAST_OF_RULE:
        return 0.0
    different, counts = np.unique(mine, return_counts=True)
    if len(different) < DIFFERENT:
        others = dict(zip(*np.unique(theirs, return_counts=True), strict=True))
        chance = sum(int(n) * int(others.get(v, 0)) for v, n in zip(different, counts, strict=True))
        if len(different) < FEW_DIFFERENT or chance > BY_CHANCE * len(mine) ** 2:
            return 0.0
    return float((mine == theirs).mean())
