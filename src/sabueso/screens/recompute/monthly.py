"""Sums of a thing and a month that are proposed to tie, such as what was delivered in a month and what was paid for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import partial
from itertools import product
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.period_names import names_period, span_named
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.grouping import Grouping
from sabueso.screens.one_way import are_linked
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget
from sabueso.screens.recompute.amounts import NEED_NONE, among_both, figures, tied_by
from sabueso.screens.recompute.totals import Sides, agreement
from sabueso.stats.additive import HOLDS

MOST_SEEN, MOST_MONTHS, MOST_GROUPS = 2_000, 600, 20_000
ROLES: tuple[Role, ...] = ("amount", "quantity")
TIMES = 3
"""How many times as many sums of a month may differ as of all months together: one that is wrong in a month is so in all."""
SAME = 0.8
"""Share of the groups of both from which the sums of a month are the same: where fewer are, they are of another time."""


class _Month(NamedTuple):
    """What tells the month of a row: its name, and what rows are grouped by, as text (2025-03) or as a number (202503)."""

    name: str
    by: str
    is_text: bool
    own: bool
    """Whether rows state it, and it is not made of their date."""


class _Thing(NamedTuple):
    """What both tables may name: its SQL, what it is called, the column that it is of, and how many links lead to it."""

    sql: str
    told: str
    of: tuple[str, str]
    links: int


def proposed_by_month(population: Population) -> Iterator[Proposal]:
    """Sums of what both tables name, in a month, that nearly all tie: the first month that they do by. Where rows of one
    name those of the other they are compared by that."""
    table = population.table
    mine: list[_Month] | None = None
    for name, other in sorted(population.tables.items()):
        # Amounts beside amounts, or what is counted, such as the hours that were worked and those that were paid.
        roles = [role for role in ROLES if role in table.roles and role in other.roles]
        if name == table.name or not roles or is_budget(other):
            continue
        if are_linked(table, other):
            continue
        named = list(_named_by_both(population, other))
        if not named:
            continue
        mine = _months(population) if mine is None else mine
        there = population.beside(other)
        theirs = there.once("what tells a month", partial(_months, there))
        # Of two tables one comparison is enough: from the one that states a month, or by name.
        if _rank(mine, table) < _rank(theirs, other):
            continue
        stated = any(month.own for month in (*mine, *theirs))
        # What states a month sums up what has days: of one of its figures, and of rows further away.
        ways = [
            (keys, role, pair)
            for keys, role in product(named, roles)
            for pair in figures(table, other, role)
            if stated or (pair == (table.roles[role], other.roles[role]) and _are_near(keys))
        ]
        found = (_tied(population, other, product(mine, theirs), *way) for way in ways)
        first = next((proposal for proposal in found if proposal is not None), None)
        if first is not None:
            yield first


def _named_by_both(population: Population, other: Table) -> Iterator[tuple[_Thing, _Thing]]:
    """What rows of both tables name, or what those name in turn; one of the two names it itself."""
    table = population.table
    theirs = list(_things(population, other))
    for mine in _things(population, table):
        for their in theirs:
            apart = mine.of[0] not in (table.name, other.name)
            if mine.of == their.of and apart and min(mine.links, their.links) == 1:
                yield mine, their


def _things(population: Population, table: Table) -> Iterator[_Thing]:
    """What rows name, nearest first."""
    further: list[_Thing] = []
    for column, link in sorted(table.links.items()):
        yield _Thing(quoted_name(column), column, (link.table.name, link.key), 1)
        to = population.tables.get(link.table.name, link.table)
        for each, of in sorted(to.links.items()):
            path = ".".join(map(quoted_name, (column, each)))
            further.append(_Thing(path, f"{each} of the {column}", (of.table.name, of.key), 2))
    yield from further


def _are_near(keys: tuple[_Thing, _Thing]) -> bool:
    return all(thing.links == 1 for thing in keys)


def _rank(months: Sequence[_Month], table: Table) -> tuple[bool, str]:
    return any(month.own for month in months), table.name


def _tied(
    population: Population,
    other: Table,
    months: Iterable[tuple[_Month, _Month]],
    things: tuple[_Thing, _Thing],
    role: Role,
    pair: tuple[str, str],
) -> Proposal | None:
    table, (thing, their) = population.table, things
    own, expected = (f"sum({quoted_name(name)})" for name in pair)
    as_roles = pair == (table.roles[role], other.roles[role])
    # Of what not all have, such as refunds, nothing is looked for where there is none.
    rows = population if as_roles else _with_some(population, pair[0])
    for mine, theirs in months:
        stated = mine.own or theirs.own
        if mine.is_text != theirs.is_text or not (stated or mine.is_text):
            continue
        by, other_on = [thing.sql, mine.by], [their.sql, theirs.by]
        sides = Sides(by, own, expected, other.name, other_on)
        if not _may_tie(rows, by, pair[0], population.beside(other), other_on, pair[1]):
            continue
        n, both, same = agreement(rows, sides)
        if both < LEAST_OF_RULE or same < max(SAME * n, HOLDS * both):
            continue
        # What happened once has one sum, though some of it fell into the month after.
        whole = _apart(rows, Sides([thing.sql], own, expected, other.name, [their.sql]))
        if whole is not None and n - same > TIMES * max(whole, 1):
            continue
        if rows is not population:
            n, both, same = agreement(population, sides)
        # Months that a summary does not reach say nothing of it.
        among = None if as_roles else among_both(n, both)
        if same == (both if among else n):
            continue
        called = role if as_roles else pair[0]
        theirs_alone = as_roles or pair[1] == other.roles[role]
        against = other.name if theirs_alone else f"{pair[1]} of {other.name}"
        return Proposal(
            f"{called} by {thing.told} and {mine.name} of {table.name} and {against}",
            tied_by(sides, among),
            f"What {table.name} and {other.name} do not have alike in a month.",
            f"both have the same for {same:,} of {both if among else n:,}"
            + (f"; {n - both:,} are in one of them alone" if among else ""),
        )  # fmt: skip
    return None


def _may_tie(
    rows: Population,
    by: Sequence[str],
    number: str,
    there: Population,
    on: Sequence[str],
    its: str,
) -> bool:
    """Whether enough sums of both tables are alike for all to be compared: each table's are worked out once."""
    mine, theirs = (
        side.once(("sums", *keys, name), partial(_sums, side, keys, name))
        for side, keys, name in ((rows, by, number), (there, on, its))
    )
    if mine is None or theirs is None:
        return True
    both = mine.keys() & theirs.keys()
    same = sum(mine[key] == theirs[key] for key in both)
    # Half of what is needed: those that have no number are counted there as nothing.
    return 2 * len(both) >= LEAST_OF_RULE and 2 * same >= HOLDS * len(both)


