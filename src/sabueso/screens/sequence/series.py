"""Numbers as the engine takes them apart and puts them in order."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.last_digits import apart, has_digits, last_digits, length
from sabueso.screens.sequence.each import Periods
from sabueso.screens.sequence.occasions import Occasions

NUMBERS, BESIDE = "_numbers", "_beside"
HEAD, TAIL, NUMBER, SHORT, LONG = "head", "tail", "number", "short", "long"
MOST_FOUND = 200_000


class Odd(NamedTuple):
    """Gaps of a series, its numbers out of order, and steps from a number to one of days before."""

    gaps: int = 0
    off: int = 0
    back: int = 0


class Numbers:
    """The distinct numbers of each series, kept in the engine while they are looked at."""

    def __init__(
        self,
        population: Population,
        text: Tree,
        grouping: Grouping,
        date: Column | None,
        measure: Column | None,
        periods: Periods | Occasions | None = None,
    ) -> None:
        self._population, self._grouping, self._date = population, grouping, date
        self.periods = periods
        self.text = sql.cast(text, "TEXT")
        day: Tree = exp.null() if date is None else sql.column(date.name)
        if isinstance(periods, Periods):
            day = periods.tree.copy()
        self.reasons = [
            Reason("missing_number", sql.is_missing(self.text.copy())),
            Reason("no_digits", exp.Not(this=has_digits(self.text))),
        ]
        self._values: dict[str, Tree] = {
            **grouping.values(),
            "text": self.text.copy(),
            "size": length(self.text),
            "rest": last_digits(self.text),
            "day": sql.cast(day, "DATE"),
            UNITS: sql.integer(0) if measure is None else sql.minor_units(measure),
        }

    def _apart(self) -> exp.Select:
        """The rows with their numbers taken apart: each text is searched once."""
        head, number, tail = apart(*(sql.column(name, "r") for name in ("text", "size", "rest")))
        parts = {HEAD: head, TAIL: tail, NUMBER: number}
        own = [*self._grouping.names, "size", "day", UNITS]
        return exp.select(
            *(sql.column(name, "r") for name in own),
            *(exp.alias_(tree, name, quoted=True) for name, tree in parts.items()),
        ).from_(self._population.base(self._values, self.reasons).subquery("r"))

    @property
    def _keys(self) -> list[str]:
        return [*self._grouping.names, HEAD, TAIL]

    @contextmanager
    def ready(self, days: int) -> Iterator[None]:
        """Each number once, with its rows, days and least and most length of its text; and those that the next
        does not follow, or whose day lies outside of those beside it by more than so many days.

        Texts are not kept: of a number that stands between ``head`` and ``tail`` the length tells the zeros before
        it, and nothing else is left to tell.
        """
        names = [*self._keys, NUMBER]
        day = sql.column("day", "b")
        fields: dict[str, Tree] = {
            "n": sql.count(),
            "first_day": exp.Min(this=day),
            "last_day": exp.Max(this=day.copy()),
            SHORT: exp.Min(this=sql.column("size", "b")),
            LONG: exp.Max(this=sql.column("size", "b")),
            UNITS: sql.exact_sum(sql.column(UNITS, "b")),
        }
        select = exp.select(
            *(sql.column(name, "b") for name in names),
            *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items()),
        ).from_(self._apart().subquery("b"))
        select = select.group_by(*(sql.column(name, "b") for name in names))
        with (
            self._population.staged(NUMBERS, select),
            self._population.staged(BESIDE, self._odd_beside(days)),
        ):
            yield

    def _odd_beside(self, days: int) -> exp.Select:
        """Numbers put in order once; spellings are looked up afterwards, of those that are told."""
        inner = self._from(
            *(sql.column(name, "s") for name in [*self._keys, NUMBER, "first_day"]),
            exp.alias_(self._beside("LEAD", NUMBER), "next", quoted=True),
            exp.alias_(self._beside("LAG", "last_day"), "before", quoted=True),
            exp.alias_(self._beside("LEAD", "first_day"), "after", quoted=True),
            sql.column("last_day", "s"),
        )
        step = exp.Sub(this=sql.column("next", "g"), expression=sql.column(NUMBER, "g"))
        missing = exp.Coalesce(
            this=exp.paren(exp.Sub(this=step, expression=sql.integer(1))),
            expressions=[sql.integer(0)],
        )
        early = _days(sql.column("before", "g"), sql.column("first_day", "g"))
        late = _days(sql.column("last_day", "g"), sql.column("after", "g"))
        in_order = exp.LTE(this=sql.column("before", "g"), expression=sql.column("after", "g"))
        away = exp.Greatest(this=early, expressions=[late])
        known = exp.Coalesce(
            this=exp.Case().when(in_order, away).else_(sql.integer(0)),
            expressions=[sql.integer(0)],
        )
        back = exp.Coalesce(
            this=_days(sql.column("last_day", "g"), sql.column("after", "g")),
            expressions=[sql.integer(0)],
        )
        names = [*self._keys, NUMBER, "next", "first_day", "last_day", "before", "after"]
        select = exp.select(
            *(sql.column(name, "g") for name in names),
            exp.alias_(sql.cast(missing, "BIGINT"), "missing", quoted=True),
            exp.alias_(sql.cast(known, "BIGINT"), "away", quoted=True),
            exp.alias_(sql.cast(back, "BIGINT"), "back", quoted=True),
        ).from_(inner.subquery("g"))
        odd = exp.or_(
            exp.GT(this=sql.column("missing", "o"), expression=sql.integer(0)),
            exp.GT(this=sql.column("away", "o"), expression=sql.integer(days)),
            exp.GT(this=sql.column("back", "o"), expression=sql.integer(days)),
        )
        return exp.select("*").from_(select.subquery("o")).where(odd)

    def odd_counts(self, days: int) -> dict[tuple[Any, ...], Odd]:
        """Of each series how many gaps there are, numbers out of order, and numbers whose next is of days before."""
        gap = exp.GT(this=sql.column("missing", "o"), expression=sql.integer(0))
        off, back = (
            exp.GT(this=sql.column(name, "o"), expression=sql.integer(days))
            for name in ("away", "back")
        )
        keys = [sql.column(name, "o") for name in self._keys]
        select = exp.select(
            *keys,
            exp.alias_(sql.only(sql.count(), gap), "gaps", quoted=True),
            exp.alias_(sql.only(sql.count(), off), "off", quoted=True),
            exp.alias_(sql.only(sql.count(), back), "back", quoted=True),
        ).from_(_kept(BESIDE, "o"))
        select = select.group_by(*(key.copy() for key in keys))
        rows = self._population.query(select).to_pylist()
        return {
            self.key(row): Odd(int(row["gaps"]), int(row["off"]), int(row["back"])) for row in rows
        }

    def _from(self, *columns: Tree) -> exp.Select:
        return exp.select(*columns).from_(_kept(NUMBERS, "s"))

    def series(self) -> list[Cells]:
        """Each series: its rows, distinct numbers, the first, the last, how many are there more than once."""
        number, n = sql.column(NUMBER, "s"), sql.column("n", "s")
        several = exp.GTE(this=n.copy(), expression=sql.integer(2))
        varied = exp.LT(this=sql.column(SHORT, "s"), expression=sql.column(LONG, "s"))
        fields: dict[str, Tree] = {
            "rows": sql.cast(exp.Sum(this=n), "BIGINT"),
            "numbers": sql.count(),
            "low": exp.Min(this=number),
            "high": exp.Max(this=number.copy()),
            "repeated": sql.only(sql.count(), several),
            "varied": sql.only(sql.count(), varied),
            "shortest": exp.Min(this=sql.column(LONG, "s")),
            "span": _days(
                exp.Max(this=sql.column("last_day", "s")),
                exp.Min(this=sql.column("first_day", "s")),
            ),
        }
        keys = [sql.column(name, "s") for name in self._keys]
        select = self._from(
            *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
        ).group_by(*(key.copy() for key in keys))
        rows = sql.ordered(sql.column("rows"), descending=True)
        ordered = exp.select("*").from_(select.subquery("t"))
        ordered = ordered.order_by(rows, *(sql.ordered(sql.column(name)) for name in self._keys))
        return self._population.query(ordered).to_pylist()

    def gaps(self, of: Sequence[Cells]) -> list[Cells]:
        """Numbers of some series that the next one does not follow, the longest gap first."""
        names = [*self._keys, NUMBER, "next", "missing", "last_day", "after"]
        some = exp.GT(this=sql.column("missing", "o"), expression=sql.integer(0))
        select = exp.select(*(sql.column(name, "o") for name in names)).from_(_kept(BESIDE, "o"))
        texts = {"one": NUMBER, "next_text": "next"}
        return self._spelled(select.where(some), "missing", texts, names, of)

    def repeats(self, of: Sequence[Cells]) -> list[Cells]:
        """Numbers of some series that more than one row has, those of most rows first."""
        if not of:
            return []
        names = [*self._keys, NUMBER, SHORT, LONG, "n", UNITS, "first_day", "last_day"]
        select = self._from(*(sql.column(name, "s") for name in names))
        several = exp.GTE(this=sql.column("n", "s"), expression=sql.integer(2))
        order = [sql.ordered(sql.column("n"), descending=True)]
        order += [sql.ordered(sql.column(name)) for name in (NUMBER, *self._keys)]
        own = self._joined(select.where(several), "s")
        every = exp.select("*").from_(own.subquery("t")).order_by(*order)
        rows = self._population.query(every.limit(MOST_FOUND), wanted=self._wanted(of)).to_pylist()
        for row in rows:
            row["one"], row["other"] = self.spellings(row, row[NUMBER], row[SHORT], row[LONG])
        return rows

    def out_of_order(self, days: int, ordered: Sequence[Cells]) -> list[Cells]:
        """Numbers of some series whose day lies outside of those of the numbers before and after them, which
        are in order, by more than so many days."""
        names = [*self._keys, NUMBER, "first_day", "before", "after", "away"]
        off = exp.GT(this=sql.column("away", "o"), expression=sql.integer(days))
        select = exp.select(*(sql.column(name, "o") for name in names)).from_(_kept(BESIDE, "o"))
        return self._spelled(select.where(off), "away", {"one": NUMBER}, names, ordered)

    def _wanted(self, of: Sequence[Cells]) -> pa.Table:
        return pa.Table.from_pylist([{name: row[name] for name in self._keys} for row in of])

    def _joined(self, select: exp.Select, alias: str) -> exp.Select:
        """Numbers of the series that are wanted alone: those of others would take their places."""
        same = [sql.same(sql.column(n, alias), sql.column(n, "w")) for n in self._keys]
        wanted = exp.alias_(exp.Table(this=exp.to_identifier("wanted")), "w")
        return select.join(wanted, on=sql.both(same))

    def _spelled(
        self, select: exp.Select, by: str, texts: Mapping[str, str], names: Sequence[str], of: Sequence[Cells],
    ) -> list[Cells]:  # fmt: skip
        """The first of some numbers of the series ``of``, with the spelling of one, or of the one after it."""
        if not of:
            return []
        select = self._joined(select, "o")
        order = [sql.ordered(sql.column(by), descending=True)]
        order += [sql.ordered(sql.column(name)) for name in (*self._keys, NUMBER)]
        first = exp.select("*").from_(select.subquery("t")).order_by(*order).limit(MOST_FOUND)
        found = exp.select(*(sql.column(name, "f") for name in names)).from_(first.subquery("f"))
        for place, (name, number) in enumerate(texts.items()):
            alias = f"n{place}"
            same = [sql.same(sql.column(k, "f"), sql.column(k, alias)) for k in self._keys]
            same.append(exp.EQ(this=sql.column(number, "f"), expression=sql.column(NUMBER, alias)))
            found = found.join(_kept(NUMBERS, alias), on=sql.both(same))
            for size in (SHORT, LONG):
                found = found.select(exp.alias_(sql.column(size, alias), name + size, quoted=True))
        every = exp.select("*").from_(found.subquery("e"))
        rows = self._population.query(
            every.order_by(*(o.copy() for o in order)), wanted=self._wanted(of)
        ).to_pylist()
        for row in rows:
            for name, number in texts.items():
                sizes = row[name + SHORT], row[name + LONG]
                row[name], _ = self.spellings(row, row[number], *sizes)
        return rows

    def forms(self, series: Sequence[Cells]) -> list[Cells]:
        """How numbers of each group are written, a 9 for each digit, the commonest first.

        Parameters
        ----------
        series : sequence of mappings
            What :meth:`series` found.
        """
        if any(row["varied"] for row in series):
            return self._forms_of(self.reasons[:1])
        found = self._forms_of_series()
        rows = self._population.account(None, self.reasons[:1]).used
        if rows > sum(int(row["rows"]) for row in series):
            digits = Reason("digits", exp.Not(this=self.reasons[1].condition.copy()))
            found += self._forms_of([self.reasons[0], digits])
        found.sort(key=lambda row: (-int(row["n"]), row["form"], row["one"]))
        return found[:MOST_FOUND]

    def _forms_of(self, reasons: Sequence[Reason]) -> list[Cells]:
        """The forms of texts, each looked at."""
        values = {**self._grouping.values(), "text": self.text.copy()}
        text = sql.column("text", "b")
        return self._by_form(self._population.base(values, reasons), text, text, sql.count())

    def _forms_of_series(self) -> list[Cells]:
        """The same where each number has one spelling: between one head and one tail those of one length are
        written alike, and in their order."""
        keys = [sql.column(name, "s") for name in (*self._keys, LONG)]
        ends = {"low": exp.Min, "high": exp.Max}
        alike = self._from(
            *keys,
            exp.alias_(exp.Sum(this=sql.column("n", "s")), "n", quoted=True),
            *(exp.alias_(f(this=sql.column(NUMBER, "s")), n, quoted=True) for n, f in ends.items()),
        ).group_by(*(key.copy() for key in keys))
        head, tail = sql.column(HEAD, "b"), sql.column(TAIL, "b")
        around = exp.Add(this=length(head), expression=length(tail))
        width = exp.Sub(this=sql.column(LONG, "b"), expression=exp.paren(around))

        def written(name: str) -> Tree:
            number = sql.cast(sql.column(name, "b"), "TEXT")
            padded = sql.call("LPAD", number, sql.cast(width.copy(), "INTEGER"), sql.text("0"))
            before = exp.DPipe(this=head.copy(), expression=padded)
            return exp.DPipe(this=before, expression=tail.copy())

        n = sql.cast(exp.Sum(this=sql.column("n", "b")), "BIGINT")
        return self._by_form(alike, written("low"), written("high"), n)

    def _by_form(self, base: exp.Select, first: Tree, last: Tree, n: Tree) -> list[Cells]:
        """Forms of a base of texts, with the first and the last text of each."""
        form = exp.RegexpReplace(
            this=first.copy(),
            expression=sql.text("[0-9]"),
            replacement=sql.text("9"),
            modifiers=sql.text("g"),
        )
        keys = self._grouping.columns("b")
        select = exp.select(
            *keys,
            exp.alias_(form, "form", quoted=True),
            exp.alias_(n, "n", quoted=True),
            exp.alias_(exp.Min(this=first.copy()), "one", quoted=True),
            exp.alias_(exp.Max(this=last.copy()), "other", quoted=True),
        ).from_(base.subquery("b"))
        select = select.group_by(*(key.copy() for key in keys), form.copy())
        every = exp.select("*").from_(select.subquery("t"))
        order = [sql.ordered(sql.column("n"), descending=True)]
        order += [sql.ordered(sql.column(name)) for name in ("form", "one")]
        return self._population.query(every.order_by(*order).limit(MOST_FOUND)).to_pylist()

    def key(self, row: Cells) -> tuple[Any, ...]:
        """What tells a series."""
        return tuple(row[name] for name in self._keys)

    def group(self, row: Cells) -> dict[str, Any]:
        """The group of a row, by the labels of its columns."""
        pairs = zip(self._grouping.labels, self._grouping.names, strict=True)
        return {label: row[name] for label, name in pairs}

    def spellings(self, row: Cells, number: int, short: int, long: int) -> tuple[str, str]:
        """The first and the last text of a number; of a month or an occasion its name."""
        if self.periods is not None:
            return self.periods.named(number), self.periods.named(number)
        return spellings(row, number, short, long)

    def _beside(self, which: str, name: str) -> exp.Window:
        """A value of the number before or after, in the same series."""
        return exp.Window(
            this=sql.call(which, sql.column(name, "s")),
            partition_by=[sql.column(key, "s") for key in self._keys],
            order=exp.Order(expressions=[sql.ordered(sql.column(NUMBER, "s"))]),
        )


def _kept(name: str, alias: str) -> exp.Expr:
    return exp.alias_(exp.Table(this=exp.to_identifier(name, quoted=True)), alias)


def spellings(series: Mapping[str, Any], number: int, short: int, long: int) -> tuple[str, str]:
    """The first and the last text of a number, in their order: its shortest and its longest are.

    Examples
    --------
    >>> spellings({"head": "F", "tail": "/24"}, 7, 6, 7)
    ('F007/24', 'F07/24')
    """
    head, tail = series[HEAD], series[TAIL]
    around = len(head) + len(tail)
    one, other = sorted(f"{head}{number:0{size - around}d}{tail}" for size in (short, long))
    return one, other


def _days(earlier: Tree, later: Tree) -> Tree:
    """Days from a later date back to an earlier one: positive where they are the wrong way round."""
    return exp.DateDiff(this=earlier, expression=later, unit=exp.var("DAY"))
