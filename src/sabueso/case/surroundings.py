"""What lies around an exception: its figure over time, other marks on those behind it, its own kind."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.case.queue import AuditException, queue
from sabueso.population import expressions, sql
from sabueso.population.drill import Asked, drill
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.finding import Finding
from sabueso.screens.subject import Class, Entity, Line, Row, Subject

BESIDE_ROLES = ("party", "account", "preparer", "approver")
MOST_BESIDE = 300
"""Exceptions, the first of the queue, whose rows are looked at for the same party, account, preparer."""
MOST_VALUES = 5
"""Values of a role up to which an exception is of them, and not of everybody."""
MOST_ENTITIES = 20_000
PERIODS = (("year", 60), ("quarter", 12), ("month", 3))


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
    """An entity's most telling measure among all entities: their median, and how many lie further."""

    measure: str
    value: float
    n: int
    median: float
    higher: int
    lower: int


def history_of(
    opened: Callable[..., Population],
    finding: Finding[Any],
    subject: Subject,
    selector: str,
    measure: Column | None,
) -> list[Period]:
    """The subject's rows and amounts by quarter; by year where there are more than three years. None of a
    row, or where rows have no dates."""
    if isinstance(subject, Row):
        return []
    if isinstance(subject, Line):
        names = [c.name for c in opened(finding.table).table.columns]
        keys = [expressions.equals(n, v, names) for n, v in subject.clients().items()]
        asked = finding.settings.get("where")
        selector = " and ".join([*keys, *([f"({asked})"] if asked else [])])
    population = opened(finding.table, selector, with_set_aside=True)
    date = population.table.role("date")
    if date is None or date.type not in ("date", "timestamp"):
        return []
    figures = ["count(*)"]
    if measure is not None:
        figures.append(f"sum({expressions.quoted_name(measure.name)})")
    found = drill(population, Asked(by=["quarter"], measures=figures)).total.children
    if len(found) > 12:
        found = drill(population, Asked(by=["year"], measures=figures)).total.children
    return [
        Period(str(n.key[0]), n.rows, n.values[1] if measure is not None else None)
        for n in found
        if n.key[0] is not None
    ]


def among_entities(population: Population, finding: Finding[Any], subject: Subject) -> Among | None:
    """Of an entity far by distance, its largest contribution among all entities."""
    if not isinstance(subject, Entity):
        return None
    flag = next((f for f in finding.flags.rows() if f["subject"] == dict(subject.named)), None)
    contribution = dict((flag or {}).get("contribution") or {})
    if not contribution:
        return None
    measure = max(contribution, key=lambda name: contribution[name])
    per = list(subject.clients())
    try:
        asked = Asked(by=[expressions.quoted_name(n) if n in _names(population) else n for n in per],
                      measures=[measure], limit=None)  # fmt: skip
        children = drill(population, asked).total.children
    except UserError:
        return None
    while children and children[0].children:
        children = [leaf for child in children for leaf in child.children]
    if not children or len(children) > MOST_ENTITIES:
        return None
    own = [str(v) for v in subject.clients().values()]
    values = sorted(float(n.value) for n in children if n.value is not None)
    mine = next((float(n.value) for n in children
                 if [str(k) for k in n.key] == own and n.value is not None), None)  # fmt: skip
    if mine is None:
        return None
    middle = len(values) // 2
    median = values[middle] if len(values) % 2 else (values[middle - 1] + values[middle]) / 2
    return Among(
        measure,
        mine,
        len(values),
        median,
        sum(v > mine for v in values),
        sum(v < mine for v in values),
    )


def _names(population: Population) -> list[str]:
    return [c.name for c in population.table.columns]


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
    others = [
        each for each in queue(case)[:MOST_BESIDE]
        if each.table == item.table and each.id != item.id and isinstance(each.subject, (Row, Entity))
    ]  # fmt: skip
    if not own or not others:
        return []
    whole = opened(item.table, None, with_set_aside=True)
    choice = exp.Case()
    for place, each in enumerate(others):
        condition = expressions.condition(each.selector, whole.table, "subject")
        choice = choice.when(condition, sql.integer(place), copy=False)
    trees: dict[str, Tree] = {
        "place": choice,
        **{role: sql.column(column) for role, column in columns},
    }
    base = whole.base(trees)
    keys = [sql.column("place"), *(sql.column(role) for role, _ in columns)]
    select = exp.select(*keys).from_(base.subquery("b"))
    select = select.where(exp.Not(this=sql.is_missing(sql.column("place")))).distinct()
    shared: dict[tuple[str, Any], set[str]] = {}
    for found_row in whole.query(select).to_pylist():
        for role, values_of in own.items():
            if found_row[role] in values_of:
                shared.setdefault((role, found_row[role]), set()).add(others[found_row["place"]].id)
    order = {each.id: place for place, each in enumerate(others)}
    named = dict(columns)
    return [
        Beside(role, named[role], value, sorted(ids, key=lambda i: order[i]))
        for (role, value), ids in sorted(
            shared.items(), key=lambda pair: BESIDE_ROLES.index(pair[0][0])
        )
    ]