def _sums(
    population: Population, by: Sequence[str], number: str
) -> dict[tuple[str, ...], Decimal] | None:
    """The sum of a number of each group of rows that have all keys; None where groups are many."""
    keys = [sql.cast(tree, "TEXT") for tree in Grouping.of(by, population.table).trees]
    fields: dict[str, Tree] = {f"k{i}": tree for i, tree in enumerate(keys)}
    fields["s"] = exp.Sum(this=sql.column(number))
    missing = [Reason("none", sql.is_missing(tree.copy())) for tree in keys]
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    select = population.used(select, missing).group_by(*(tree.copy() for tree in keys))
    found = population.query(select.limit(MOST_GROUPS + 1)).to_pylist()
    if len(found) > MOST_GROUPS:
        return None
    return {tuple(row[f"k{i}"] for i in range(len(keys))): Decimal(row["s"] or 0) for row in found}


def _apart(rows: Population, sides: Sides) -> int | None:
    """In how many groups sums of all months together differ; None where too few are the same."""
    n, both, same = agreement(rows, sides)
    return n - same if both >= LEAST_OF_RULE and same >= HOLDS * both else None


def _with_some(population: Population, name: str) -> Population:
    """The rows with something of a number, where many have nothing."""
    value = sql.column(name)
    nothing = exp.EQ(this=value.copy(), expression=sql.integer(0))
    fields = {"n": exp.Count(this=value), "none": sql.only(sql.count(), nothing)}
    select = exp.select(*(exp.alias_(tree, field) for field, tree in fields.items()))
    (row,) = population.query(population.used(select)).to_pylist()
    if int(row["none"]) <= NEED_NONE * int(row["n"]):
        return population
    return replace(population, where=f"{quoted_name(name)} <> 0")


def _months(population: Population) -> list[_Month]:
    """What tells the month of a row: a text or a day that names one, and its date."""
    table, date = population.table, population.table.dated()
    columns = [c for c in table.columns if c.type in ("text", "date") and names_period(c.name)]
    seen = first_coded(population, [c.name for c in columns], MOST_SEEN) if columns else {}
    found = []
    for column in columns:
        values, name = seen[column.name].values, quoted_name(column.name)
        if not 0 < len(values) <= MOST_MONTHS:
            continue
        if column.type == "text" and all(map(_is_month, values)):
            found.append(_Month(column.name, name, True, True))
        elif column.type == "date" and all(value.endswith("-01") for value in values):
            found.append(_Month(column.name, _code(name), False, True))
    if date is not None:
        # A column that is called so is what the word means.
        if all(c.name.casefold() != "month" for c in table.columns):
            found.append(_Month("month", "month", True, False))
        found.append(_Month("month", _code(quoted_name(date.name)), False, False))
    return found


def _code(day: str) -> str:
    return f"year({day}) * 100 + month({day})"


def _is_month(text: str) -> bool:
    span = span_named(text)
    return span is not None and len(text) == 7 and text[4] == "-"
