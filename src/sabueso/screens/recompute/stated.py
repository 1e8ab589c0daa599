"""Figures that a table states once for a period, such as the tax of a month in a return, as they are proposed to be what
another table's rows come to in it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from functools import partial
from itertools import permutations
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.named_columns import measures_of
from sabueso.screens.no_amounts import is_no_amount, is_rate
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, texts_without
from sabueso.screens.recompute.amounts import further, tied_by
from sabueso.screens.recompute.keys_of_both import (
    MOST_SEEN,
    MOST_STATED,
    SEVERAL,
    Key,
    keys_of_both,
)
from sabueso.screens.recompute.totals import Sides, agreement

LEAST, HELD, FEW = 6, 0.75, 2
"""Sums that must be the same, each of several rows, and their share; groups of one side alone that are differences."""
LOOSE, LEFT = 0.05, 0.2
"""Share of the sums that differ from which it is asked whether those of one kind do not, and how many of these may then still."""
MOST_FIGURES, MOST_COLUMNS, MOST_KINDS = 6, 4, 6
MOSTLY, MOST_DAYS, BLANK = 0.5, 2, "blank"
"""Share of the rows without a day from which it is told whether they have it, and how many such are tried."""
NEARLY = 0.97
"""How many of the rows that state something of what both tables name are the only one of their group, at least."""


Values = dict[tuple[str, ...], Decimal]


class _Figure(NamedTuple):
    """A figure of groups: its SQL, its name, and what each group has."""

    sql: str
    told: str
    values: Values


class _Sums(NamedTuple):
    """Figures of groups, and how many rows and groups there are."""

    figures: list[_Figure]
    rows: int
    groups: int


class _Tie(NamedTuple):
    """Two figures, in how many groups both are the same and something, and whether one has the other's sign."""

    same: int
    turned: bool
    stated: _Figure
    found: _Figure

    @property
    def differing(self) -> int:
        """In how many groups that both have they are not the same."""
        mine, theirs = self.stated.values, self.found.values
        sign = -1 if self.turned else 1
        return sum(mine[key] != sign * theirs[key] for key in mine.keys() & theirs.keys())

    @property
    def alone(self) -> set[tuple[str, ...]]:
        """The groups that one of them alone has."""
        return self.stated.values.keys() ^ self.found.values.keys()

    def value_of(self, key: tuple[str, ...]) -> Decimal:
        """What the one has that has such a group."""
        return self.stated.values.get(key) or self.found.values.get(key) or Decimal(0)


def proposed_stated(population: Population) -> Iterator[Proposal]:
    """What each row of a table states of a period, or of a kind of things in it, and what another table comes to there."""
    table = population.table
    numbers = _numbers(table)
    if not numbers or is_budget(table) or not LEAST <= population.account(None).used <= MOST_STATED:
        return
    stated: dict[Key, list[_Figure]] = {}
    for name, other in sorted(population.tables.items()):
        if name == table.name or is_budget(other) or not _summable(other):
            continue
        there = population.beside(other)
        told: set[str] = set()
        for mine, their in keys_of_both(population, there):
            if mine not in stated:
                summed = _summable(table) if mine.of_things else numbers
                stated[mine] = _stated(population, mine, summed)
            left = [each for each in stated[mine] if each.told not in told]
            for tie in _ties(there, their, left):
                if (
                    mine.kind.startswith("month")
                    and mine.of_things
                    and _are_roles(table, other, tie)
                ):
                    continue  # which are compared by month
                told.add(tie.stated.told)
                proposal = _proposal(population, other, (mine, their), tie)
                if proposal is not None:
                    yield proposal


def _numbers(table: Table) -> list[Column]:
    """The amount and further ones; of a table without one, all that may be money."""
    amount = table.role("amount")
    if amount is not None:
        return [amount, *further(table, amount, MOST_FIGURES)]
    return [
        c for c in table.columns if c.type == "number" and c.scale and not is_no_amount(c.name)
    ][:MOST_FIGURES]


def _summable(table: Table) -> list[Column]:
    """Numbers that may be what the rows of another come to: of each thing the kilograms too."""
    return [c for c in measures_of(table) if not is_rate(c.name)][:MOST_FIGURES]


