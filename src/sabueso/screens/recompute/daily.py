"""What comes together in a day that another table has as one figure, as it is proposed: takings in cash, and what was
banked; those of each shop, where both say of which."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import cached_property, partial
from itertools import combinations, product
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import expressions, sql
from sabueso.population.expressions import literal, quoted_name
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.one_way import are_linked
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, settings_of, texts_without
from sabueso.screens.recompute.siblings import named_by_both
from sabueso.screens.recompute.totals import Sides, agreement
from sabueso.stats.additive import HOLDS

ONCE, OFTEN = 1.05, 3
"""Rows a day that the other table has at most on average, and this one at least."""
MOST_SEEN, MOST_COLUMNS, MOST_KINDS = 20_000, 4, 6
"""Rows that are looked at for kinds, columns of kinds that are tried, and kinds of each."""
OF_MONTHS = 0.8
"""Share of the days, each of a thing, that are the only one of theirs in a month, from which they are of months."""
MOST_GROUPS, MOST_THINGS = 50_000, 3
"""Days, each of each thing, that are compared before anything is counted in all; and columns of things that are tried."""
_NO_KINDS: tuple[Role, ...] = ("id", "document", "party", "account", "currency")

_Group = tuple[str, ...]


class _Keys(NamedTuple):
    """By what the sums of both tables are: the day, and a thing where both name it."""

    mine: _Group
    theirs: _Group
    told: str


class _Kinds(NamedTuple):
    """Rows of some kinds of a column or two; of all where there is none."""

    chosen: tuple[tuple[str, tuple[str, ...]], ...] = ()

    @property
    def where(self) -> str | None:
        return " and ".join(map(_has_one_of, self.chosen)) or None

    @property
    def told(self) -> str:
        each = [f"{name} is {' or '.join(values)}" for name, values in self.chosen]
        return f" of rows whose {' and '.join(each)}" if each else ""


def _has_one_of(chosen: tuple[str, tuple[str, ...]]) -> str:
    name, values = quoted_name(chosen[0]), [literal(value) for value in chosen[1]]
    return f"{name} = {values[0]}" if len(values) == 1 else f"{name} in ({', '.join(values)})"


def proposed_daily(population: Population) -> Iterator[Proposal]:
    """Sums of a day, of all rows or of those of some kinds, that are nearly always the other table's figure of it."""
    table, others = population.table, [o for _, o in sorted(population.tables.items())]
    if not _is_dated(table) or population.account(None).used < LEAST_OF_RULE:
        return
    seen: dict[_Group, _Seen] = {}
    for other in others:
        if other.name == table.name or not _is_dated(other) or are_linked(table, other):
            continue
        there = population.beside(other)
        for keys in _keys(table, other):
            theirs = there.once(("sums of groups", keys.theirs), partial(_sums, there, keys.theirs))
            if len(theirs.values) < LEAST_OF_RULE or theirs.rows > ONCE * len(theirs.values):
                continue
            if len(keys.mine) > 1 and _of_months(theirs.values):
                continue  # what a month comes to is compared by that
            if keys.mine not in seen:
                seen[keys.mine] = _Seen(population, keys.mine)
            found = seen[keys.mine].kinds_of(theirs.values)
            proposal = None if found is None else _proposal(population, other, keys, found)
            if proposal is not None:
                yield proposal
                break


def _is_dated(table: Table) -> bool:
    return "amount" in table.roles and table.dated() is not None and not is_budget(table)


def _keys(table: Table, other: Table) -> Iterator[_Keys]:
    """The day; then with each thing that rows of both name, or have a text for that is called the same."""
    days, date = (_day(table), _day(other)), table.roles["date"]
    yield _Keys((days[0],), (days[1],), date)
    pairs = [(mine, theirs) for mine, theirs, _ in named_by_both(table, other)]
    called = {name.casefold(): name for name in texts_without(other, _NO_KINDS)}
    pairs += [
        (name, called[name.casefold()])
        for name in texts_without(table, _NO_KINDS)
        if name.casefold() in called and name not in table.links
    ]
    for mine, theirs in pairs[:MOST_THINGS]:
        by = quoted_name(mine), quoted_name(theirs)
        yield _Keys((days[0], by[0]), (days[1], by[1]), f"{date} and {mine}")


def _day(table: Table) -> str:
    """The day of a row, of a moment the day that it is of."""
    date = table.column(table.roles["date"])
    name = quoted_name(date.name)
    return name if date.type == "date" else f"cast({name} as date)"


class _Sums(NamedTuple):
    """What each group comes to, and how many rows there are."""

    values: dict[_Group, Decimal]
    rows: int


def _sums(population: Population, by: Sequence[str]) -> _Sums:
    """The sum of the amounts of each group of rows that have all keys; nothing where groups are very many."""
    table = population.table
    amount = sql.column(table.roles["amount"])
    keys: list[Tree] = [sql.cast(expressions.scalar(text, table), "TEXT") for text in by]
    fields = {f"k{i}": tree for i, tree in enumerate(keys)}
    fields |= {"s": exp.Sum(this=amount), "n": sql.count()}
    known = [Reason("none", sql.is_missing(tree.copy())) for tree in (*keys, amount)]
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    select = population.used(select, known).group_by(*(tree.copy() for tree in keys))
    found = population.query(select.limit(MOST_GROUPS + 1)).to_pylist()
    if len(found) > MOST_GROUPS:
        return _Sums({}, 0)
    values = {tuple(row[f"k{i}"] for i in range(len(keys))): Decimal(row["s"]) for row in found}
    return _Sums(values, sum(int(row["n"]) for row in found))


