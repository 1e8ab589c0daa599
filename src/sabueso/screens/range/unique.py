"""Columns that together tell rows apart, and rows that have what another has already: two bills of one thing for one
visit, two sheets of one person for one day."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from math import expm1, log1p
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.words import listed
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.period_names import names_period
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Role, Table
from sabueso.screens.first_rows import first_coded, first_codes, numbers_by_head
from sabueso.screens.in_order import order_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, few_of, is_budget, settings_of
from sabueso.screens.range.broken import count_broken

FIRST_FILE, FIRST_LINE = "first_file", "first_line"
MOST_SEEN = 20_000
"""Rows that are looked at before anything is counted in all."""
MANY_TEXTS = 20
"""Different texts that a column must have by which repeats are told."""
MOST_COLUMNS, LEAST_ALIKE = 8, 3
"""Columns that are tried, and in how many, at least, rows must be alike to be the same thing."""
BY_CHANCE, TIMES = 20, 5
"""Rows that would come again if one of the columns said nothing of the others, from which it is a rule that none does; and how
many times as many as there are."""
COMES_AGAIN = 0.9
"""Share of the rows whose value is another, up to which a column does not tell them apart alone."""
DENSE = 0.3
"""Share of the numbers from the least to the greatest that some rows have, from which they are a series."""
_NUMBERED = re.compile(r"(.*?)([0-9]{1,15})")
_NO_KEYS: tuple[Role, ...] = (
    "id", "document", "text", "amount", "debit", "credit", "quantity", "price", "currency", "entered",
)  # fmt: skip


class Again(NamedTuple):
    """Rows with what an earlier row has, as a condition, how many of these there are, and the file and the line of the
    first."""

    broken: Tree
    before: Tree
    first: Mapping[str, Tree]


def again(table: Table, keys: Sequence[str]) -> Again:
    """Rows whose keys are all known and those of a row before it, by date and as rows stand in the sources."""
    trees = [expressions.scalar(text, table, "--unique") for text in keys]

    def of_the_same(what: exp.Expr) -> exp.Window:
        return exp.Window(
            this=what,
            partition_by=[tree.copy() for tree in trees],
            order=exp.Order(expressions=order_of(table)),
        )

    place = of_the_same(exp.RowNumber())
    known = [exp.Not(this=sql.is_missing(tree.copy())) for tree in trees]
    before = exp.Sub(this=place, expression=sql.integer(1))
    later = exp.GT(this=exp.paren(before.copy()), expression=sql.integer(0))
    broken = exp.and_(*known, later)
    first = {
        name: exp.Case().when(broken.copy(), of_the_same(exp.FirstValue(this=sql.column(column))))
        for name, column in ((FIRST_FILE, FILE_COLUMN), (FIRST_LINE, LINE_COLUMN))
    }
    return Again(broken, exp.paren(before), first)


def proposed_unique(population: Population) -> Iterator[Proposal]:
    """The fewest columns that nearly no two rows have alike, though they would by chance."""
    table = population.table
    if is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    yield from _ids(population)
    yield from _named_once(population)
    yield from _copies(population)
    found = _keys(population)
    if found is None:
        return
    names, (chance, seen) = found
    yield from _again_in(
        population, names, f"{listed(names)} of {table.name} in two rows", "What comes once, and is there again.",
        f"what one before them has; of {seen:,} that were looked at {chance:,} would if one of these columns had nothing to do "
        "with the others",
    )  # fmt: skip


def _again_in(
    population: Population, names: Sequence[str], called: str, purpose: str, has: str
) -> Iterator[Proposal]:
    """The screen of columns that some rows have together as one before them has, if these are few; ``has`` says what such a
    row has."""
    keys = [quoted_name(name) for name in names]
    n, out = count_broken(population, names[0], again(population.table, keys).broken)
    if 0 < out <= few_of(n):
        yield Proposal(
            called, settings_of(unique=keys), purpose, f"{out:,} of {n:,} rows have {has}"
        )


def _ids(population: Population) -> Iterator[Proposal]:
    """What tells rows apart, and is in two of them; of a series of numbers it is asked with those that are missing."""
    table = population.table
    column = table.role("id")
    if column is None or _is_series(population, column):
        return
    n, out = _there_again(population, column.name)
    if 0 < out <= few_of(n):
        yield Proposal(
            f"{column.name} of {table.name} in two rows",
            settings_of(unique=[quoted_name(column.name)]),
            "What tells one row from all others, and is there again.",
            f"{out:,} of {n:,} rows have what one before them has",
        )


def _named_once(population: Population) -> Iterator[Proposal]:
    """Rows that name what one before them names, where nearly all name another each, as what is redeemed or refunded
    once: of as many that name any at random far more would."""
    table = population.table
    for name, link in sorted(table.links.items()):
        if link.table.name == table.name or name == table.roles.get("id"):
            continue
        n, out = _there_again(population, name)
        if n < LEAST_OF_RULE or not 0 < out <= few_of(n):
            continue
        every = population.beside(link.table).account(None).used
        chance = n - every * -expm1(n * log1p(-1 / every)) if every > 1 else n - 1
        if chance >= max(BY_CHANCE, TIMES * out):
            yield Proposal(
                f"{name} of {table.name} in two rows",
                settings_of(unique=[quoted_name(name)]),
                "What comes once, and is there again.",
                f"{out:,} of {n:,} rows name what one before them names; {chance:,.0f} would if each named any of the "
                f"{every:,} of {link.table.name}",
            )


def _there_again(population: Population, name: str) -> tuple[int, int]:
    """Rows with a value of a column, and how many of them beyond the first of each."""
    value = sql.column(name)
    fields = {
        "n": exp.Count(this=value),
        "each": exp.Count(this=exp.Distinct(expressions=[value.copy()])),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    (row,) = population.query(population.used(select)).to_pylist()
    return int(row["n"]), int(row["n"]) - int(row["each"])


def _copies(population: Population) -> Iterator[Proposal]:
    """Rows that are another in all but what tells them apart: of amounts and parties the repeats are looked for."""
    table = population.table
    if {"amount", "party"} <= table.roles.keys() or "id" not in table.roles:
        return
    own = table.roles["id"]
    names = [c.name for c in table.columns if c.name != own and not c.is_place]
    codes = first_codes(population, names, MOST_SEEN) if len(names) >= LEAST_ALIKE else {}
    full = [n for n in codes if len(codes[n]) and (codes[n] >= 0).mean() >= COMES_AGAIN]
    texts = [n for n in full if table.column(n).type == "text"]
    if "amount" in table.roles and any(codes[n].max() >= MANY_TEXTS for n in texts):
        return  # rows of one such text and amount are looked at by repeats
    several = sorted(full, key=lambda name: -int(codes[name].max()))
    if len(several) < LEAST_ALIKE:
        return
    known = np.logical_and.reduce([codes[name] >= 0 for name in several])
    if known.sum() < LEAST_OF_RULE:
        return
    each = [codes[name][known].astype(np.int64) for name in several]
    every = _repeated(each)
    # The fewest columns that tell the rows apart as well as all of them do.
    fewest = next(n for n in range(1, len(each) + 1) if _repeated(each[:n]) == every)
    yield from _again_in(
        population, several[: max(fewest, LEAST_ALIKE)], f"rows of {table.name} that are alike but for their {own}",
        "The same thing recorded twice.", "all that one before them has",
    )  # fmt: skip


def _is_series(population: Population, column: Column) -> bool:
    """Whether the numbers of the first rows are nearly all those between the least and the greatest of them."""
    texts = first_coded(population, [column.name], MOST_SEEN)[column.name].values
    numbers = numbers_by_head(texts, _NUMBERED).values()
    long = [each for each in numbers if len(each) >= LEAST_OF_RULE]
    room = sum(max(each) - min(each) + 1 for each in long)
    of_series = sum(map(len, long))
    return of_series >= COMES_AGAIN * len(texts) and of_series >= DENSE * room


def _columns(table: Table) -> list[str]:
    """Columns that may be of a key: what rows name, whose they are, and other texts and days; what has one row on each of
    the table's own days is proposed to be matched with itself."""
    none = {table.roles.get(role) for role in (*_NO_KEYS, "date")}
    first = [*sorted(table.links), table.roles.get("party")]
    rest = [
        c.name
        for c in table.columns
        if (c.type in ("text", "date") or (names_period(c.name) and not c.scale)) and not c.is_place
    ]
    names = dict.fromkeys(name for name in (*first, *rest) if name is not None)
    return [name for name in names if name not in none]


