"""What lies around an exception: its figure over time, other marks on those behind it, its own kind."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from statistics import median
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.case.folder import Case
from sabueso.case.marked import DRAWN
from sabueso.case.queue import AuditException, queue
from sabueso.population import expressions, sql
from sabueso.population.drill import Asked, drill
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.subject import Class, Entity, Row, Subject

BESIDE_ROLES = ("party", "account", "preparer", "approver")
MOST_BESIDE = 300
"""Exceptions, the first of the queue, whose rows are looked at for the same party, account, preparer."""
MOST_VALUES = 5
"""Values of a role up to which an exception is of them, and not of everybody."""
MOST_ENTITIES = 20_000


@dataclass(frozen=True)
class Period:
    """The figure of the subject in one period."""

    name: str
    rows: int
    amount: Decimal | None


@dataclass(frozen=True)
class Beside:
    """Other exceptions whose rows have the same value in a role."""

    role: str
    column: str
    value: Any
    exceptions: list[str]


@dataclass(frozen=True)
class Among:
    """The most telling measure of an entity, or a row, among all of them: their median, and how many lie further."""

    measure: str
    value: float
    n: int
    median: float
    higher: int
    lower: int


def by_period(population: Population, measure: Column | None) -> list[Period]:
    """Rows and amounts by quarter; by year where there are more than three years. None where rows have no
    dates."""
    date = population.table.dated()
    if date is None:
        return []
    figures = ["count(*)"]
    if measure is not None:
        figures.append(f"sum({expressions.quoted_name(measure.name)})")
    for unit in ("quarter", "year"):
        by = [expressions.period_text(unit, population.table)]
        found = drill(population, Asked(by=by, measures=figures)).total.children
        if len(found) <= 12:
            break
    return [
        Period(str(n.key[0]), n.rows, n.values[1] if measure is not None else None)
        for n in found
        if n.key[0] is not None
    ]


def among_entities(
    population: Population, contribution: Mapping[str, float], subject: Subject
) -> Among | None:
    """Of an entity far by distance, its largest contribution among all entities."""
    if not isinstance(subject, Entity) or not contribution:
        return None
    measure = max(contribution, key=lambda name: contribution[name])
    columns = [c.name for c in population.table.columns]
    per = [expressions.quoted_name(name) if name in columns else name for name in subject.clients()]
    try:
        children = drill(population, Asked(by=per, measures=[measure])).total.children
    except UserError:
        return None
    while children and children[0].children:
        children = [leaf for child in children for leaf in child.children]
    own = [str(v) for v in subject.clients().values()]
    values = {tuple(map(str, n.key)): float(n.value) for n in children if n.value is not None}
    mine = values.get(tuple(own))
    if mine is None or len(children) > MOST_ENTITIES:
        return None
    return Among(
        measure=measure,
        value=mine,
        n=len(values),
        median=median(values.values()),
        higher=sum(v > mine for v in values.values()),
        lower=sum(v < mine for v in values.values()),
    )


def among_rows(
    population: Population, behind: Population, contribution: Mapping[str, float]
) -> Among | None:
    """Of a row far by distance, its largest contribution among all rows."""
    if not contribution:
        return None
    measure = max(contribution, key=lambda name: contribution[name])
    column = next((c for c in population.table.numbers if c.name == measure), None)
    if column is None:
        return None
    value = sql.column(column.name)
    own = exp.select(exp.alias_(exp.Max(this=value.copy()), "own"), exp.alias_(sql.count(), "n"))
    (mine,) = behind.query(behind.used(own)).to_pylist()
    if mine["n"] != 1 or mine["own"] is None:
        return None
    limit = sql.number(Decimal(mine["own"]))
    fields = {
        "n": exp.Count(this=value.copy()),
        "higher": sql.only(sql.count(), exp.GT(this=value.copy(), expression=limit)),
        "lower": sql.only(sql.count(), exp.LT(this=value.copy(), expression=limit.copy())),
        "median": sql.quantiles(sql.cast(value.copy(), "DOUBLE"), ["0.5"]),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in fields.items()))
    (row,) = population.query(population.used(select)).to_pylist()
    return Among(
        measure=measure,
        value=float(mine["own"]),
        n=int(row["n"]),
        median=float(row["median"][0]),
        higher=int(row["higher"]),
        lower=int(row["lower"]),
    )


def _few_values(rows: Population, columns: list[tuple[str, str]]) -> dict[str, set[Any]]:
    """By role, its values among some rows, where they are few."""
    base = rows.base({role: sql.column(column) for role, column in columns})
    counts = [
        exp.alias_(exp.Count(this=exp.Distinct(expressions=[sql.column(role)])), role, quoted=True)
        for role, _ in columns
    ]
    (many,) = rows.query(exp.select(*counts).from_(base.subquery("b"))).to_pylist()
    few = [role for role, _ in columns if 0 < many[role] <= MOST_VALUES]
    if not few:
        return {}
    select = exp.select(*map(sql.column, few)).from_(base.subquery("b")).distinct()
    found = rows.query(select).to_pylist()
    return {role: {row[role] for row in found} - {None} for role in few}


def marks_beside(
    case: Case, opened: Callable[..., Population], item: AuditException, rows: Population
) -> list[Beside]:
    """Other exceptions on the same party, account, preparer or approver, where the exception's rows are of
    a few of them."""
    columns = [(role, rows.table.roles[role]) for role in BESIDE_ROLES if role in rows.table.roles]
    if not columns or isinstance(item.subject, Class):
        return []
    own = _few_values(rows, columns)
    # A row may be of several exceptions, a payment and its supplier, but of one of those whose keys name
    # the same columns: each such kind is asked for by itself.
    alike: dict[tuple[str, ...], list[AuditException]] = {}
    for each in queue(case)[:MOST_BESIDE]:
        subject = each.subject
        # What was drawn into a sample is no mark on anybody.
        if each.kind == DRAWN or each.table != item.table:
            continue
        if isinstance(subject, (Row, Entity)):
            alike.setdefault((each.kind, *subject.clients()), []).append(each)
    if not own:
        return []
    whole = opened(item.table, None, with_set_aside=True)
    shared: dict[tuple[str, Any], list[AuditException]] = {}
    for others in alike.values():
        every: dict[tuple[int, str], set[Any]] = {}
        for place, row in _values_of(whole, others, columns):
            for role in own:
                every.setdefault((place, role), set()).add(row[role])
        for (place, role), values in every.items():
            if others[place].id == item.id:
                continue
            # What is of many is of none of them in particular.
            if len(values - {None}) <= MOST_VALUES:
                for value in sorted(values & own[role], key=str):
                    shared.setdefault((role, value), []).append(others[place])
    order = {role: place for place, role in enumerate(BESIDE_ROLES)}
    named = dict(columns)
    return [
        Beside(
            role, named[role], value,
            list(dict.fromkeys(each.id for each in sorted(found, key=lambda e: e.place))),
        )
        for (role, value), found in sorted(shared.items(), key=lambda pair: order[pair[0][0]])
    ]  # fmt: skip


def _values_of(
    whole: Population, exceptions: Sequence[AuditException], columns: Sequence[tuple[str, str]]
) -> list[tuple[int, Cells]]:
    """The values in some roles of the rows of exceptions that share none: each with the exception's
    place. They are the same for every exception that is looked at, as long as these are."""
    key = (
        "values of",
        whole.table.name,
        tuple((each.id, each.selector) for each in exceptions),
        tuple(columns),
    )
    found: list[tuple[int, Cells]]
    if key in whole.known:
        found = whole.known[key]
        return found
    choice = exp.Case()
    for place, each in enumerate(exceptions):
        condition = expressions.condition(each.selector, whole.table, "subject")
        choice = choice.when(condition, sql.integer(place), copy=False)
    trees: dict[str, Tree] = {role: sql.column(column) for role, column in columns}
    base = whole.base({**trees, "place": choice})
    keys = [sql.column(name) for name in (*trees, "place")]
    select = exp.select(*keys).from_(base.subquery("b"))
    select = select.where(exp.Not(this=sql.is_missing(sql.column("place")))).distinct()
    found = [(row["place"], row) for row in whole.query(select).to_pylist()]
    whole.known[key] = found
    return found