def _of_months(values: Mapping[_Group, Decimal]) -> bool:
    """Whether hardly any thing has two days in a month."""
    months = {(day[:7], *thing) for day, *thing in values}
    return len(months) > OF_MONTHS * len(values)


class _Seen:
    """What each group of a table comes to, and by each kind of some columns."""

    def __init__(self, population: Population, by: _Group) -> None:
        self._population, self._by = population, by
        self._whole = _sums(population, by)
        self._several = self._whole.rows >= OFTEN * len(self._whole.values)
        self._of_kinds: dict[_Group, dict[_Group, Decimal]] = {}

    def kinds_of(self, figures: Mapping[_Group, Decimal]) -> _Kinds | None:
        """The kinds whose sums are the figures of most groups that both have, if of nearly all: the fewest of equally good
        ones; of two columns only where half of what those of one leave is the same by it."""
        groups = sorted(self._whole.values.keys() & figures.keys())
        if len(groups) < LEAST_OF_RULE or not self._several:
            return None
        told = np.array([float(figures[group]) for group in groups])
        best, most = None, HOLDS

        def better(kinds: _Kinds, own: np.ndarray) -> None:
            nonlocal best, most
            # Half a unit of what is the least there is: sums of cents as floats.
            same = float((np.abs(own - told) < 0.5 * self._unit).mean())
            if same > most:
                best, most = kinds, same

        better(_Kinds(), np.array([float(self._whole.values[group]) for group in groups]))
        columns = self._columns
        for name, kinds in columns.items():
            sums = self._by_kind(groups, [(name, kinds)])
            for chosen in _choices(len(kinds), len(kinds)):
                better(
                    _Kinds(((name, tuple(kinds[k] for k in chosen)),)),
                    sums[:, list(chosen)].sum(axis=1),
                )
        # Both of two where half of what is left is told by it.
        most = (1 + most) / 2 if best is not None else most
        for (one, kinds), (two, others) in combinations(columns.items(), 2):
            sums = self._by_kind(groups, [(one, kinds), (two, others)])
            for first, second in product(_few(len(kinds)), _few(len(others))):
                values = tuple(kinds[k] for k in first), tuple(others[k] for k in second)
                own = sums[:, list(first)][:, :, list(second)].sum(axis=(1, 2))
                better(_Kinds(((one, values[0]), (two, values[1]))), own)
        return best

    @property
    def _unit(self) -> float:
        table = self._population.table
        return float(10.0 ** -table.column(table.roles["amount"]).scale)

    @cached_property
    def _columns(self) -> dict[str, list[str]]:
        names = texts_without(self._population.table, _NO_KINDS)
        names = [name for name in names if quoted_name(name) not in self._by]
        coded = first_coded(self._population, names, MOST_SEEN) if names else {}
        few = {n: sorted(c.values) for n, c in coded.items() if 1 < len(c.values) <= MOST_KINDS}
        return dict(list(few.items())[:MOST_COLUMNS])

    def _by_kind(
        self, groups: Sequence[_Group], columns: Sequence[tuple[str, list[str]]]
    ) -> np.ndarray:
        """The sums of each group by the kinds of a column, or of two."""
        by = *self._by, *(quoted_name(name) for name, _ in columns)
        if by not in self._of_kinds:
            self._of_kinds[by] = _sums(self._population, by).values
        places = {group: place for place, group in enumerate(groups)}
        sums = np.zeros((len(groups), *(len(kinds) for _, kinds in columns)))
        many = len(self._by)
        for key, value in self._of_kinds[by].items():
            kinds = zip(key[many:], columns, strict=True)
            at = [known.index(kind) if kind in known else -1 for kind, (_, known) in kinds]
            if key[:many] in places and -1 not in at:
                sums[(places[key[:many]], *at)] += float(value)
        return sums


def _choices(of: int, most: int) -> Iterator[tuple[int, ...]]:
    """Some of so many, up to ``most`` of them, the fewest first."""
    for many in range(1, most + 1):
        yield from combinations(range(of), many)


def _few(of: int) -> list[tuple[int, ...]]:
    """One of so many, or all but one."""
    return [*_choices(of, 1), *(c for c in combinations(range(of), of - 1) if of > 2)]


def _proposal(population: Population, other: Table, keys: _Keys, kinds: _Kinds) -> Proposal | None:
    """The screen, if it holds for nearly all days that both have, and not for all."""
    table = population.table
    own, expected = (f"sum({quoted_name(t.roles['amount'])})" for t in (table, other))
    rows = replace(population, where=kinds.where)
    sides = Sides(list(keys.mine), own, expected, other.name, list(keys.theirs))
    _, both, same = agreement(rows, sides)
    if both < LEAST_OF_RULE or same < HOLDS * both or same == both:
        return None
    called = "days" if len(keys.mine) == 1 else f"of {keys.told}"
    return Proposal(
        f"amount by {keys.told} of {table.name} and {other.name}",
        settings_of(
            where=kinds.where, what="totals", by=list(keys.mine), equals=own, expect=expected, other=other.name,
            other_on=[] if keys.mine == keys.theirs else list(keys.theirs), among="both",
        ),
        f"Days that do not come to what {other.name} has.",
        f"both have the same on {same:,} of {both:,} {called}{kinds.told}",
    )  # fmt: skip
