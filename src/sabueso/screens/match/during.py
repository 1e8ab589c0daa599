"""Rows whose day lies in a span, from a first to a last day, that another table has of the same key: hours worked on
days of leave, claims on days that no policy covers."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime, timedelta
from itertools import accumulate
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.expressions import quoted_name
from sabueso.population.moments import days_between
from sabueso.population.population import Population, Reason
from sabueso.population.table import Column, Table, bare_name
from sabueso.screens.grouping import without_date
from sabueso.screens.match.absent import asked_of
from sabueso.screens.match.flagging import Pairs
from sabueso.screens.match.keys import Key, Keys
from sabueso.screens.one_way import tables_named
from sabueso.screens.proposal import (
    CLOSED,
    LEAST_OF_RULE,
    Proposal,
    is_budget,
    same_things,
)

NEVER, EVER = "", "9999-12-31"
"""Days before all others and after them: a span without a first day, or a last one, is open there."""
TIMES = 4
"""How many times as many rows would lie in spans if they lay on any days, from which it is a rule that they do not."""
FEW, RARE = 10, 0.01
"""Rows that lie in spans, or outside of all of them, as the exception: so many, or this share of those whose key has
spans."""

MOST_SPANS = 1_000
"""Spans of one key up to which it is tried."""


def days_of(table: Table, during: Sequence[str], keys: Sequence[str]) -> list[Column]:
    """The columns of the first and the last day, beside those of the keys.

    Raises
    ------
    UserError
        If the table has none of that name, or one that holds no days, or is one of the keys.
    """
    columns = [table.column(bare_name(name)) for name in during]
    for column in columns:
        if column.type not in ("date", "timestamp"):
            raise UserError(
                f"--during {column.name}: column {column.name!r} of {table.name!r} holds {column.type}; expected days"
            )
        if column.name in map(bare_name, keys):
            raise UserError(
                f"--during: {quoted_name(column.name)} is what the keys are made of; expected other days"
            )
    return columns


def without_day(table: Table) -> list[Reason]:
    """Rows that have no day of their own lie in no span, nor outside of one.

    Raises
    ------
    UserError
        If the table has no dates at all.
    """
    found = table.dated()
    if found is None:
        raise UserError(f"--during needs a date in the role date; table {table.name!r} has none")
    return undated(table)


def undated(table: Table) -> list[Reason]:
    """Rows without a day, which are in no period: not in one with others that have none either."""
    found = table.role("date")
    return [] if found is None else [without_date(found)]


def pairs_within(left: Keys, right: Keys, parts: int, form: Callable[[Key], Key]) -> Pairs:
    """Spans of the same key around the day of each; days are the last part of a key of ``left``, first and last day
    those of a key of ``right``, or the one after which all days are."""
    spans: dict[Key, list[tuple[str, str, int]]] = {}
    for k, key in enumerate(right.keys):
        own, (first, *last) = form(key[:parts]), key[parts:]
        if "" in own or (not last and first is None):
            continue
        begins = _day(first, NEVER) if last else _day_after(first)
        spans.setdefault(own, []).append((begins, _day(last[0], EVER) if last else EVER, k))
    sorted_of = {own: _Spans(found) for own, found in spans.items()}
    found: Pairs = {}
    for i, key in enumerate(left.keys):
        known = sorted_of.get(form(key[:parts]))
        around = [] if known is None else known.around(str(key[-1]))
        if around:
            found[i] = [(k, 100.0) for k in around]
    return found


class _Spans:
    """Spans of one key, found by a day without looking at those that ended before it."""

    def __init__(self, spans: list[tuple[str, str, int]]) -> None:
        self._spans = sorted(spans)
        self._firsts = [first for first, _, _ in self._spans]
        self._latest = list(accumulate((last for _, last, _ in self._spans), max))

    def around(self, day: str) -> list[int]:
        found = []
        place = bisect_right(self._firsts, day) - 1
        while place >= 0 and self._latest[place] >= day:
            if self._spans[place][1] >= day:
                found.append(self._spans[place][2])
            place -= 1
        return found[::-1]


def _day(value: Any, missing: str) -> str:
    if value is None:
        return missing
    if isinstance(value, datetime):
        value = value.date()
    return value.isoformat() if isinstance(value, date) else str(value)[:10]


def _day_after(value: Any) -> str:
    day = date.fromisoformat(_day(value, NEVER))
    return EVER if day == date.max else (day + timedelta(days=1)).isoformat()


def proposed_during(population: Population) -> Iterator[Proposal]:
    """Rows on days that hardly any row of theirs falls on, or nearly all do, by a table of spans that is linked with
    the same others."""
    table = population.table
    day = table.dated()
    if day is None or is_budget(table):
        return
    for name, other in sorted(population.tables.items()):
        days = [c for c in other.columns if c.type in ("date", "timestamp")]
        ended = [c for c in days if CLOSED.search(c.name)]
        spans = [days] if len(days) == 2 else []
        # After a day that is called as an end it is over, whenever that was paid or known.
        spans += [ended] if len(ended) == 1 and name not in tables_named(table) else []
        for mine, theirs in same_things(table, other) if name != table.name else ():
            each = (_judged(population, other, mine, theirs, day, span) for span in spans)
            found = [proposal for proposal in each if proposal is not None]
            if found:
                yield from found
                break


def _judged(
    population: Population,
    other: Table,
    mine: str,
    theirs: str,
    day: Column,
    days: list[Column],
) -> Proposal | None:
    table = population.table
    counted = _counted(population, _spans_of(other, theirs, days), mine, day)
    if counted is None:
        return None
    every, n, inside = counted
    few = max(FEW, RARE * n)
    # Of a key without a span every row lies outside.
    if not (0 < inside <= few or 0 < every - inside <= few) or 2 * few > n:
        return None
    find = "present" if inside <= few else "absent"
    if find == "present" and inside * TIMES > _by_chance(
        population, other, mine, theirs, day, days
    ):
        return None  # short spans that rows seldom fall into anyhow
    link = table.links.get(mine)
    named = link is not None and link.table.name == other.name
    if named and (find == "absent" or _in_order(population, mine, days, day, few)):
        return None  # before or after a day of the row that is named: range asks that
    settings = asked_of(
        other, [(mine, theirs)], find=find, during=[quoted_name(c.name) for c in days]
    )
    if len(days) == 1:
        return None if find == "absent" else Proposal(
            f"{day.name} of {table.name} after {days[0].name} of {other.name}",
            settings,
            f"Rows after what they are of had ended, by {other.name}.",
            f"{inside:,} of {n:,} rows whose {mine} is there are dated after it",
        )  # fmt: skip
    told = f"{inside:,} of {n:,} rows whose {mine} has such spans lie in one of them"
    if find == "absent":
        told = f"{every - inside:,} of {every:,} rows lie in no such span of their {mine}"
    return Proposal(
        f"{day.name} of {table.name} {'within' if find == 'present' else 'outside'} {other.name}",
        settings,
        f"Hardly any row lies {'in' if find == 'present' else 'outside'} a span of {other.name}, from {days[0].name} to "
        f"{days[1].name}.",
        told,
    )  # fmt: skip


def _by_chance(
    population: Population,
    other: Table,
    mine: str,
    theirs: str,
    day: Column,
    days: list[Column],
) -> float:
    """How many rows would lie in a span of their key if they were spread evenly over all days of the table."""
    at = sql.cast(sql.column(day.name), "DATE")
    ends = exp.alias_(exp.Min(this=at), "lo"), exp.alias_(exp.Max(this=at.copy()), "hi")
    (row,) = population.query(population.used(exp.select(*ends))).to_pylist()
    if row["lo"] is None:
        return 0.0
    low, high = (sql.cast(sql.text(row[name].isoformat()), "DATE") for name in ("lo", "hi"))
    span = _spans_of(other, theirs, days).subquery("s")
    first = exp.Greatest(this=exp.Coalesce(this=sql.column("first", "s"), expressions=[low]), expressions=[low.copy()])  # fmt: skip
    last = exp.Least(this=exp.Coalesce(this=sql.column("last", "s"), expressions=[high]), expressions=[high.copy()])  # fmt: skip
    length = exp.Add(this=days_between(last, first), expression=sql.integer(1))
    held = exp.Sum(this=exp.Greatest(this=length, expressions=[sql.integer(0)]))
    covered = exp.select(sql.column("who", "s"), exp.alias_(held, "held")).from_(span)
    covered = covered.group_by(sql.column("who", "s"))
    own = exp.select(exp.alias_(sql.column(mine), "who"), exp.alias_(sql.count(), "n"))
    own = population.used(own).group_by(sql.column(mine))
    whole = (row["hi"] - row["lo"]).days + 1
    share = exp.Least(this=sql.column("held", "k"), expressions=[sql.integer(whole)])
    product = exp.Mul(this=sql.column("n", "r"), expression=share)
    select = exp.select(exp.alias_(exp.Sum(this=product), "n")).from_(own.subquery("r"))
    same = exp.EQ(this=sql.column("who", "r"), expression=sql.column("who", "k"))
    (found,) = population.query(select.join(covered.subquery("k"), on=same)).to_pylist()
    return int(found["n"] or 0) / whole


def _in_order(
    population: Population, mine: str, days: list[Column], day: Column, few: float
) -> bool:
    """Whether hardly any row is before, or after, the span of the row that it names."""
    at = sql.cast(sql.column(day.name), "DATE")
    ends = [
        sql.cast(
            expressions.scalar(".".join(map(quoted_name, (mine, end.name))), population.table),
            "DATE",
        )
        for end in days
    ]
    beyond = exp.LT(this=at, expression=ends[0]), exp.GT(this=at.copy(), expression=ends[1])
    select = exp.select(
        *(exp.alias_(sql.only(sql.count(), each), f"n{i}") for i, each in enumerate(beyond))
    )
    (row,) = population.query(population.used(select)).to_pylist()
    return min(int(row["n0"]), int(row["n1"])) <= few


def _spans_of(other: Table, theirs: str, days: list[Column]) -> exp.Select:
    """Whose spans they are, with their first and last days."""
    ends: list[exp.Expr] = [sql.cast(sql.column(column.name), "DATE") for column in days]
    if len(ends) == 1:  # it has no end, and begins on the day after
        ends = [exp.Add(this=ends[0], expression=sql.integer(1)), sql.cast(exp.null(), "DATE")]
    named = [exp.alias_(end, name) for name, end in zip(("first", "last"), ends, strict=True)]
    spans = exp.select(exp.alias_(sql.column(theirs), "who"), *named)
    spans = spans.from_(exp.Table(this=exp.to_identifier(other.name, quoted=True)))
    if len(days) == 1:
        spans = spans.where(exp.Not(this=sql.is_missing(sql.column(days[0].name))))
    return spans


def _counted(
    population: Population, spans: exp.Select, mine: str, day: Column
) -> tuple[int, int, int] | None:
    """All rows with a key and a day, those whose key has spans, and those in one; None where these are few, or one key
    has very many spans."""
    own = {"who": sql.column(mine), "day": sql.cast(sql.column(day.name), "DATE")}
    rows = population.used(exp.select(*(exp.alias_(tree, n) for n, tree in own.items())))
    stated = [exp.Not(this=sql.is_missing(sql.column(n, "r"))) for n in own]
    cells = exp.select(*(sql.column(n, "r") for n in own), exp.alias_(sql.count(), "n"))
    cells = cells.from_(rows.subquery("r")).where(sql.both(stated))
    cells = cells.group_by(*(sql.column(n, "r") for n in own))

    whose = exp.select(sql.column("who", "k"), exp.alias_(sql.count(), "n"))
    whose = whose.from_(spans.subquery("k")).group_by(sql.column("who", "k"))
    same = exp.EQ(this=sql.column("who", "c"), expression=sql.column("who", "s"))
    known = exp.Not(this=sql.is_missing(sql.column("n", "s")))
    asked = {
        "every": exp.Sum(this=sql.column("n", "c")),
        "n": exp.Sum(this=exp.Case().when(known, sql.column("n", "c"))),
        "most": exp.Max(this=sql.column("n", "s")),
    }
    select = exp.select(*(exp.alias_(tree, name) for name, tree in asked.items()))
    select = select.from_(cells.subquery("c")).join(whose.subquery("s"), on=same, join_type="left")
    (row,) = population.query(select).to_pylist()
    if int(row["n"] or 0) < LEAST_OF_RULE or int(row["most"]) > MOST_SPANS:
        return None

    def end(name: str) -> exp.Expr:
        """An end of a span; one that is open is where the row is."""
        return exp.Coalesce(this=sql.column(name, "s"), expressions=[sql.column("day", "c")])

    begun = exp.LTE(this=end("first"), expression=sql.column("day", "c"))
    not_over = exp.GTE(this=end("last"), expression=sql.column("day", "c"))
    each = [sql.column(n, "c") for n in own]
    met = exp.select(*each, exp.alias_(exp.Max(this=sql.column("n", "c")), "n"))
    met = met.from_(cells.subquery("c"))
    met = met.join(spans.subquery("s"), on=sql.both([same, begun, not_over])).group_by(*each)
    total = exp.select(exp.alias_(exp.Sum(this=sql.column("n", "m")), "n")).from_(met.subquery("m"))
    inside = int(population.query(total).column("n")[0].as_py() or 0)
    return int(row["every"]), int(row["n"]), inside
