"""Figures that a table states once for a period, such as the tax of a month in a return, as they are proposed to be what
another table's rows come to in it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from decimal import Decimal
from itertools import permutations, product
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.period_names import names_period
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.named_columns import columns_there, measures_of
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, texts_without
from sabueso.screens.recompute.amounts import further, is_no_amount, is_rate, tied_by
from sabueso.screens.recompute.siblings import happened, named_by_both
from sabueso.screens.recompute.totals import Sides, agreement

MOST_STATED = 2_000
"""Rows of a table of which each states what a period came to."""
LEAST, HELD, FEW = 6, 0.75, 2
"""Sums that must be the same, each of several rows, and their share; groups of one side alone that are differences."""
SEVERAL = 3
"""Rows of the other table that a sum has on average at least."""
MOST_FIGURES, MOST_COLUMNS, MOST_KINDS, MOST_THINGS, MOST_SEEN = 6, 4, 6, 60, 20_000
MOSTLY, MOST_DAYS, BLANK = 0.5, 2, "blank"
"""Share of the rows without a day from which it is told whether they have it, and how many such are tried."""
SHARED = 0.8
"""Share of the things of which a table states figures that the other's rows are of."""
THING, NEARLY = "named by both", 0.97
"""The kind of keys that are rows which both tables name; and how many of the rows that state something of such are the only one
of their group, at least."""
_UNITS = {"month": r"\d{4}-\d{2}", "quarter": r"\d{4}-Q\d", "year": r"\d{4}"}


class _Key(NamedTuple):
    """What tells groups of rows: of what kind (two keys of one kind may be the same), its SQL, and its name."""

    kind: str
    by: tuple[str, ...]
    told: str

    @property
    def of_things(self) -> bool:
        """Whether it is rows that both tables name, or a period of each."""
        return self.kind.endswith(THING)

    def of(self, thing: _Key) -> _Key:
        """A period of each of some things."""
        return _Key(
            f"{self.kind} of {thing.kind}", (*thing.by, *self.by), f"{thing.told} and {self.told}"
        )


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
    stated: dict[_Key, list[_Figure]] = {}
    for name, other in sorted(population.tables.items()):
        if name == table.name or is_budget(other) or not _summable(other):
            continue
        there = population.beside(other)
        told: set[str] = set()
        for mine, their in _keys_of_both(population, there):
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


def _keys_of_both(population: Population, there: Population) -> Iterator[tuple[_Key, _Key]]:
    """What tells the rows of a table apart, beside what tells groups of another: what both name, what those rows name, or a
    period."""
    table, other = population.table, there.table
    rows = population.account(None).used
    things: list[tuple[_Key, _Key]] = []
    for column, also, named in named_by_both(table, other):
        third = population.tables.get(named.name, named)
        # What happened once is compared from either side.
        if rows >= LEAST_OF_RULE and not happened(population, other, third):
            mine = _Key(THING, (quoted_name(column),), column)
            things.append((mine, _Key(THING, (quoted_name(also),), also)))
    yield from things
    few = there.account(None).used < SEVERAL * rows
    if few and not things:
        return
    for column, link in () if few else sorted(other.links.items()):
        # Of many that are named the sums are compared from the other side.
        if link.table.name == table.name and rows < LEAST_OF_RULE:
            by = quoted_name(link.key)
            yield _Key("named", (by,), link.key), _Key("named", (quoted_name(column),), column)
    theirs: dict[str, list[_Key]] = {}
    for their in _periods(there, stated=False):
        theirs.setdefault(their.kind, []).append(their)
    periods = list(_periods(population, stated=True))
    for mine in () if few else periods:
        for their in theirs.get(mine.kind, []):
            yield mine, their
    things += _things(population, there) if theirs and periods and not few else []
    for (thing, their_thing), mine in product(things, periods):
        for their in theirs.get(mine.kind, []):
            yield mine.of(thing), their.of(their_thing)


def _things(population: Population, there: Population) -> list[tuple[_Key, _Key]]:
    """Columns of few texts, such as departments, that rows of both have, or one of them has and what the other's name."""
    mine, theirs = _coded(population), _coded(there)
    found = []
    for (by, own), (by_there, other) in product(mine.items(), theirs.items()):
        if len(own & other) >= SHARED * len(own):
            told = by.replace('"', "")
            found.append((_Key(told, (by,), told), _Key(told, (by_there,), told)))
    return found[:MOST_COLUMNS]


