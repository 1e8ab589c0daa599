"""Payees whose papers bear numbers that follow one another: whoever sends them sends them to nobody else."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import Grouping, group_table
from sabueso.screens.last_digits import apart, has_digits, last_digits, length

LEAST = 6
"""Rows of a payee whose numbers have one beginning, such as a year, from which it is asked whether these follow one another."""
FOLLOWING = 0.9
"""Share of the numbers from a payee's first to its last that it must have."""
MOST_USUAL = 0.1
"""Share of the payees with as many numbers up to which their following one another is a reason."""
OF_THE_HOUSE, LEAST_PAYEES = 0.5, 3
"""Share of the numbers of one beginning, from its first to its last, that so many payees have together where they are
given here and not by the payees."""
IN_PERIOD = 0.9
"""Share of rows whose number ends as their month, or their day, does: such numbers say when and not how many."""
HEAD, NUMBER, WANTED = "head", "number", "wanted"
Key = tuple[Any, ...]
"""What tells a payee: its values of the columns that payees are told by."""


@dataclass(frozen=True)
class OwnSeries:
    """Numbers of a payee that follow one another: the first and the last as they are written, how many there are, and
    how many there are from the first to the last."""

    first: str
    last: str
    numbers: int
    span: int


@dataclass(frozen=True)
class Numbered:
    """How many payees have rows enough to ask, and those whose numbers follow one another by their keys."""

    asked: int
    own: dict[Key, OwnSeries]

    @property
    def usual(self) -> bool:
        """Whether so many payees have numbers of their own in a row that it is no reason to look at one."""
        return len(self.own) > max(1, MOST_USUAL * self.asked)


def numbered(
    population: Population,
    grouping: Grouping,
    document: Column,
    when: Column,
    reasons: Sequence[Reason],
) -> Numbered:
    """Whose papers are numbered one after another, by the last digits of their numbers and what stands before them.

    Rows are counted first, and numbers only of payees who may have them in a row: those are few.
    """
    looked = _Looked(population, grouping, document, when, reasons)
    by_payee = looked.beginnings()
    close = {key: rows for key, rows in by_payee.items() if _is_close(rows, "rows")}
    if not close:
        return Numbered(len(by_payee), {})
    payees = Counter(row[HEAD] for rows in by_payee.values() for row in rows)
    shared = {
        head for rows in close.values() for row in rows if payees[head := row[HEAD]] >= LEAST_PAYEES
    }
    here = looked.given_here(shared)
    counted: dict[Key, list[Cells]] = {}
    for row in looked.counted(close):
        if row[HEAD] not in here:
            counted.setdefault(looked.key(row), []).append(row)
    own = {key: _series(rows) for key, rows in counted.items() if _is_following(rows)}
    return Numbered(len(by_payee), own)