def _are_roles(table: Table, other: Table, tie: _Tie) -> bool:
    """Whether both figures are the amounts of the tables, or the quantities, of all rows and of months."""
    roles: tuple[Role, ...] = ("amount", "quantity")
    both = (tie.stated.told, tie.found.told)
    return any((table.roles.get(role), other.roles.get(role)) == both for role in roles)


def _stated(population: Population, key: Key, numbers: Sequence[Column]) -> list[_Figure]:
    """The numbers of rows of which each is the only one of its group; nothing where some are several."""
    found = _sums(population, key, numbers)
    alone = NEARLY * found.rows if key.of_things else found.rows
    return found.figures if found.groups >= max(LEAST, alone) else []


def _differences(stated: Sequence[_Figure]) -> list[_Figure]:
    """What one figure has beyond another, as a closing balance has beyond an opening one."""
    return [
        _Figure(
            f"{a.sql} - {b.sql}",
            f"{a.told} less {b.told}",
            {k: a.values[k] - b.values[k] for k in a.values.keys() & b.values.keys()},
        )
        for a, b in permutations(stated, 2)
    ]


def _sums(
    population: Population, key: Key, numbers: Sequence[Column], kind: str | None = None
) -> _Sums:
    """The sums of numbers by group, of all rows or of each kind of a column."""
    trees: list[Tree] = [
        sql.cast(expressions.scalar(by, population.table), "TEXT") for by in key.by
    ]
    blank = kind is not None and population.table.column(kind).type != "text"
    trees += [] if kind is None else [_blank(kind) if blank else sql.column(kind)]
    fields = {f"k{i}": tree for i, tree in enumerate(trees)}
    fields |= {f"s{i}": exp.Sum(this=sql.column(c.name)) for i, c in enumerate(numbers)}
    select = exp.select(*(exp.alias_(t, n) for n, t in {**fields, "n": sql.count()}.items()))
    rows = population.query(
        population.used(select).group_by(*(tree.copy() for tree in trees))
    ).to_pylist()
    many = len(key.by)
    sums: dict[tuple[int, str | None], Values] = {}
    every: dict[int, Values] = {}
    for row in rows:
        group = tuple(row[f"k{i}"] for i in range(many))
        of = None if kind is None else row[f"k{many}"]
        for i in range(len(numbers)):
            value = row[f"s{i}"]
            if None not in group and value is not None:
                for found in (sums.setdefault((i, of), {}), every.setdefault(i, {})):
                    found[group] = found.get(group, Decimal(0)) + Decimal(value)
    several = len({of for _, of in sums}) > 2
    figures = []
    for (i, of), found in sums.items():
        name = numbers[i].name
        own = quoted_name(name)
        if kind is None:
            figures.append(_Figure(f"sum({own})", name, found))
        elif blank:
            if of == BLANK:
                by = f"{quoted_name(kind)} is null"
                one = {key: found.get(key, Decimal(0)) for key in every[i]}
                figures.append(_case(by, own, f"{name} where {kind} is blank", one))
        elif of is not None:
            by = quoted_name(kind)
            one = {key: found.get(key, Decimal(0)) for key in every[i]}
            figures.append(_case(f"{by} = {literal(of)}", own, f"{name} where {kind} is {of}", one))
            if several:
                rest = {key: every[i][key] - value for key, value in one.items()}
                but = f"coalesce({by}, '') <> {literal(of)}"
                figures.append(_case(but, own, f"{name} where {kind} is not {of}", rest))
    groups = {tuple(row[f"k{i}"] for i in range(many)) for row in rows}
    known = sum(None not in group for group in groups)
    return _Sums(figures, sum(int(row["n"]) for row in rows), known)


def _known_sums(
    there: Population, key: Key, numbers: Sequence[Column], kind: str | None = None
) -> _Sums:
    """The same of a table that several others are held against."""
    about = "sums by period", key.by, tuple(c.name for c in numbers), kind
    return there.once(about, partial(_sums, there, key, numbers, kind))


def _blank(name: str) -> Tree:
    """Whether a row has a day, as text."""
    missing = sql.is_missing(sql.column(name))
    return exp.Case().when(missing, sql.text(BLANK)).else_(sql.text("there"))


def _case(where: str, number: str, told: str, values: Values) -> _Figure:
    return _Figure(f"sum(case when {where} then {number} else 0 end)", told, values)


