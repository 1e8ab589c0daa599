"""Who is behind exceptions: parties, preparers or accounts of their rows, with the evidence added up."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Literal, Protocol

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.population import Population

Whose = Literal["party", "preparer", "account"]
MOST_VALUES = 5
"""Values of a role up to which an exception is of them, and not of everybody."""
MOST_EXCEPTIONS, AT_ONCE = 300, 40


class Excepted(Protocol):
    """What is known of an exception."""

    @property
    def id(self) -> str: ...
    @property
    def table(self) -> str: ...
    @property
    def selector(self) -> str: ...
    @property
    def amount(self) -> str | None: ...
    @property
    def evidence_bits(self) -> float: ...
    @property
    def families(self) -> frozenset[str]: ...


@dataclass
class Behind:
    """Somebody, or an account, behind exceptions: which, by how many families of tests, their evidence
    added up, and the amounts at stake in them."""

    value: str
    column: str
    exceptions: list[str] = field(default_factory=list)
    tables: list[str] = field(default_factory=list)
    families: set[str] = field(default_factory=set)
    bits: float = 0.0
    amount: Decimal = Decimal(0)


@dataclass(frozen=True)
class Behinds:
    """Who is behind exceptions, most evidence first. ``looked_at`` exceptions were looked at, of
    ``without`` of which the role has no value, or many."""

    role: str
    found: list[Behind]
    looked_at: int
    without: int


def who_is_behind(
    opened: Callable[..., Population], items: Sequence[Excepted], role: Whose
) -> Behinds:
    """Add up the evidence of exceptions for the values of a role that their rows have.

    Raises
    ------
    UserError
        If no table of theirs names the role.
    """
    chosen = items[:MOST_EXCEPTIONS]
    by_table: dict[str, list[Excepted]] = {}
    for item in chosen:
        by_table.setdefault(item.table, []).append(item)
    found: dict[str, Behind] = {}
    without, named = 0, False
    for table, own in by_table.items():
        whole = opened(table, None, with_set_aside=True)
        column = whole.table.role(role)
        if column is None:
            without += len(own)
            continue
        named = True
        values = _values(whole, own, column.name)
        most = _most(whole, column.name)
        for item in own:
            few = values.get(item.id, [])
            if not 0 < len(few) <= most:
                without += 1
                continue
            for value in few:
                _add(found.setdefault(value, Behind(value, column.name)), item)
    if not named and chosen:
        raise UserError(f"--per {role}: no table of these exceptions names a column in that role")
    ordered = sorted(found.values(), key=lambda b: (-b.bits, -len(b.exceptions), b.value))
    return Behinds(role, ordered, len(chosen), without)


def those_of(
    opened: Callable[..., Population], items: Sequence[Excepted], role: Whose, value: str
) -> set[str]:
    """Ids of the exceptions that have a row of somebody, or of an account, and few rows of others in that
    role: what is of everybody is of nobody in particular.

    Raises
    ------
    UserError
        If no table of theirs names the role.
    """
    by_table: dict[str, list[Excepted]] = {}
    for item in items:
        by_table.setdefault(item.table, []).append(item)
    found: set[str] = set()
    named = False
    for table, own in by_table.items():
        whole = opened(table, None, with_set_aside=True)
        column = whole.table.role(role)
        if column is None:
            continue
        named = True
        most = _most(whole, column.name)
        for identity, values in _values(whole, own, column.name).items():
            if value in values and len(values) <= most:
                found.add(identity)
    if not named and items:
        raise UserError(f"--{role}: no table of these exceptions names a column in that role")
    return found


def _add(one: Behind, item: Excepted) -> None:
    one.exceptions.append(item.id)
    if item.table not in one.tables:
        one.tables.append(item.table)
    one.families |= item.families
    one.bits += item.evidence_bits
    one.amount += abs(Decimal(item.amount)) if item.amount is not None else Decimal(0)


def _most(whole: Population, column: str) -> int:
    """Values up to which an exception is of them: five, and of few at all no more than half, since what is of all of a
    house's four clerks is of none of them."""
    value = sql.column(column)
    some = whole.used(exp.select(exp.alias_(value, "v")))
    some = some.where(exp.Not(this=sql.is_missing(value.copy()))).distinct().limit(2 * MOST_VALUES)
    select = exp.select(exp.alias_(sql.count(), "n")).from_(some.subquery("s"))
    (row,) = whole.query(select).to_pylist()
    return max(int(row["n"]) // 2, 1)


def _values(whole: Population, items: Sequence[Excepted], column: str) -> dict[str, list[str]]:
    """The values of a column among the rows of each exception, up to one more than few."""
    found: dict[str, list[str]] = {}
    for start in range(0, len(items), AT_ONCE):
        parts = [_of(whole, item, column) for item in items[start : start + AT_ONCE]]
        together: exp.Expr = parts[0]
        for part in parts[1:]:
            together = exp.Union(this=together, expression=part, distinct=False)
        for row in whole.query(together).to_pylist():
            found.setdefault(row["e"], []).append(row["v"])
    return found


def _of(whole: Population, item: Excepted, column: str) -> exp.Select:
    condition = expressions.condition(item.selector, whole.table, "subject")
    value = sql.cast(sql.column(column), "TEXT")
    inner = exp.select(exp.alias_(value, "v")).from_(whole.source()).where(condition)
    known = exp.Not(this=sql.is_missing(sql.column("v")))
    few = exp.select(sql.column("v")).from_(inner.subquery("b")).where(known).distinct()
    few = few.limit(MOST_VALUES + 1)
    return exp.select(exp.alias_(sql.text(item.id), "e"), sql.column("v")).from_(few.subquery("f"))
