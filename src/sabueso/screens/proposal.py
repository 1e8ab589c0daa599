"""A screen that suits a table, with settings taken from its rows, and what these are taken from."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.plain import Values
from sabueso.base.words import CalledSo
from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.nothing import states_nothing
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Role, Table

LEAST_ROWS = 100
"""Rows of a table below which no limit is set by how they are spread: they are read, not screened."""
LEAST_OF_RULE = 30
"""Rows below which no rule is taken from a table that nearly all of them follow: fewer may by chance."""

MOST_OUT, FEW, LISTED = 0.01, 3, 25
"""Share of the rows that may be the exception, how many may be however few rows there are, and how many however many."""
SOME, SOME_OUT = 10, 0.025
"""Rows of some hundreds that may be the exception, and their share of them."""


@dataclass(frozen=True)
class Proposal:
    """A screen as the plan would have it: what it is for, and what in these rows speaks for it.

    ``tuned`` says whether its limit is to be set by what it flags, ``alike`` which other table has the same amounts, one
    row for one, ``knows`` of which column it tells what each row should have, and ``share`` of how many of its subjects it
    may flag at most, but for five of few: more are no exceptions.
    """

    name: str
    settings: Values
    purpose: str
    because: str
    tuned: bool = False
    alike: str = ""
    knows: str = ""
    share: float = 1.0


@dataclass(frozen=True)
class Signs:
    """How many amounts of a measure are of either sign."""

    rows: int
    positive: int
    negative: int

    @property
    def low(self) -> bool:
        """Whether most amounts are negative, so that the large ones are the low ones."""
        return self.negative > self.positive

    def way(self, share: float) -> int:
        """1 where amounts are above nothing, −1 where they are below it, by that share of those that are either; else 0."""
        least = share * (self.positive + self.negative)
        return 1 if self.positive >= least else -1 if self.negative >= least else 0

    def where(self, measure: Column) -> str | None:
        """The condition that leaves one sign, the commoner; None where all rows have it."""
        name = quoted_name(measure.name)
        if self.low:
            return f"{name} < 0" if self.negative < self.rows else None
        return f"{name} > 0" if self.positive < self.rows else None


_DIED = r"\bdied|death|deceas|fallec|defunc|óbito|falec|gestorb|verstorb|décès|décéd|deced|decess|mort[eo]\b"
CLOSED = CalledSo(
    r"clos|term|left|leav|\bend|inactiv|deactiv|blocked|resign|separat|\bexit|ceas|baja|cese|salida|"
    r"austritt|ausgeschieden|\bende|gesperrt|gelöscht|geschlossen|sortie|départ|fermé|\bfin\b|saída|demiss|deslig|"
    rf"cessa|uscita|chius|expir|caduc|ablauf|cancel|kündig|resili|résili|disdett|rescis|{_DIED}"
)
"""Names of days on which somebody left, or something ended."""
DIED = CalledSo(_DIED)
"""Names of days on which somebody died."""
DISCOUNT = CalledSo(
    r"disc|rebate|rabatt|nachlass|skonto|descuent|\bdto\b|bonific|remise|rabais|sconto|korting|descont|rabat"
)
TAX = CalledSo(
    r"tax|\bvat\b|\bgst\b|mwst|\bust\b|\biva\b|\btva\b|\bbtw\b|moms|igic|impuest|imposto|steuer|podatek"
)
STATE = CalledSo(
    r"stat|estado|situa|état|\betat|zustand|activ|attiv|aktiv|block|bloq|gesperrt|valid|void|cancel|anul|annul|"
    r"storn|outcome|result|ergebnis|resultado|esito|phase|stage|decision|décision|approv|aprob|genehm"
)
"""Names of columns that say how something stands."""
_NO_STATES: tuple[Role, ...] = (
    "id", "document", "text", "party", "account", "currency", "preparer", "approver",
)  # fmt: skip
_BY_WHOM = CalledSo(r"(?:\b|_)(?:by|par|por|von|da|durch|door|av|af)$")
_BUDGET = CalledSo(r"budget|presup|forecast|previs|prévis|haushalt|plan(?:ned)?\b|budżet|orçament")


def is_budget(table: Table) -> bool:
    """Whether a table holds what was foreseen and not what was done, by its name or its measure's."""
    amount = table.role("amount")
    return bool(_BUDGET.search(table.name) or (amount and _BUDGET.search(amount.name)))


def few_of(rows: int) -> int:
    """How many of some rows are the exception to what nearly all keep: one in a hundred, three of few, and no more than can be
    looked through."""
    return max(FEW, min(LISTED, int(MOST_OUT * rows)))


def most_reviewed(rows: int, capacity: int) -> int:
    """How many of some rows may be flagged: as many as can be reviewed, and no more than are the exception."""
    return min(capacity, max(LISTED, int(MOST_OUT * rows)))