def _ties(there: Population, key: Key, stated: Sequence[_Figure]) -> Iterator[_Tie]:
    """For each figure that is stated the sum that it is: of all rows, else of those of one kind. Where none is any, what
    one has beyond another."""
    if not stated:
        return
    things = key.of_things
    numbers = _summable(there.table) if things else _numbers(there.table)
    every = _known_sums(there, key, numbers)
    if not things and every.rows < SEVERAL * every.groups:
        return
    least = LEAST_OF_RULE if things else LEAST
    found = [every.figures]
    ties = {tie.stated.told: tie for tie in _best(stated, every.figures, least)}
    # Where many differ they may not do so without the rows of a kind, such as orders that were cancelled.
    sure = {name for name, tie in ties.items() if tie.differing <= max(FEW, LOOSE * tie.same)}
    if len(sure) < len(stated):
        kinds = there.once("kinds of sums", partial(_kinds_of, there))
        found += [_known_sums(there, key, numbers, name).figures for name in kinds]
    for of_kind in found[1:]:
        for tie in _best([each for each in stated if each.told not in sure], of_kind, least):
            name = tie.stated.told
            if name not in ties or tie.differing <= LEFT * ties[name].differing:
                ties[name] = tie
                sure.add(name)
    less = _differences(stated)
    yield from ties.values() or (
        t for sums in found for t in _best(less, sums, least, signs=(1,))[:1]
    )


def _best(
    stated: Sequence[_Figure],
    found: Sequence[_Figure],
    least: int,
    signs: Sequence[int] = (1, -1),
) -> list[_Tie]:
    """For each that is stated the figure that is the same in most groups, where it is in enough: ``least`` of them."""
    best = []
    for mine in stated:
        ties = (_tie(mine, their, sign) for their in found for sign in signs)
        first = max(ties, key=lambda tie: tie.same, default=None)
        if first is None:
            continue
        both = len(mine.values.keys() & first.found.values.keys())
        if first.same >= max(least, HELD * both):
            best.append(first)
    return best


def _tie(stated: _Figure, found: _Figure, sign: int) -> _Tie:
    both = stated.values.keys() & found.values.keys()
    same = sum(stated.values[k] == sign * found.values[k] != 0 for k in both)
    return _Tie(same, sign < 0, stated, found)


def _kinds_of(population: Population) -> list[str]:
    names = texts_without(population.table, ("id", "document", "party", "text"))
    coded = first_coded(population, names, MOST_SEEN) if names else {}
    few = [name for name, found in coded.items() if 1 < len(found.values) <= MOST_KINDS]
    return [*few[:MOST_COLUMNS], *_seldom_dated(population)]


def _seldom_dated(population: Population) -> list[str]:
    """Days that most rows have none of, such as when something was cancelled."""
    table = population.table
    taken = set(table.roles.values())
    days = [
        c.name for c in table.columns if c.type in ("date", "timestamp") and c.name not in taken
    ]
    seen = first_coded(population, days, MOST_SEEN) if days else {}
    blank = {
        name: float((found.codes < 0).mean()) for name, found in seen.items() if len(found.codes)
    }
    return [name for name, share in blank.items() if MOSTLY <= share < 1][:MOST_DAYS]


def _proposal(
    population: Population, other: Table, keys: tuple[Key, Key], tie: _Tie
) -> Proposal | None:
    """The screen, if some differ."""
    table, (mine, their), found = population.table, keys, tie.found
    expect = f"-{found.sql}" if tie.turned else found.sql
    sides = Sides(list(mine.by), tie.stated.sql, expect, other.name, list(their.by))
    n, both, same = agreement(population, sides)
    among = "both" if n - both > FEW else None
    # What one side alone has, and is nothing, is no difference.
    alone = 0 if among else sum(tie.value_of(key) != 0 for key in tie.alone)
    if same < HELD * (both + alone) or same == both + alone:
        return None
    return Proposal(
        f"{tie.stated.told} of {table.name} and {found.told} of {other.name} by {mine.told}",
        tied_by(sides, among),
        f"What {table.name} states and {other.name} does not come to.",
        f"both have the same for {same:,} of {both:,}"
        + (f"; {n - both:,} {'is' if n - both == 1 else 'are'} in one of them alone" if n > both else ""),
    )  # fmt: skip
