"""Numbers as the engine takes them apart and puts them in order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping

NUMBERS = "_numbers"
PARTS = "^(.*?)([0-9]{1,18})([^0-9]*)$"
"""What stands before the last digits of a text, these, and what stands after them."""
HEAD, TAIL, NUMBER = "head", "tail", "number"
MOST_FOUND = 200_000
DIGITS, AS = "0123456789", "9" * 10


class Numbers:
    """The distinct numbers of each series, kept in the engine while they are looked at."""

    def __init__(
        self,
        population: Population,
        text: Tree,
        grouping: Grouping,
        date: Column | None,
        measure: Column | None,
    ) -> None:
        self._population, self._grouping, self._date = population, grouping, date
        self.text = sql.cast(text, "TEXT")
        self.reasons = [
            Reason("missing_number", sql.is_missing(self.text.copy())),
            Reason("no_digits", exp.EQ(this=self._part(2), expression=sql.text(""))),
        ]
        self._values: dict[str, Tree] = {
            **grouping.values(),
            HEAD: self._part(1),
            TAIL: self._part(3),
            NUMBER: sql.cast(exp.Nullif(this=self._part(2), expression=sql.text("")), "BIGINT"),
            "text": self.text.copy(),
            "day": exp.null() if date is None else sql.cast(sql.column(date.name), "DATE"),
            UNITS: sql.integer(0) if measure is None else sql.minor_units(measure),
        }

    def _part(self, which: int) -> Tree:
        return exp.RegexpExtract(
            this=self.text.copy(), expression=sql.text(PARTS), group=sql.integer(which)
        )

    @property
    def _keys(self) -> list[str]:
        return [*self._grouping.names, HEAD, TAIL]

    @contextmanager
    def ready(self) -> Iterator[None]:
        """Each number once, with its rows, days and first and last spelling."""
        names = [*self._keys, NUMBER]
        day = sql.column("day", "b")
        fields: dict[str, Tree] = {
            "n": sql.count(),
            "first_day": exp.Min(this=day),
            "last_day": exp.Max(this=day.copy()),
            "one": exp.Min(this=sql.column("text", "b")),
            "other": exp.Max(this=sql.column("text", "b")),
            UNITS: sql.exact_sum(sql.column(UNITS, "b")),
        }
        select = exp.select(
            *(sql.column(name, "b") for name in names),
            *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items()),
        ).from_(self._population.base(self._values, self.reasons).subquery("b"))
        select = select.group_by(*(sql.column(name, "b") for name in names))
        with self._population.staged(NUMBERS, select):
            yield

    def _from(self, *columns: Tree) -> exp.Select:
        kept = exp.Table(this=exp.to_identifier(NUMBERS, quoted=True))
        return exp.select(*columns).from_(exp.alias_(kept, "s"))

    def series(self) -> list[Cells]:
        """Each series: its rows, distinct numbers, the first, the last, how many are there more than once."""
        number, n = sql.column(NUMBER, "s"), sql.column("n", "s")
        several = exp.GTE(this=n.copy(), expression=sql.integer(2))
        fields: dict[str, Tree] = {
            "rows": sql.cast(exp.Sum(this=n), "BIGINT"),
            "numbers": sql.count(),
            "low": exp.Min(this=number),
            "high": exp.Max(this=number.copy()),
            "repeated": sql.only(sql.count(), several),
            "shortest": exp.Min(this=sql.call("LENGTH", sql.column("one", "s"))),
        }
        keys = [sql.column(name, "s") for name in self._keys]
        select = self._from(
            *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
        ).group_by(*(key.copy() for key in keys))
        rows = sql.ordered(sql.column("rows"), descending=True)
        ordered = exp.select("*").from_(select.subquery("t"))
        ordered = ordered.order_by(rows, *(sql.ordered(sql.column(name)) for name in self._keys))
        return self._population.query(ordered).to_pylist()

    def gaps(self) -> list[Cells]:
        """Numbers that the next one of their series does not follow, the longest gap first."""
        after = self._beside("LEAD", NUMBER)
        spelled = self._beside("LEAD", "one")
        inner = self._from(
            *(sql.column(name, "s") for name in [*self._keys, NUMBER, "one"]),
            exp.alias_(after, "next", quoted=True),
            exp.alias_(spelled, "next_text", quoted=True),
        )
        step = exp.Sub(this=sql.column("next", "g"), expression=sql.column(NUMBER, "g"))
        missing = exp.Sub(this=step, expression=sql.integer(1))
        select = exp.select(
            *(sql.column(name, "g") for name in [*self._keys, NUMBER, "one", "next", "next_text"]),
            exp.alias_(missing, "missing", quoted=True),
        ).from_(inner.subquery("g"))
        some = exp.GT(this=missing.copy(), expression=sql.integer(0))
        return self._most(select.where(some), "missing")

    def repeats(self) -> list[Cells]:
        """Numbers of more than one row, those of most rows first."""
        names = [*self._keys, NUMBER, "one", "other", "n", UNITS, "first_day", "last_day"]
        select = self._from(*(sql.column(name, "s") for name in names))
        several = exp.GTE(this=sql.column("n", "s"), expression=sql.integer(2))
        return self._most(select.where(several), "n")

    def out_of_order(self, days: int) -> list[Cells]:
        """Numbers whose day lies outside of those of the numbers before and after them, which are in order,
        by more than so many days."""
        inner = self._from(
            *(
                sql.column(name, "s")
                for name in [*self._keys, NUMBER, "one", "first_day", "last_day"]
            ),
            exp.alias_(self._beside("LAG", "last_day"), "before", quoted=True),
            exp.alias_(self._beside("LEAD", "first_day"), "after", quoted=True),
        )
        early = _days(sql.column("before", "g"), sql.column("first_day", "g"))
        late = _days(sql.column("last_day", "g"), sql.column("after", "g"))
        limit = sql.integer(days)
        in_order = exp.LTE(this=sql.column("before", "g"), expression=sql.column("after", "g"))
        off = exp.paren(
            exp.or_(
                exp.GT(this=early, expression=limit), exp.GT(this=late, expression=limit.copy())
            )
        )
        away = exp.Greatest(this=early.copy(), expressions=[late.copy()])
        select = exp.select(
            *(
                sql.column(name, "g")
                for name in [*self._keys, NUMBER, "one", "first_day", "before", "after"]
            ),
            exp.alias_(away, "away", quoted=True),
        ).from_(inner.subquery("g"))
        return self._most(select.where(exp.and_(in_order, off)), "away")

    def forms(self) -> list[Cells]:
        """How numbers of each group are written, a 9 for each digit, the commonest
        first."""
        form = sql.call("TRANSLATE", self.text.copy(), sql.text(DIGITS), sql.text(AS))
        values = {**self._grouping.values(), "form": form, "text": self.text.copy()}
        base = self._population.base(values, self.reasons[:1])
        keys = [*self._grouping.columns("b"), sql.column("form", "b")]
        select = (
            exp.select(
                *keys,
                exp.alias_(sql.count(), "n", quoted=True),
                exp.alias_(exp.Min(this=sql.column("text", "b")), "one", quoted=True),
                exp.alias_(exp.Max(this=sql.column("text", "b")), "other", quoted=True),
            )
            .from_(base.subquery("b"))
            .group_by(*(key.copy() for key in keys))
        )
        return self._most(select, "n")

    def key(self, row: Cells) -> tuple[Any, ...]:
        """What tells a series."""
        return tuple(row[name] for name in self._keys)

    def group(self, row: Cells) -> dict[str, Any]:
        """The group of a row, by the labels of its columns."""
        pairs = zip(self._grouping.labels, self._grouping.names, strict=True)
        return {label: row[name] for label, name in pairs}

    def _beside(self, which: str, name: str) -> exp.Window:
        """A value of the number before or after, in the same series."""
        return exp.Window(
            this=sql.call(which, sql.column(name, "s")),
            partition_by=[sql.column(key, "s") for key in self._keys],
            order=exp.Order(expressions=[sql.ordered(sql.column(NUMBER, "s"))]),
        )

    def _most(self, select: exp.Select, by: str) -> list[Cells]:
        every = exp.select("*").from_(select.subquery("t"))
        order = [sql.ordered(sql.column(by), descending=True)]
        order += [sql.ordered(sql.column(name)) for name in _tie_columns(select)]
        return self._population.query(every.order_by(*order).limit(MOST_FOUND)).to_pylist()


def _tie_columns(select: exp.Select) -> Sequence[str]:
    return [name for name in select.named_selects if name in ("one", NUMBER, "form")]


def _days(earlier: Tree, later: Tree) -> Tree:
    """Days from a later date back to an earlier one: positive where they are the wrong way round."""
    return exp.DateDiff(this=earlier, expression=later, unit=exp.var("DAY"))
