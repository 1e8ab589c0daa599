"""Days that nearly always follow one another, in a row or in the row that it names, as they are proposed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import combinations
from typing import NamedTuple

import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.expressions import quoted_name
from sabueso.population.population import Population
from sabueso.population.table import Table
from sabueso.report.numbers import many
from sabueso.screens.proposal import (
    CLOSED,
    DIED,
    LEAST_OF_RULE,
    LISTED,
    Proposal,
    is_budget,
    settings_of,
    some_of,
)
from sabueso.screens.range.days import days_from, order_of
from sabueso.screens.range.late import Early, Late, early_of, late_of

MOST_OUT = 0.01
"""Share of rows out of order up to which the order is the rule, and to be out of it the exception."""
FEW_OUT = 3
"""Rows that may be out of order however few there are."""
LEAST_LATER = 20
"""How many rows are in order, days apart, for each that is out of it: equal days have none."""
ENDED_OUT, ENDED_LATER, ENDED_ROWS = 0.05, 5, 20
"""The same share and number of rows after a day on which what they name ended, and how many there are at least: few rows
name what has."""
LEAST_MOST = 3
"""Days that some row must be after another, for any to be late."""
MOST_DAYS = 5
"""Columns of days of one table that are compared."""


def proposed_orders(population: Population) -> Iterator[Proposal]:
    """Pairs of days of which one is hardly ever before the other."""
    table = population.table
    pairs = [] if is_budget(table) else [*_own_pairs(table), *_linked_pairs(population)]
    if not pairs:
        return
    fields = []
    for place, pair in enumerate(pairs):
        days = days_from(pair.first, pair.second, table)
        lie = order_of(pair.first, pair.second, table)
        asked = {
            "before": sql.only(sql.count(), lie.before),
            "after": sql.only(sql.count(), lie.after),
            "both": exp.Count(this=days.copy()),
            "least": exp.Min(this=days.copy()),
            "most": exp.Max(this=days.copy()),
        }
        fields += [exp.alias_(tree, f"{name}{place}") for name, tree in asked.items()]
    (row,) = population.query(population.used(exp.select(*fields))).to_pylist()
    found = []
    for place, pair in enumerate(pairs):
        before, after, both = (
            int(row[f"{name}{place}"] or 0) for name in ("before", "after", "both")
        )
        order, out = (pair.first, pair.second), before
        if before >= after:
            order, out = order[::-1], after
        ended = pair.ended and before > after
        times, share = (ENDED_LATER, ENDED_OUT) if ended else (LEAST_LATER, MOST_OUT)
        usual = times * out <= max(before, after) and out <= _few(both, share)
        usual = usual and both >= (ENDED_ROWS if ended else LEAST_OF_RULE)
        # Nobody does anything after their death, however few have died.
        if not (usual or (ended and pair.died and out <= LISTED)):
            continue
        # Of two tables that each name the other's rows, those are told whose day comes later.
        if pair.both_ways and order[1] == pair.first:
            continue
        most = int(row[f"most{place}"]) if before < after else -int(row[f"least{place}"])
        late = late_of(population, order, _few(both)) if most >= LEAST_MOST else None
        if late is not None and _is_late_there(population, order[1], _few(both)):
            late = None  # which is told once, of the row that is late
        apart = most >= LEAST_MOST and not ended
        early = early_of(population, order, _few(both)) if apart else None
        if out or late is not None or early is not None:
            found.append(_Found(order, out, max(before, after), both, late, ended, early))
    for each in _each_once(found):
        words = _in_words(each)
        name = " or ".join(w.what for w in words)
        later = each.order[1].replace('"', "")
        within = each.late.within if each.late is not None else None
        yield Proposal(
            f"{later} of {table.name} {name}",
            settings_of(
                in_order=list(each.order),
                least_days=each.early.least if each.early is not None else None,
                most_days=within,
            ),
            " ".join(w.purpose for w in words),
            "; ".join(w.because for w in words),
        )


def _is_late_there(population: Population, later: str, few: int) -> bool:
    """Whether a day of what is named is long after another of its own, in some rows."""
    table = population.table
    for column, link in sorted(table.links.items()):
        own = quoted_name(column) + "."
        other = population.tables.get(link.table.name, link.table)
        if other.name == table.name or not later.startswith(own):
            continue
        named, there = later.removeprefix(own), population.beside(other)
        days = [quoted_name(c.name) for c in other.columns if c.type in ("date", "timestamp")]
        return any(
            late_of(there, (day, named), few) is not None
            for day in days[:MOST_DAYS]
            if day != named
        )
    return False


class _Found(NamedTuple):
    """Two days in their order, how many rows are out of it and how many in it, of how many that have both, and which come
    long after, or soon."""

    order: _Order
    out: int
    in_order: int
    both: int
    late: Late | None
    ended: bool
    early: Early | None = None


def _each_once(found: Sequence[_Found]) -> Iterator[_Found]:
    """Of one day that is long after several others the one that it follows most closely says so: the month of a row, and
    its day."""
    for each in found:
        kept = each
        if _is_closer(found, each, lambda one: one.late and (one.late.rows, one.late.within)):
            kept = kept._replace(late=None)
        if _is_closer(found, each, lambda one: one.early and (one.early.rows, one.early.least)):
            kept = kept._replace(early=None)
        if kept.out or kept.late is not None or kept.early is not None:
            yield kept


def _is_closer(
    found: Sequence[_Found], each: _Found, told: Callable[[_Found], tuple[int, int] | None]
) -> bool:
    """Whether the same day follows another more closely, with as many rows out of the way: both ``told`` with the days."""
    mine = told(each)
    others = (told(one) for one in found if one.order[1] == each.order[1])
    return mine is not None and any(o and o[0] == mine[0] and o[1] < mine[1] for o in others)


class _Words(NamedTuple):
    """How a proposal tells what is out of the way."""

    what: str
    purpose: str
    because: str


def _in_words(told: _Found) -> list[_Words]:
    """Of rows before what comes first, and of rows long after it, where there are such."""
    order, out, other_way, both, late, ended, early = told
    earlier = order[0].replace('"', "")
    found = []
    if out:
        because = f"{out:,} of {both:,} rows are so, and {other_way:,} the other way round"
        purpose = (
            "Rows after what they name had ended."
            if ended
            else "What happened before it could have."
        )
        found.append(_Words(f"before {earlier}", purpose, because))
    if early is not None:
        rest, days = both - out - early.rows, many(early.least, "day")
        soon = f"at most {many(early.last, 'day')}" if early.last else "on the same day"
        found.append(
            _Words(
                f"soon after {earlier}",
                "What took far less time than it did elsewhere.",
                f"{rest:,} of {both:,} rows are {days} after it and more, {early.rows:,} {soon}",
            )
        )
    if late is not None:
        rest, days = both - out - late.rows, many(late.within, "day")
        found.append(
            _Words(
                f"{'long ' if late.far else f'more than {days} '}after {earlier}",
                f"What took {'far ' if late.far else ''}longer than it did elsewhere.",
                f"{rest:,} of {both:,} rows are within {days} of it, {late.rows:,} at least {late.first:,} days after it",
            )
        )
    return found


def _few(rows: int, share: float = MOST_OUT) -> int:
    """How many rows are few enough to be the exception."""
    return max(FEW_OUT, int(share * rows), some_of(rows))


_Order = tuple[str, str]


class _Pair(NamedTuple):
    """Two days as expressions; of a linked table's the first is its own, ``both_ways`` says whether that table's rows
    name these as well, ``ended`` whether it is the day on which what is named ended, and ``died`` whether it is a death."""

    first: str
    second: str
    both_ways: bool = False
    ended: bool = False
    died: bool = False


def _own_pairs(table: Table) -> Iterator[_Pair]:
    """Columns of days that a row has both of, but those of which the plan says the order."""
    declared = {
        frozenset((str(rule.get("on")), str(rule.get("than"))))
        for rule in table.rules
        if rule.get("rule") == "not after"
    }
    for one, two in combinations(_days(table), 2):
        if frozenset((one, two)) not in declared:
            yield _Pair(quoted_name(one), quoted_name(two))


def _linked_pairs(population: Population) -> Iterator[_Pair]:
    """The day of a row with those of the rows that it names, but since when a payee was known, which is asked of each."""
    table = population.table
    when, party = table.dated(), table.role("party")
    for column, link in sorted(table.links.items()):
        other = population.tables.get(link.table.name, link.table)
        of_payee = party is not None and column == party.name and "amount" in table.roles
        if when is None or other.name == table.name or _is_told(table, column):
            continue
        back = any(each.table.name == table.name for each in other.links.values())
        for day in _days(other):
            if of_payee and not CLOSED.search(day):
                continue
            named = ".".join(map(quoted_name, (column, day)))
            yield _Pair(named, quoted_name(when.name), back, CLOSED.search(day), DIED.search(day))


def _is_told(table: Table, column: str) -> bool:
    """Whether rows name the same by what tells rows of the other table apart: a supplier, beside its account."""
    link = table.links[column]
    keys = {link.table.roles.get("id"), link.table.roles.get("party")}
    others = [each for name, each in table.links.items() if name != column]
    named = any(each.key in keys for each in others if each.table.name == link.table.name)
    return named and link.key not in keys


def _days(table: Table) -> list[str]:
    return [c.name for c in table.columns if c.type in ("date", "timestamp")][:MOST_DAYS]