def _keys(population: Population) -> tuple[tuple[str, ...], tuple[int, int]] | None:
    """Two columns, or three where no two do, that tell nearly all of some rows apart, with the number of rows that would
    come again by chance, and of those looked at: the most surprising."""
    names = _columns(population.table)
    if len(names) < 2:
        return None
    codes = first_codes(population, names, MOST_SEEN)
    named = population.table.links
    names = [n for n in names if _comes_again(codes[n], named=n in named)][:MOST_COLUMNS]
    for size in (2, 3):
        found: list[tuple[tuple[int, int], tuple[str, ...]]] = []
        for chosen in combinations(names, size):
            chance = _by_chance([codes[name] for name in chosen])
            if chance is not None:
                found.append((chance, chosen))
        if found:
            chance, chosen = max(found, key=lambda each: each[0][0])
            return chosen, chance
    return None


def _comes_again(codes: np.ndarray, *, named: bool) -> bool:
    """Whether several rows have the same; of what rows name it is enough that some do, as a sale that is taken back."""
    known = codes[codes >= 0]
    distinct = known.max() + 1 if len(known) else 0
    often = distinct <= COMES_AGAIN * len(known) or (named and len(known) - distinct >= BY_CHANCE)
    return len(known) >= LEAST_OF_RULE and often


def _by_chance(codes: Sequence[np.ndarray]) -> tuple[int, int] | None:
    """How many rows would come again were any of the columns shuffled, the least, and of how many; None where that is no
    rule."""
    known = np.logical_and.reduce([each >= 0 for each in codes])
    if known.sum() < LEAST_OF_RULE:
        return None
    own = [each[known].astype(np.int64) for each in codes]
    out = _repeated(own)
    if out > few_of(len(own[0])):
        return None
    shuffled = np.random.default_rng(0)
    chance = min(
        _repeated([shuffled.permutation(c) if i == j else c for j, c in enumerate(own)])
        for i in range(len(own))
    )
    return (chance, len(own[0])) if chance >= max(BY_CHANCE, TIMES * out) else None


def _repeated(codes: Sequence[np.ndarray]) -> int:
    """Rows beyond the first of each combination."""
    whole = codes[0]
    for each in codes[1:]:
        whole = np.unique(whole * (each.max() + 1) + each, return_inverse=True)[1]
    return len(whole) - len(np.unique(whole))
