"""Spans of one owner that overlap: two contracts of one flat, two shifts of one person, two leaves, two hires."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import permutations
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.expressions import bare_name, quoted_name
from sabueso.population.moments import days_between, seconds_between
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_of_both
from sabueso.screens.in_order import owners_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of

MOST_SEEN = 20_000
"""Rows by which it is judged whose spans do not overlap, before that is counted in all."""
LONG = 1e8
"""More days than there are between any two."""
MOST_DAYS = 3
"""Columns of days, or moments, that may be the ends of spans."""
ENDS_AFTER, LASTS = 0.99, 0.5
"""Share of the rows that end no sooner than they begin, and that end later."""
AGAIN = 50
"""Rows with another of their owner before them, from which it is a rule that they do not overlap."""
MOST_OVER, FEW_OVER = 0.02, 3
"""Share of these that overlap up to which it is the exception, and how many may be however few there are."""
OTHERS = 0.5
"""Share of all rows that overlap with those of others: spans that hardly ever meet say nothing by not meeting."""


class Overlap(NamedTuple):
    """Rows that begin before an earlier one of their owner has ended, as a condition, by how many days, and whether there is
    an earlier one."""

    broken: Tree
    days: Tree
    again: Tree


def ends_of(table: Table, named: Sequence[str]) -> tuple[Column, Column]:
    """The columns of both ends of spans.

    Raises
    ------
    UserError
        If they are not two columns of days, or two of moments.
    """
    first, last = (table.column(bare_name(name)) for name in named)
    if first.type != last.type or first.type not in ("date", "timestamp"):
        raise UserError(
            f"--apart takes two columns of days, or two of moments; {first.name!r} holds {first.type}, {last.name!r} "
            f"{last.type}"
        )
    return first, last


def overlap_of(table: Table, ends: tuple[Column, Column], per: Sequence[str]) -> Overlap:
    """Of spans of one owner in the order in which they begin, those that begin before one of them has ended. To begin on
    the day, or at the moment, of an end is none."""
    first, last = (sql.column(column.name) for column in ends)
    keys = [expressions.scalar(text, table, "--per") for text in per]
    place = [sql.ordered(tree.this) for tree in sql.place()]
    ended = exp.Window(
        this=exp.Max(this=last),
        partition_by=keys,
        order=exp.Order(expressions=[sql.ordered(first), sql.ordered(last.copy()), *place]),
        spec=exp.WindowSpec(
            kind="ROWS",
            start="UNBOUNDED",
            start_side="PRECEDING",
            end=exp.Literal.number(1),
            end_side="PRECEDING",
        ),
    )
    known = [exp.Not(this=sql.is_missing(key.copy())) for key in keys]
    known += [exp.Not(this=sql.is_missing(tree.copy())) for tree in (first, ended)]
    before = exp.LT(this=first.copy(), expression=ended.copy())
    days: Tree = sql.cast(days_between(ended, first), "DOUBLE")
    if ends[0].type == "timestamp":
        seconds = sql.cast(seconds_between(ended, first), "DOUBLE")
        days = exp.Div(this=seconds, expression=sql.integer(86_400), typed=False)
    again = sql.both(known)
    return Overlap(sql.both([*known, before]), days, again.copy())


def proposed_apart(population: Population) -> Iterator[Proposal]:
    """Spans of which hardly any two of one owner overlap, and those of all do."""
    table = population.table
    owners = owners_of(table)
    if not owners or is_budget(table) or population.account(None).used < LEAST_OF_RULE:
        return
    for ends in _ends(population):
        for owner in _apart(population, ends, owners):
            again, over = _counted(population, overlap_of(table, ends, [quoted_name(owner)]))
            if again < AGAIN or not 0 < over <= max(FEW_OVER, MOST_OVER * again):
                continue
            first, last = ends
            yield Proposal(
                f"{table.name} of one {owner} that overlap",
                settings_of(
                    apart=[quoted_name(first.name), quoted_name(last.name)],
                    per=[quoted_name(owner)],
                ),
                f"What begins before another of its {owner} has ended.",
                f"{over:,} of {again:,} rows with an earlier one of their {owner} do",
            )
            return


def _apart(population: Population, ends: tuple[Column, Column], owners: Sequence[str]) -> list[str]:
    """Owners of whose spans, among some rows, hardly any overlap, where those of all do."""
    origin = sql.cast(sql.text("1970-01-01"), "DATE")
    days = {c.name: days_between(sql.column(c.name), origin) for c in ends}
    numbers, codes = first_of_both(population, days, owners, MOST_SEEN)
    first, last = (numbers[c.name] for c in ends)
    known = ~(np.isnan(first) | np.isnan(last))
    n, over = _overlapping(first[known], last[known], np.zeros(int(known.sum()), dtype=np.int64))
    if over < OTHERS * n:
        return []
    found = []
    for owner in owners:
        own = codes[owner].codes
        some = known & (own >= 0)
        again, over = _overlapping(first[some], last[some], own[some])
        if over <= max(2 * MOST_OVER * again, FEW_OVER):
            found.append(owner)
    return found


def _overlapping(first: np.ndarray, last: np.ndarray, whose: np.ndarray) -> tuple[int, int]:
    """How many spans have an earlier one of their owner, and how many begin before one of these has ended."""
    order = np.lexsort((last, first, whose))
    first, last, whose = first[order], last[order], whose[order]
    if not len(whose):
        return 0, 0
    # Each owner's days lie beyond those of the one before: one running greatest does for all.
    beyond = np.cumsum(np.r_[0, whose[1:] != whose[:-1]]) * LONG
    ended = np.maximum.accumulate(last + beyond)[:-1]
    again = whose[1:] == whose[:-1]
    over = again & ((first + beyond)[1:] < ended)
    return int(again.sum()), int(over.sum())


def _ends(population: Population) -> Iterator[tuple[Column, Column]]:
    """Columns of days that nearly all rows have as the ends of a span."""
    table = population.table
    days = [c for c in table.columns if c.type in ("date", "timestamp")][:MOST_DAYS]
    pairs = [(one, two) for one, two in permutations(days, 2) if one.type == two.type]
    if not pairs:
        return
    fields = []
    for place, (one, two) in enumerate(pairs):
        first, last = sql.column(one.name), sql.column(two.name)
        asked = {
            "both": exp.Not(this=exp.or_(sql.is_missing(first), sql.is_missing(last))),
            "fits": exp.GTE(this=last.copy(), expression=first.copy()),
            "lasts": exp.GT(this=last.copy(), expression=first.copy()),
        }
        fields += [
            exp.alias_(sql.only(sql.count(), t), f"{name}{place}") for name, t in asked.items()
        ]
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    for place, pair in enumerate(pairs):
        both, fits, lasts = (int(row[f"{name}{place}"]) for name in ("both", "fits", "lasts"))
        if both >= LEAST_OF_RULE and fits >= ENDS_AFTER * both and lasts >= LASTS * both:
            yield pair


def _counted(population: Population, overlap: Overlap) -> tuple[int, int]:
    """Rows with an earlier one of their owner, and those that overlap it."""
    trees = {"again": overlap.again, "over": overlap.broken}
    asked = exp.select(*(exp.alias_(tree, name) for name, tree in trees.items()))
    fields = [exp.alias_(sql.only(sql.count(), sql.column(name, "r")), name) for name in trees]
    select = exp.select(*fields).from_(population.used(asked).subquery("r"))
    (row,) = population.query(select).to_pylist()
    return int(row["again"]), int(row["over"])
