"""Columns that are others added up or taken off, such as gross, deductions and net: found from some rows, counted in all."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import NamedTuple

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.words import CalledSo
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.named_columns import numbers_there
from sabueso.screens.proposal import LEAST_OF_RULE
from sabueso.screens.recompute.products import wide
from sabueso.stats.additive import HOLDS, relations

MOST_COLUMNS, MOST_THERE, MOST_SUMS = 24, 6, 3
MOST_SEEN = 2_000
"""Rows that are looked at for a relation."""
BY_CHANCE = 0.01
"""That so many rows would be nothing as well if it had nothing to do with what their parts come to, from which they may be."""
FILLED, SELDOM = 0.5, 0.25
"""Share of the rows in which a number is something, from which those are looked at in which it is; and where these show
nothing, of what has nothing to do with the amount: that may be made otherwise in rows of another kind."""
LEAST_ROUNDED, MOSTLY_ROUNDED, EACH_WAY = 10, 0.5, 0.2
"""Rows that do not hold from which it is asked whether they were rounded, the share of them that is off by so little, and the share
of those that is off either way."""


_TOTAL = CalledSo(r"total|gesamt|\bsum(?:me|ma|a)?\b|\bsomme\b|summe|totaal")
_GROSS = CalledSo(r"gross|brut|lordo|haber\w*|earned")


class Term(NamedTuple):
    """A number of a row, or of the row that it names: its SQL."""

    sql: str
    own: bool = True


@dataclass(frozen=True)
class Sum:
    """A column, what it is made of with its signs, those added first, and how many rows are so.

    ``rows`` are those with a value, ``holding`` those that are what their parts come to, ``several`` those of
    which two parts or more are something. ``floored`` says that it is nothing where its parts come to less;
    ``rounded`` by how much some rows are off, as of parts that were rounded each by itself.
    """

    whole: str
    parts: tuple[tuple[str, int], ...]
    blank: frozenset[str]
    rows: int
    holding: int
    several: int
    floored: bool = False
    terms: Mapping[str, Term] = field(default_factory=dict)
    rounded: Decimal | None = None

    @property
    def told(self) -> str:
        """``Net and VAT``, ``Gross less Tax less Pension``."""
        first, *rest = self.parts
        more = "".join(f" {'and' if sign > 0 else 'less'} {name}" for name, sign in rest)
        least = ", or nothing" if self.floored else ""
        return f"{'' if first[1] > 0 else 'less '}{first[0]}{more}{least}"

    @property
    def expression(self) -> str:
        """The parts as SQL; one that some rows leave blank is nothing there."""
        terms = [(sign, self._term(name)) for name, sign in self.parts]
        (first, term), *rest = terms
        more = "".join(f" {'+' if sign > 0 else '-'} {each}" for sign, each in rest)
        made = f"{'' if first > 0 else '-'}{term}{more}"
        return f"greatest({made}, 0)" if self.floored else made

    def is_of(self, name: str) -> bool:
        """Whether a column is the whole, or one of its parts."""
        return name == self.whole or any(name == part for part, _ in self.parts)

    def _term(self, name: str) -> str:
        own = self.terms[name].sql
        return f"coalesce({own}, 0)" if name in self.blank else own


def sums_of(population: Population, amount: Column) -> Iterator[Sum]:
    """What nearly every row of a table has as the sum or difference of two others or more, the independent of them; then
    of its own and of those of the row that it names: what is paid of a claim, less the deductible of its policy."""
    own = candidates(population.table, amount)
    told: set[str] = set()
    if len(own) >= 3:
        for found in among(population, amount, own):
            told.add(found.whole)
            yield found
    there = _there(population, amount)
    if len(own) >= 2 and there:
        for found in among(population, amount, own | there):
            if found.whole not in told:
                yield found


def among(population: Population, amount: Column, terms: Mapping[str, Term]) -> Iterator[Sum]:
    """What nearly every row has as a sum or difference of some numbers; where some are of another row, of such."""
    # All in units of the amount: dues of 12.5 beside wages with cents.
    names, table = list(terms), population.table
    units = [_units(expressions.scalar(t.sql, table, "--expect"), amount.scale) for t in terms.values()]  # fmt: skip
    fields = [exp.alias_(tree, f"c{place}") for place, tree in enumerate(units)]
    seen = population.query(population.used(exp.select(*fields)).limit(MOST_SEEN))
    columns = [seen.column(f"c{place}") for place in range(len(names))]
    values = np.array(
        [[int(v or 0) for v in column.to_pylist()] for column in columns], dtype=object
    ).T.reshape(seen.num_rows, len(names))
    # A mark of yes and no is no part of money.
    whole = {c.name for c in table.columns if c.type == "number" and not c.scale}
    yes_or_no = {0, 10**amount.scale}
    kept = [
        place
        for place, name in enumerate(names)
        if not (name in whole and {*map(int, values[:, place])} <= yes_or_no)
    ]
    names, values = [names[place] for place in kept], values[:, kept]
    columns, terms = [columns[place] for place in kept], {name: terms[name] for name in names}
    blank = frozenset(n for n, column in zip(names, columns, strict=True) if column.null_count)
    others = not all(term.own for term in terms.values())
    found_so = [] if others else relations(values)
    filled = values != 0
    for share in (FILLED, SELDOM) if len(values) else ():
        if found_so:
            break
        # Rows of which nothing is left, since they are below what is taken off, hide what the others are.
        found_so = relations(values[filled[:, filled.mean(axis=0) >= share].all(axis=1)])
        if share == SELDOM and (own_amount := table.roles.get("amount")) in terms:
            place = names.index(str(own_amount))
            found_so = [signs for signs in found_so if not signs[place]]
    for signs in found_so[:MOST_SUMS]:
        owned = [terms[name].own for name, sign in zip(names, signs, strict=True) if sign]
        # Of what stands there alone sums are made by that table; a figure that is there is compared as it is.
        if others and (all(owned) or sum(owned) < 2):
            continue
        found = _counted(population, amount, terms, signs, blank)
        if found is not None:
            yield found


def _there(population: Population, amount: Column) -> dict[str, Term]:
    """Numbers of the rows that a row names, but prices and counts, which are multiplied."""
    found = {
        there.told: Term(there.sql, own=False)
        for there in numbers_there(population)
        if there.column.scale <= amount.scale
        and there.column.name not in map(there.table.roles.get, ("price", "quantity", "id"))
    }
    return dict(list(found.items())[:MOST_THERE])


def candidates(table: Table, amount: Column) -> dict[str, Term]:
    """Numbers of a row that may be added up to its amount, by their names."""
    # What was made of two columns is their sum by its making.
    made = {each.column.name for each in table.derived}
    made |= {amount.name} if {"debit", "credit"} <= table.roles.keys() else set()
    fits = [
        c
        for c in table.columns
        if c.type == "number" and c.scale <= amount.scale and c.name not in made and not c.is_place
    ]
    # Those with the decimals of the amount first: others may be counts.
    fits = sorted(fits, key=lambda c: c.scale != amount.scale)[:MOST_COLUMNS]
    return {c.name: Term(quoted_name(c.name)) for c in table.columns if c in fits}


def _units(number: Tree, scale: int) -> Tree:
    return sql.units(sql.cast(number, f"DECIMAL(38,{scale})"), scale)


def _counted(
    population: Population,
    amount: Column,
    terms: Mapping[str, Term],
    signs: Sequence[int],
    blank: frozenset[str],
) -> Sum | None:
    """A relation counted in all rows; None where it does not hold for nearly all of them."""
    chosen = [(name, sign) for name, sign in zip(terms, signs, strict=True) if sign]
    of_rows = population.table.roles.get("amount", "")
    of_rows = "" if _GROSS.search(of_rows) else of_rows  # from which is taken off
    lone = [
        name
        for name, sign in chosen
        if sum(s == sign for _, s in chosen) == 1
        and (len(chosen) == 3 or name == of_rows or _TOTAL.search(name))
    ]
    # Of three, or where it is the amount of the rows or called a total, the one that is the sum of all others; of more
    # the last, as a net pay is: of the row's own.
    mine = [name for name, _ in chosen if terms[name].own]
    whole = lone[0] if lone and lone[0] in mine else mine[-1]
    own = dict(chosen)[whole]
    of = _Made(population, whole, blank, wide(amount), terms)
    parts = {name: -sign * own for name, sign in chosen if name != whole}
    row = of.counts(parts)
    # What few rows have, such as a garnishment, is none of the rows that were looked at.
    while row["holding"] < row["rows"] and (more := of.lacking(parts, row)) is not None:
        wider = {**parts, more[0]: more[1]}
        counts = of.counts(wider)
        # Of rows that are wrong one number may be what they lack, and another row have it and be right.
        if counts["holding"] <= row["holding"]:
            of.blank = blank
            break
        parts, row = wider, counts
    floored = False
    if row["holding"] < row["rows"] and (least := _never_below(of, parts, row)) is not None:
        of, parts, row = least
        whole, floored = of.whole, True
    kept = floored or row["kept"] >= HOLDS * row["several"]
    if row["several"] < LEAST_OF_RULE or not kept or row["holding"] < HOLDS * row["rows"]:
        return None
    rounded, near = (None, 0) if floored else of.rounded(parts, row)
    ordered = tuple(sorted(parts.items(), key=lambda part: -part[1]))
    left_blank = frozenset(parts) & of.blank
    return Sum(
        whole, ordered, left_blank, row["rows"], row["holding"] + near, row["several"], floored=floored,
        terms=terms, rounded=rounded,
    )  # fmt: skip


def _never_below(
    of: _Made, parts: Mapping[str, int], row: Mapping[str, int]
) -> tuple[_Made, dict[str, int], dict[str, int]] | None:
    """The same relation told of the column that is nothing in most rows that do not keep it, where the others
    would leave less than nothing: what is paid of an allowed amount that is below the part of the patient."""
    for whole in (of.whole, *(name for name in parts if of.terms[name].own)):
        told = dict(parts)
        if whole != of.whole:
            sign = told.pop(whole)
            told = {of.whole: sign, **{name: -sign * each for name, each in told.items()}}
        made = of.told_of(whole)
        counts = made.counts(told)
        floored, usual = made.nothing_left(told)
        # Of what is nothing in most rows anyway, those that are wrong are hardly ever something.
        if usual**floored > BY_CHANCE:
            continue
        if floored > 1 and 2 * floored > counts["rows"] - counts["holding"]:
            holding = counts["holding"] + floored
            return made, told, {**row, "rows": counts["rows"], "holding": holding}
    return None


class _Made:
    """Counts of rows whose ``whole`` is made of some parts."""

    def __init__(
        self,
        population: Population,
        whole: str,
        blank: frozenset[str],
        kind: str,
        terms: Mapping[str, Term],
    ) -> None:
        self._population, self.whole, self._kind = population, whole, kind
        self.blank, self.terms = blank, terms

    def told_of(self, whole: str) -> _Made:
        return _Made(self._population, whole, self.blank, self._kind, self.terms)

    def nothing_left(self, parts: Mapping[str, int]) -> tuple[int, float]:
        """Rows whose whole is nothing where its parts come to less, and in which share of those that hold it is nothing."""
        none = exp.EQ(this=self._term(self.whole), expression=sql.integer(0))
        less: Tree = exp.GT(this=self._beyond(parts), expression=sql.integer(0))
        # There is something that it is taken from.
        added = (self._term(name) for name, sign in parts.items() if sign > 0)
        some = exp.or_(*(exp.NEQ(this=term, expression=sql.integer(0)) for term in added))
        less = exp.and_(less, some)
        same = exp.EQ(this=self._beyond(parts), expression=sql.integer(0))
        found = self._counted(
            {"n": exp.and_(none, less), "same": same, "usual": exp.and_(none.copy(), same.copy())}
        )
        return found["n"], found["usual"] / max(found["same"], 1)

    def _term(self, name: str, *, blank: bool = False) -> Tree:
        own = expressions.scalar(self.terms[name].sql, self._population.table, "--expect")
        if blank or name in self.blank:
            own = exp.Coalesce(this=own, expressions=[sql.integer(0)])
        return sql.cast(own, self._kind)

    def _beyond(self, parts: Mapping[str, int]) -> Tree:
        """What the whole has beyond its parts."""
        total: Tree = sql.cast(sql.column(self.whole), self._kind)
        for name, sign in parts.items():
            total = (exp.Sub if sign > 0 else exp.Add)(this=total, expression=self._term(name))
        return exp.paren(total)

    def counts(self, parts: Mapping[str, int]) -> dict[str, int]:
        """Rows with a whole, those whose parts come to it, and those of which two parts or more are something.

        That a column is another where the rest are nothing makes no sum of them; nor are they one that only holds
        where all are something.
        """
        zero = sql.integer(0)
        same = exp.EQ(this=self._beyond(parts), expression=zero)
        known = exp.Not(this=sql.is_missing(exp.paren(same.copy())))
        count: Tree = zero
        for name in parts:
            there = exp.NEQ(this=self._term(name), expression=zero.copy())
            one = exp.Case().when(there, sql.integer(1)).else_(sql.integer(0))
            count = exp.Add(this=count, expression=one)
        several = exp.GTE(this=exp.paren(count), expression=sql.integer(2))
        return self._counted(
            {
                "rows": known, "holding": same, "several": exp.and_(known.copy(), several),
                "kept": exp.and_(several.copy(), same.copy()),
            }
        )  # fmt: skip

    def lacking(self, parts: Mapping[str, int], row: Mapping[str, int]) -> tuple[str, int] | None:
        """Another number that is what most of the rows lack that do not hold, and its sign."""
        left = [name for name in self.terms if name not in parts and name != self.whole]
        if not left:
            return None
        beyond = self._beyond(parts)
        asked, place = {}, {}
        for k, (name, sign) in enumerate((name, sign) for name in left for sign in (1, -1)):
            other = self._term(name, blank=True)
            own = other if sign > 0 else exp.Neg(this=other)
            something = exp.NEQ(this=other.copy(), expression=sql.integer(0))
            asked[f"n{k}"] = exp.and_(
                something, exp.EQ(this=beyond.copy(), expression=exp.paren(own))
            )
            place[f"n{k}"] = name, sign
        found = self._counted(asked)
        best = max(found, key=lambda key: found[key])
        failing = row["rows"] - row["holding"]
        if found[best] < 2 or 2 * found[best] < failing:
            return None
        self.blank |= {place[best][0]}
        return place[best]

    def rounded(
        self, parts: Mapping[str, int], row: Mapping[str, int]
    ) -> tuple[Decimal | None, int]:
        """By how much rows are off that were made of parts before these were rounded, and how many: most of those that do not
        hold, above and below; a cent that is always taken off is no rounding."""
        differing = row["rows"] - row["holding"]
        if differing < LEAST_ROUNDED:
            return None, 0
        scale = self._population.table.column(self.whole).scale
        most = Decimal((len(parts) + 1) // 2).scaleb(-scale)
        beyond, limit, zero = self._beyond(parts), sql.number(most), sql.integer(0)
        below = exp.and_(
            exp.LT(this=beyond, expression=zero),
            exp.GTE(this=beyond.copy(), expression=exp.Neg(this=limit)),
        )
        above = exp.and_(
            exp.GT(this=beyond.copy(), expression=zero.copy()),
            exp.LTE(this=beyond.copy(), expression=limit.copy()),
        )
        found = self._counted({"below": below, "above": above})
        near = found["below"] + found["above"]
        ways = min(found["below"], found["above"]) >= EACH_WAY * near
        return (most, near) if ways and near >= MOSTLY_ROUNDED * differing else (None, 0)

    def _counted(self, asked: Mapping[str, Tree]) -> dict[str, int]:
        fields = [
            exp.alias_(sql.only(sql.count(), condition), name) for name, condition in asked.items()
        ]
        (row,) = self._population.query(self._population.used(exp.select(*fields))).to_pylist()
        return {name: int(row[name]) for name in asked}