def _coded(population: Population) -> dict[str, set[str]]:
    """The values of columns of few texts, and of those of the rows that are named."""
    table = population.table
    names = texts_without(table, ("id", "document", "text", "currency"))
    also = {
        there.sql: expressions.scalar(there.sql, table)
        for there in columns_there(population)
        if there.column.type == "text" and there.column.name != table.links[there.by].key
    }
    seen = first_coded(population, names, MOST_SEEN, also) if names or also else {}
    return {
        quoted_name(name) if name in names else name: set(coded.values)
        for name, coded in seen.items()
        if 1 < len(coded.values) <= MOST_THINGS
    }


def _periods(population: Population, *, stated: bool) -> Iterator[_Key]:
    """The periods of rows: those that they state, and those of their days."""
    table, date = population.table, population.table.dated()
    yield from _named_periods(population)
    days = [c for c in table.columns if c.type in ("date", "timestamp")]
    days.sort(key=lambda c: date is None or c.name != date.name)
    for column in days:
        name = quoted_name(column.name)
        own = date is not None and column.name == date.name
        for unit in _UNITS:
            by = expressions.period_text(unit, table) if own else f"{unit}_of({name})"
            yield _Key(unit, (by,), unit)
        if not stated:
            yield _Key("month code", (f"year({name}) * 100 + month({name})",), "month")
            yield _Key("year code", (f"year({name})",), "year")
            yield _Key("year and month", (f"year({name})", f"month({name})"), "month")


def _named_periods(population: Population) -> Iterator[_Key]:
    columns = [c for c in population.table.columns if names_period(c.name) and not c.is_place]
    seen = first_coded(population, [c.name for c in columns], MOST_STATED) if columns else {}
    alone = {}
    for column in columns:
        values, name = seen[column.name].values, quoted_name(column.name)
        if column.type == "text":
            for unit, form in _UNITS.items():
                if values and all(re.fullmatch(form, value) for value in values):
                    yield _Key(unit, (name,), column.name)
            if values and all(re.fullmatch(r"(0\d|1[0-2])[/.-]\d{4}", value) for value in values):
                by = f"right({name}, 4) || '-' || left({name}, 2)"
                yield _Key("month", (by,), column.name)
        elif column.type == "number" and column.scale == 0:
            whole = {int(value) for value in values}
            if whole and all(
                1 <= each % 100 <= 12 and 1900 <= each // 100 <= 2100 for each in whole
            ):
                yield _Key("month code", (name,), column.name)
            elif whole and min(whole) >= 1900 and max(whole) <= 2100:
                alone["year"] = column
                yield _Key("year code", (name,), column.name)
            elif whole and min(whole) >= 1 and max(whole) <= 12:
                alone["month"] = column
    if len(alone) == 2:
        names = tuple(alone[each].name for each in ("year", "month"))
        yield _Key("year and month", tuple(map(quoted_name, names)), " and ".join(names))


def _stated(population: Population, key: _Key, numbers: Sequence[Column]) -> list[_Figure]:
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
    population: Population, key: _Key, numbers: Sequence[Column], kind: str | None = None
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


def _blank(name: str) -> Tree:
    """Whether a row has a day, as text."""
    missing = sql.is_missing(sql.column(name))
    return exp.Case().when(missing, sql.text(BLANK)).else_(sql.text("there"))


def _case(where: str, number: str, told: str, values: Values) -> _Figure:
    return _Figure(f"sum(case when {where} then {number} else 0 end)", told, values)


def _ties(there: Population, key: _Key, stated: Sequence[_Figure]) -> Iterator[_Tie]:
    """For each figure that is stated the sum that it is: of all rows, else of those of one kind. Where none is any, what
    one has beyond another."""
    if not stated:
        return
    things = key.of_things
    numbers = _summable(there.table) if things else _numbers(there.table)
    every = _sums(there, key, numbers)
    if not things and every.rows < SEVERAL * every.groups:
        return
    least = LEAST_OF_RULE if things else LEAST
    found = [every.figures]
    ties = _best(stated, every.figures, least)
    if len(ties) < len(stated):
        found += [_sums(there, key, numbers, name).figures for name in _kinds_of(there)]
    for of_kind in found[1:]:
        told = [tie.stated.told for tie in ties]
        ties += _best([each for each in stated if each.told not in told], of_kind, least)
    less = _differences(stated)
    yield from ties or (t for sums in found for t in _best(less, sums, least, signs=(1,))[:1])


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
    population: Population, other: Table, keys: tuple[_Key, _Key], tie: _Tie
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
