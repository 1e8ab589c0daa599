"""Rows on which one person does what two should: who prepares and who approves, who counts and who checks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.expressions import bare_name, quoted_name
from sabueso.population.functions import folded_tree
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of

MOST_SEEN = 20_000
"""Rows by which it is judged whether two columns name the same people."""
MOST_SAME, FEW_SAME, LISTED = 0.05, 3, 100
"""Share of the rows with one person in both up to which that is the exception, how many may be however few rows there
are, and how many however many."""
ALONE = 0.9
"""Share of the rows that are an entry of their own."""
LEAST_PEOPLE = 3
"""Different people in both columns together."""


def people_of(table: Table, named: Sequence[str]) -> tuple[Column, Column]:
    """The columns that should name two people.

    Raises
    ------
    UserError
        If one of them holds no text.
    """
    columns = tuple(table.column(bare_name(name)) for name in named)
    for column in columns:
        if column.type != "text":
            raise UserError(f"--two-people: {column.name!r} holds {column.type}, and no names")
    return columns[0], columns[1]


def is_one(people: Sequence[Column]) -> Tree:
    """Whether both name the same, whatever their case, accents and blanks about them."""
    one, two = (folded_tree(exp.Trim(this=sql.column(c.name))) for c in people)
    known = [exp.Not(this=sql.is_missing(sql.column(c.name))) for c in people]
    return sql.both([*known, exp.EQ(this=one, expression=two)])


def proposed_people(population: Population) -> Iterator[Proposal]:
    """Those who prepare, and those who approve, where hardly any row has one person in both."""
    table = population.table
    preparer, approver = table.role("preparer"), table.role("approver")
    if preparer is None or approver is None or is_budget(table):
        return
    if preparer.type != "text" or approver.type != "text":
        return
    if population.account(None).used < LEAST_OF_RULE:
        return
    key = table.role("id")
    columns = [c.name for c in (preparer, approver, key) if c is not None]
    seen = first_coded(population, columns, MOST_SEEN)
    if key is not None and len(seen[key.name].values) < ALONE * len(seen[key.name].codes):
        return  # whole entries of several rows are looked at by their traits
    one, two = (set(seen[c.name].values) for c in (preparer, approver))
    if len(one | two) < LEAST_PEOPLE:
        return
    known = sql.both(exp.Not(this=sql.is_missing(sql.column(c.name))) for c in (preparer, approver))
    asked = {"n": known, "same": is_one((preparer, approver))}
    fields = [exp.alias_(sql.only(sql.count(), tree), name) for name, tree in asked.items()]
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    n, same = int(row["n"]), int(row["same"])
    if 0 < same <= max(FEW_SAME, min(LISTED, MOST_SAME * n)):
        yield Proposal(
            f"{approver.name} of {table.name} is {preparer.name}",
            settings_of(two_people=[quoted_name(preparer.name), quoted_name(approver.name)]),
            "One person who does what two should.",
            f"{same:,} of {n:,} rows name one in both",
        )