class _Looked:
    """Rows with their numbers taken apart."""

    def __init__(
        self, population: Population, grouping: Grouping, document: Column, when: Column, reasons: Sequence[Reason],
    ) -> None:  # fmt: skip
        self._population, self._grouping = population, grouping
        text = sql.cast(sql.column(document.name), "TEXT")
        values: dict[str, Tree] = {
            **grouping.values(),
            "text": text,
            "size": length(text),
            "rest": last_digits(text),
            "day": sql.cast(sql.column(when.name), "DATE"),
        }
        without = [
            Reason("missing_number", sql.is_missing(text.copy())),
            Reason("no_digits", exp.Not(this=has_digits(text))),
        ]
        self._base = population.base(values, [*reasons, *without])

    def key(self, row: Cells) -> Key:
        return tuple(row[name] for name in self._grouping.names)

    def _rows(self, alias: str = "s") -> exp.Expr:
        head, number, tail = apart(*(sql.column(name, "r") for name in ("text", "size", "rest")))
        width = exp.Sub(this=length(sql.column("rest", "r")), expression=length(tail))
        own = [*self._grouping.columns("r"), sql.column("day", "r")]
        parts = _named({HEAD: head, NUMBER: number, "width": width})
        return exp.select(*own, *parts).from_(self._base.copy().subquery("r")).subquery(alias)

    def beginnings(self) -> dict[Key, list[Cells]]:
        """Of each payee the beginnings that rows enough have, with the least and the greatest number."""
        keys = [*self._grouping.columns("s"), sql.column(HEAD, "s")]
        fields = {"rows": sql.count(), **_ends("s")}
        select = exp.select(*keys, *_named(fields)).from_(self._rows())
        every = exp.select("*").from_(select.group_by(*(key.copy() for key in keys)).subquery("t"))
        enough = exp.GTE(this=sql.column("rows", "t"), expression=sql.integer(LEAST))
        found: dict[Key, list[Cells]] = {}
        for row in self._population.query(every.where(enough)).to_pylist():
            found.setdefault(self.key(row), []).append(row)
        return found

    def counted(self, payees: Collection[Key]) -> list[Cells]:
        """The same of some payees, with how many numbers there are, the digits of the shortest, and how many rows
        have one that ends as their month or day does."""
        number, day = sql.column(NUMBER, "s"), sql.column("day", "s")
        last_two = exp.Mod(this=number.copy(), expression=sql.integer(100))
        parts = [
            exp.Extract(this=exp.var(part), expression=day.copy()) for part in ("MONTH", "DAY")
        ]
        fields: dict[str, Tree] = {
            "rows": sql.count(),
            "numbers": exp.Count(this=exp.Distinct(expressions=[number])),
            **_ends("s"),
            "width": exp.Min(this=sql.column("width", "s")),
            "in_period": sql.only(sql.count(), exp.In(this=exp.paren(last_two), expressions=parts)),
        }
        keys = [*self._grouping.columns("s"), sql.column(HEAD, "s")]
        select = exp.select(*keys, *_named(fields)).from_(self._rows())
        select = select.join(WANTED, on=self._grouping.join("s", WANTED), join_type="inner")
        labels = self._grouping.labels
        wanted = pa.table(
            group_table(self._grouping, [dict(zip(labels, key, strict=True)) for key in payees])
        )
        every = exp.select("*").from_(select.group_by(*(key.copy() for key in keys)).subquery("t"))
        enough = exp.GTE(this=sql.column("rows", "t"), expression=sql.integer(LEAST))
        return self._population.query(every.where(enough), **{WANTED: wanted}).to_pylist()

    def given_here(self, heads: Collection[str]) -> set[str]:
        """Those of some beginnings whose numbers follow one another across payees: the house gives them."""
        if not heads:
            return set()
        head = sql.column(HEAD, "s")
        among = exp.In(this=head, expressions=[sql.text(each) for each in sorted(heads)])
        each = exp.select(head.copy(), sql.column(NUMBER, "s")).from_(self._rows()).where(among)
        fields = {"numbers": sql.count(), **_ends("d")}
        select = exp.select(sql.column(HEAD, "d"), *_named(fields))
        select = select.from_(each.distinct().subquery("d")).group_by(sql.column(HEAD, "d"))
        rows = self._population.query(select).to_pylist()
        return {row[HEAD] for row in rows if row["numbers"] >= OF_THE_HOUSE * _span([row])}


def _named(fields: Mapping[str, Tree]) -> list[exp.Expr]:
    return [exp.alias_(tree, name, quoted=True) for name, tree in fields.items()]


def _ends(table: str) -> dict[str, Tree]:
    number = sql.column(NUMBER, table)
    return {"low": exp.Min(this=number), "high": exp.Max(this=number.copy())}


def _is_close(rows: Sequence[Cells], count: str) -> bool:
    """Whether so many numbers as are counted would be nearly all from the first to the last."""
    return sum(int(row[count]) for row in rows) >= FOLLOWING * _span(rows)


def _is_following(rows: Sequence[Cells]) -> bool:
    """Whether a payee's numbers follow one another, and say nothing of the month or day they are of."""
    timed = sum(int(row["in_period"]) for row in rows)
    enough = sum(int(row["numbers"]) for row in rows) >= LEAST
    in_period = timed >= IN_PERIOD * sum(int(row["rows"]) for row in rows)
    return enough and _is_close(rows, "numbers") and not in_period


def _series(rows: Sequence[Cells]) -> OwnSeries:
    low, high = (side(rows, key=lambda row: (row[HEAD], row["low"])) for side in (min, max))
    return OwnSeries(
        _written(low, "low"),
        _written(high, "high"),
        sum(int(row["numbers"]) for row in rows),
        _span(rows),
    )


def _span(rows: Sequence[Cells]) -> int:
    """How many numbers there are from the first to the last of each beginning."""
    return sum(int(row["high"]) - int(row["low"]) + 1 for row in rows)


def _written(row: Cells, side: str) -> str:
    """A number with what stands before it, and the zeros that the shortest has."""
    return f"{row[HEAD]}{str(row[side]).zfill(int(row['width']))}"
