"""Kinds that hardly any row has together, and signs that hardly any row of a kind has, as they are proposed: a tax code for
abroad on a bill to a customer at home, a credit note above nothing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from sabueso.base.words import either
from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role
from sabueso.screens.first_rows import Coded, first_of_both
from sabueso.screens.named_columns import columns_there
from sabueso.screens.proposal import (
    LEAST_OF_RULE,
    LEAST_ROWS,
    Proposal,
    Signs,
    is_budget,
    settings_of,
    signs_of,
    texts_without,
)
from sabueso.screens.range.states import counted

MOST_SEEN, MOST_KINDS = 20_000, 12
"""Rows by which it is judged, and kinds of one column."""
MOST_OWN, MOST_NAMED = 6, 8
"""Columns of kinds of a row, and of the rows that it names."""
LEAST_EXPECTED, TIMES, MOST = 30, 20, 10
"""Rows with both kinds that there would be if one had nothing to do with the other, how many times as many as there are, and
how many may be."""
MOST_PROPOSED = 3
SIGNED = 0.9
"""Share of the rows of a kind that have one sign, from which the other is odd."""
_NO_KIND: tuple[Role, ...] = ("id", "document", "text", "party", "preparer", "approver")


class _Pair(NamedTuple):
    """Where one kind is, others of a column hardly ever are: the condition, in words, the column, what is odd, how many times
    fewer there are than by chance, and what share of the rows there would be."""

    where: str
    told: str
    column: str
    odd: list[str]
    times: float
    share: float


def proposed_seldom(population: Population) -> Iterator[Proposal]:
    """Kinds, and signs of amounts, that hardly any row of another kind has."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_ROWS or population.where:
        return
    own = texts_without(table, _NO_KIND)[:MOST_OWN]
    there = _named(population)
    if not own:
        return
    also = {told: expressions.scalar(text, table, "--where") for told, text in there.items()}
    amount = table.role("amount")
    trees: dict[str, Tree] = {} if amount is None else {amount.name: sql.column(amount.name)}
    numbers, seen = first_of_both(population, trees, own, MOST_SEEN, also)
    coded = {name: each for name, each in seen.items() if 2 <= len(each.values) <= MOST_KINDS}
    sqls = {name: there.get(name, quoted_name(name)) for name in coded}
    found = list(_pairs(coded, sqls, [name for name in own if name in coded]))
    for pair in sorted(found, key=lambda pair: -pair.times)[:MOST_PROPOSED]:
        yield from _as_proposed(population, pair)
    if amount is not None:
        kinds = {name: each for name, each in coded.items() if name in own}
        yield from _signs(population, amount, kinds, numbers[amount.name])


def _named(population: Population) -> dict[str, str]:
    """Texts of the rows that a row names, with their SQL."""
    links = population.table.links
    found = {
        each.told: each.sql
        for each in columns_there(population)
        if each.column.name in texts_without(each.table, _NO_KIND)
        and each.column.name not in (links[each.by].key, *each.table.links)
    }
    return dict(list(found.items())[:MOST_NAMED])


def _pairs(coded: Mapping[str, Coded], sqls: Mapping[str, str], own: list[str]) -> Iterator[_Pair]:
    for place, column in enumerate(own):
        for name, kinds in coded.items():
            # What both tell alike is compared by a match.
            if name == column or name in own[:place] or _tell_alike(coded[column], kinds):
                continue
            known = (coded[column].codes >= 0) & (kinds.codes >= 0)
            values, width = coded[column].values, len(coded[column].values)
            codes = kinds.codes[known] * width + coded[column].codes[known]
            counts = np.bincount(codes, minlength=len(kinds.values) * width).reshape(-1, width)
            expected = np.outer(counts.sum(axis=1), counts.sum(axis=0)) / max(counts.sum(), 1)
            for row, kind in enumerate(kinds.values):
                few = (counts[row] > 0) & (counts[row] <= MOST) & (expected[row] >= LEAST_EXPECTED)
                few &= counts[row] * TIMES <= expected[row]
                odd = sorted(values[i] for i in np.flatnonzero(few))
                if odd and counts[row][few].sum() <= MOST:
                    times = float((expected[row] / np.maximum(counts[row], 1))[few].max())
                    share = float(expected[row][few].sum() / counts[row].sum())
                    where = f"{sqls[name]} = {literal(kind)}"
                    yield _Pair(where, f"{name} is {kind}", column, odd, times, share)


def _tell_alike(one: Coded, other: Coded) -> bool:
    """Whether half of the rows have the same in both columns."""
    places = {value: code for code, value in enumerate(other.values)}
    codes = np.array([places.get(value, -2) for value in one.values])
    known = (one.codes >= 0) & (other.codes >= 0)
    return bool(2 * (codes[one.codes[known]] == other.codes[known]).sum() >= known.sum())


def _as_proposed(population: Population, pair: _Pair) -> Iterator[Proposal]:
    table = population.table
    rows = replace(population, where=pair.where)
    each = counted(rows, sql.column(pair.column))
    n, out = sum(each.values()), sum(each.get(value, 0) for value in pair.odd)
    allowed = sorted(set(each) - set(pair.odd))
    if not allowed or not 0 < out <= 2 * MOST or len(allowed) > MOST_KINDS:
        return
    yield Proposal(
        f"{pair.column} of {table.name} hardly ever {either(pair.odd)} where {pair.told}",
        settings_of(where=pair.where, column=quoted_name(pair.column), allowed=allowed),
        "Kinds that hardly any row has together.",
        f"{out:,} of {n:,} rows are so, and about {pair.share * n:,.0f} would be if one had nothing to do with the other",
    )


def _signs(
    population: Population, amount: Column, coded: Mapping[str, Coded], seen: np.ndarray
) -> Iterator[Proposal]:
    """Amounts of a kind that are nearly all above nothing, or below it, where those of another kind are not."""
    table = population.table
    for name, kinds in coded.items():
        ways = {value: _way(seen[kinds.codes == code]) for code, value in enumerate(kinds.values)}
        if not {1, -1} <= set(ways.values()):
            continue
        for value, way in sorted(ways.items()):
            where = f"{quoted_name(name)} = {literal(value)}"
            signs = signs_of(replace(population, where=where), amount)
            out = signs.negative if way > 0 else signs.positive
            if way and 0 < out <= MOST:
                side = "below" if way > 0 else "above"
                yield Proposal(
                    f"{amount.name} of {table.name} {side} 0 where {name} is {value}",
                    settings_of(
                        where=where, on=quoted_name(amount.name),
                        **{"least" if way > 0 else "greatest": "0"},
                    ),
                    "Amounts with another sign than those of their kind.",
                    f"{out:,} of {signs.positive + signs.negative:,} are {side} 0",
                )  # fmt: skip
        return


def _way(amounts: np.ndarray) -> int:
    """Which sign nearly all of some amounts have, if they are many; else 0."""
    signs = Signs(len(amounts), int((amounts > 0).sum()), int((amounts < 0).sum()))
    return signs.way(SIGNED) if signs.positive + signs.negative >= LEAST_OF_RULE else 0
