"""Sums of a thing and a month that are proposed to tie, such as what was delivered in a month and what was paid for it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import product
from typing import NamedTuple

from sabueso.population.expressions import quoted_name
from sabueso.population.period_names import names_period, span_named
from sabueso.population.population import Population
from sabueso.population.table import Role, Table
from sabueso.screens.first_rows import first_coded
from sabueso.screens.one_way import are_linked
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal, is_budget, same_things, settings_of
from sabueso.screens.recompute.totals import Sides, agreement
from sabueso.stats.additive import HOLDS

MOST_SEEN, MOST_MONTHS = 2_000, 600
ROLES: tuple[Role, ...] = ("amount", "quantity")
SAME = 0.8
"""Share of the groups of both from which the sums of a month are the same: where fewer are, they are of another time."""


class _Month(NamedTuple):
    """What tells the month of a row: its name, and what rows are grouped by, as text (2025-03) or as a number (202503)."""

    name: str
    by: str
    is_text: bool
    own: bool
    """Whether rows state it, and it is not made of their date."""


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
        named = [
            (column, key)
            for column, key in same_things(table, other)
            if table.links[column].table.name not in (table.name, name)
        ]
        if not named:
            continue
        mine = _months(population) if mine is None else mine
        theirs = _months(population.beside(other))
        # Of two tables one comparison is enough: from the one that states a month, or by name.
        if _rank(mine, table) < _rank(theirs, other):
            continue
        for keys, role in product(named, roles):
            proposal = _tied(population, other, keys, product(mine, theirs), role)
            if proposal is not None:
                yield proposal
                break


def _rank(months: Sequence[_Month], table: Table) -> tuple[bool, str]:
    return any(month.own for month in months), table.name


def _tied(
    population: Population,
    other: Table,
    keys: tuple[str, str],
    months: Iterable[tuple[_Month, _Month]],
    role: Role,
) -> Proposal | None:
    table, (column, key) = population.table, keys
    for mine, theirs in months:
        stated = mine.own or theirs.own
        if mine.is_text != theirs.is_text or not (stated or mine.is_text):
            continue
        by, other_on = [quoted_name(column), mine.by], [quoted_name(key), theirs.by]
        own, expected = (f"sum({quoted_name(t.roles[role])})" for t in (table, other))
        n, both, same = agreement(population, Sides(by, own, expected, other.name, other_on))
        if both < LEAST_OF_RULE or same < max(SAME * n, HOLDS * both) or same == n:
            continue
        return Proposal(
            f"{role} by {column} and {mine.name} of {table.name} and {other.name}",
            settings_of(
                what="totals", by=by, equals=own, expect=expected, other=other.name,
                other_on=[] if by == other_on else other_on,
            ),
            f"What {table.name} and {other.name} do not have alike in a month.",
            f"both have the same for {same:,} of {n:,}",
        )  # fmt: skip
    return None


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