def some_of(rows: int) -> int:
    """How many of some hundreds may be, where one in a hundred is hardly any."""
    return min(SOME, int(SOME_OUT * rows))


def signs_of(population: Population, measure: Column) -> Signs:
    """Count the signs of a measure."""
    value, zero = sql.column(measure.name), sql.integer(0)
    fields = {
        "rows": exp.Count(this=value.copy()),
        "positive": sql.only(sql.count(), exp.GT(this=value.copy(), expression=zero)),
        "negative": sql.only(sql.count(), exp.LT(this=value.copy(), expression=zero.copy())),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    row = population.query(population.used(select)).to_pylist()[0]
    return Signs(*(int(row[name] or 0) for name in fields))


def same_things(table: Table, other: Table) -> Iterator[tuple[str, str]]:
    """Columns of two tables that are linked with one and the same column of a third, or with one another."""
    for mine, link in sorted(table.links.items()):
        if link.table.name == other.name:
            yield mine, link.key
        for theirs, their in sorted(other.links.items()):
            if (link.table.name, link.key) == (their.table.name, their.key):
                yield mine, theirs


def texts_without(table: Table, roles: Sequence[Role]) -> list[str]:
    """The columns of texts that have none of these roles, and are not where a row stands."""
    none = {table.roles.get(role) for role in roles}
    return [
        c.name for c in table.columns if c.type == "text" and not c.is_place and c.name not in none
    ]


def states_of(table: Table) -> list[str]:
    """The columns of texts that say how something stands, such as that an order was cancelled."""
    names = texts_without(table, _NO_STATES)
    return [name for name in names if STATE.search(name) and not _BY_WHOM.search(name)]


def grouping_column(
    population: Population, roles: Sequence[Role], least: int, share: float = 0.5
) -> Column | None:
    """The first column in one of these roles whose groups of at least ``least`` rows, two or more,
    hold that share of the rows. Rows that name none, or whose text stands for none, are no group."""
    for role in roles:
        column = population.table.role(role)
        if column is None:
            continue
        key = sql.column(column.name)
        sizes = exp.select(exp.alias_(key, "key", quoted=True), exp.alias_(sql.count(), "n"))
        sizes = sizes.group_by(key.copy())
        inner = population.used(sizes).subquery("g")
        size = sql.column("n", "g")
        unnamed = [sql.is_missing(sql.column("key", "g"))]
        if column.type == "text":
            unnamed.append(states_nothing(sql.column("key", "g")))
        named = exp.Not(this=exp.paren(exp.or_(*unnamed)))
        large = sql.both([named, exp.GTE(this=size.copy(), expression=sql.integer(least))])
        fields = (
            exp.alias_(sql.only(sql.count(), large), "groups"),
            exp.alias_(exp.Sum(this=exp.Case().when(large.copy(), size.copy())), "held"),
            exp.alias_(exp.Sum(this=size.copy()), "rows"),
        )
        row = population.query(exp.select(*fields).from_(inner)).to_pylist()[0]
        if int(row["groups"] or 0) > 1 and int(row["held"] or 0) >= share * int(row["rows"] or 1):
            return column
    return None


def met_by(
    population: Population, other: Table, mine: Mapping[str, Tree], theirs: Mapping[str, Tree]
) -> tuple[int, int]:
    """How many rows tell all of some things, by their names, and how many of these another table has with them."""

    def told(rows: Population, trees: Mapping[str, Tree]) -> exp.Select:
        every = rows.used(exp.select(*(exp.alias_(tree, name) for name, tree in trees.items())))
        columns = [sql.column(name, "r") for name in trees]
        stated = sql.both(exp.Not(this=sql.is_missing(column)) for column in columns)
        return exp.select(*(c.copy() for c in columns)).from_(every.subquery("r")).where(stated)

    there = told(population.beside(other), theirs).distinct()
    return met(population, told(population, mine), there, list(mine))


def met(
    population: Population, mine: exp.Select, theirs: exp.Select, names: Sequence[str]
) -> tuple[int, int]:
    """How many rows a SELECT has, and how many of these are found among the distinct ones of another by the columns
    of these names."""
    same = sql.both(
        exp.EQ(this=sql.column(name, "a"), expression=sql.column(name, "b")) for name in names
    )
    found = exp.Not(this=sql.is_missing(sql.column(names[0], "b")))
    fields = [exp.alias_(sql.count(), "n"), exp.alias_(sql.only(sql.count(), found), "found")]
    select = exp.select(*fields).from_(mine.subquery("a"))
    select = select.join(theirs.subquery("b"), on=same, join_type="left")
    (row,) = population.query(select).to_pylist()
    return int(row["n"]), int(row["found"])


def settings_of(**values: Any) -> Values:
    """Settings without those that have no value."""
    return {name: value for name, value in values.items() if value not in (None, "", [])}
