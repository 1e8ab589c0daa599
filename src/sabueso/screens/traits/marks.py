"""Traits as conditions on rows, of the roles and settings that a table has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from typing import Any, Protocol

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.calendar import Span
from sabueso.population.moments import days_between
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.traits.copies import MOST_TEXTS, of_several, seldom_texts
from sabueso.screens.traits.habits import (
    counts,
    odd_times,
    rare_values,
    seldom_people,
    strange_pairs,
)

TRAITS = (
    "odd_hour", "rest_day", "holiday", "round_amount", "seldom_account", "strange_account", "seldom_preparer",
    "rare_pair", "late", "no_text", "copied_text", "word", "under_limit", "same_person", "turned_back",
)  # fmt: skip
WORDS = {
    "odd_hour": "at an odd hour",
    "rest_day": "on a day of rest",
    "holiday": "on a holiday",
    "round_amount": "a round amount",
    "seldom_account": "a seldom used account",
    "strange_account": "an account the preparer hardly ever posts to",
    "seldom_preparer": "by one who seldom prepares entries",
    "rare_pair": "a rare pair of accounts",
    "late": "entered long after its date",
    "no_text": "no text",
    "copied_text": "the words of another's entry",
    "word": "a word of the list",
    "under_limit": "just under the limit",
    "same_person": "prepared and approved by one",
    "turned_back": "taken back after the period's end",
}
JUST_UNDER = Decimal("0.95")
MOST_MATCHES = 500_000
TIMES = (pa.string(), pa.int32())
"""Who records, and the hour or the weekday as a number: faster to count by than its text."""


class Asked(Protocol):
    """Settings that say what is looked for."""

    @property
    def leave_out(self) -> list[str]: ...
    @property
    def rare(self) -> float: ...
    @property
    def late(self) -> int: ...
    @property
    def words(self) -> list[str]: ...
    @property
    def holidays(self) -> list[str]: ...
    @property
    def limit(self) -> str | None: ...
    @property
    def back_within(self) -> int: ...
    @property
    def period(self) -> str: ...


@dataclass
class Marks:
    """Conditions by trait, the tables that they look into, and what cannot be told."""

    population: Population
    settings: Asked
    reasons: list[Reason]
    preparer: Column | None = None
    conditions: dict[str, Tree] = field(default_factory=dict)
    inputs: dict[str, pa.Table] = field(default_factory=dict)
    cannot: dict[str, str] = field(default_factory=dict)

    def make(self) -> None:
        """Put together every trait that the table can tell."""
        table = self.population.table
        roles = {r: table.role(r) for r in ("approver", "account", "text", "amount", "entered")} | {
            "preparer": self.preparer
        }
        self._times(roles["preparer"], roles["entered"])
        self._accounts(roles["account"], roles["preparer"])
        self._people(roles["preparer"])
        self._own(roles)
        self._copied(roles["text"], roles["account"], roles["amount"])
        self._turned_back(roles["account"], roles["amount"])
        for name in self.settings.leave_out:
            self.conditions.pop(name, None)
            self.cannot.pop(name, None)

    def _wants(self, name: str) -> bool:
        return name not in self.settings.leave_out

    def _times(self, preparer: Column | None, entered: Column | None) -> None:
        table, rare = self.population.table, self.settings.rare * 10
        date_ = table.dated()
        timed = next(
            (c for c in (date_, entered) if c is not None and c.type in ("timestamp", "time")), None
        )
        who: Tree = (
            sql.text("") if preparer is None else sql.cast(sql.column(preparer.name), "TEXT")
        )
        if timed is None:
            self.cannot["odd_hour"] = "no time of day"
        elif self._wants("odd_hour"):
            hour = sql.hour_number(sql.column(timed.name))
            odd = odd_times(counts(self.population, {"who": who, "at": hour}, self.reasons), rare)
            self._among("odd_hour", (who, hour), odd, TIMES)
        if date_ is None:
            self.cannot |= {"rest_day": "no date", "holiday": "no date"}
            return
        if self._wants("rest_day"):
            day = sql.cast(sql.period_code(sql.column(date_.name), "weekday"), "INTEGER")
            odd = odd_times(counts(self.population, {"who": who, "at": day}, self.reasons), rare)
            self._among("rest_day", (who, day), odd, TIMES)
        if self.settings.holidays:
            days = [sql.cast(sql.text(each), "DATE") for each in self.settings.holidays]
            self.conditions["holiday"] = exp.In(
                this=sql.cast(sql.column(date_.name), "DATE"), expressions=days
            )
        else:
            self.cannot["holiday"] = "no holidays are given"

    def _accounts(self, account: Column | None, preparer: Column | None) -> None:
        if account is None:
            self.cannot |= dict.fromkeys(
                ("seldom_account", "strange_account", "rare_pair"), "no account"
            )
            return
        name = sql.cast(sql.column(account.name), "TEXT")
        seen = counts(self.population, {"at": name}, self.reasons)
        rare = rare_values(seen, self.settings.rare)
        self._among("seldom_account", (name,), {(value,) for value in rare})
        if preparer is None:
            self.cannot["strange_account"] = "no preparer"
            return
        who = sql.cast(sql.column(preparer.name), "TEXT")
        both = counts(self.population, {"who": who, "at": name}, self.reasons)
        self._among("strange_account", (who, name), strange_pairs(both, self.settings.rare, rare))

    def _people(self, preparer: Column | None) -> None:
        if preparer is None:
            self.cannot["seldom_preparer"] = "no preparer"
        elif self._wants("seldom_preparer"):
            who = sql.cast(sql.column(preparer.name), "TEXT")
            seen = counts(self.population, {"who": who}, self.reasons)
            seldom = seldom_people(seen, self.settings.rare * 10)
            self._among("seldom_preparer", (who,), {(value,) for value in seldom})

    def _own(self, roles: dict[str, Column | None]) -> None:
        """Traits that a row shows by itself."""
        table, s = self.population.table, self.settings
        amount, text = roles["amount"], roles["text"]
        if amount is None:
            self.cannot |= {"round_amount": "no amount", "under_limit": "no amount"}
        else:
            self.conditions["round_amount"] = _round(amount)
            if s.limit is None:
                self.cannot["under_limit"] = "no limit is given"
            else:
                size = exp.Abs(this=sql.column(amount.name))
                limit = exp.paren(expressions.scalar(s.limit, table, "--limit"))
                low = exp.Mul(this=limit.copy(), expression=sql.number(JUST_UNDER))
                self.conditions["under_limit"] = exp.and_(
                    exp.GTE(this=size, expression=low), exp.LT(this=size.copy(), expression=limit)
                )
        date_, entered = table.dated(), roles["entered"]
        if date_ is None or entered is None or entered.type not in ("date", "timestamp"):
            self.cannot["late"] = "no date of entry beside the date"
        else:
            away = days_between(sql.column(entered.name), sql.column(date_.name))
            self.conditions["late"] = exp.GT(this=away, expression=sql.integer(s.late))
        if text is None:
            self.cannot |= {"no_text": "no text", "word": "no text"}
        else:
            value = sql.cast(sql.column(text.name), "TEXT")
            empty = exp.EQ(this=exp.Trim(this=value), expression=sql.text(""))
            self.conditions["no_text"] = exp.or_(sql.is_missing(sql.column(text.name)), empty)
            if s.words:
                quoted = ", ".join(expressions.literal(word) for word in s.words)
                called = f"word_in({expressions.quoted_name(text.name)}, {quoted})"
                self.conditions["word"] = expressions.scalar(called, table, "--words")
            else:
                self.cannot["word"] = "no words are given"
        preparer, approver = roles["preparer"], roles["approver"]
        if preparer is None or approver is None:
            self.cannot["same_person"] = "no preparer, or no approver"
        else:
            self.conditions["same_person"] = exp.EQ(
                this=sql.column(preparer.name), expression=sql.column(approver.name)
            )

    def _copied(self, text: Column | None, account: Column | None, amount: Column | None) -> None:
        """Texts that two or three entries have, each of another party, or of another account where there are no
        parties."""
        table = self.population.table
        whose = table.role("party") or account
        if text is None or whose is None:
            self.cannot["copied_text"] = "no text" if text is None else "no party and no account"
            return
        if not self._wants("copied_text"):
            return
        texts = seldom_texts(self.population, self.reasons, text)
        if texts.num_rows > MOST_TEXTS:
            self.cannot["copied_text"] = "more than half a million texts stand a few times"
            return
        debit = amount if whose is account else None
        found = of_several(self.population, self.reasons, (text, whose, debit), texts)
        self._among("copied_text", (sql.cast(sql.column(text.name), "TEXT"),), found)

    def _turned_back(self, account: Column | None, amount: Column | None) -> None:
        """Amounts of an account that an equal opposite one follows within days, across the end of a period."""
        date_ = self.population.table.dated()
        if account is None or amount is None or date_ is None:
            self.cannot["turned_back"] = "no account, no amount or no date"
            return
        if not self._wants("turned_back"):
            return
        closes = self._closes()
        if not closes:
            self.cannot["turned_back"] = f"the rows lie within one {self.settings.period}"
            return
        found = self._matched(account, amount, date_, closes)
        if found is None:
            self.cannot["turned_back"] = "more than half a million amounts have an opposite one"
            return
        name = sql.cast(sql.column(account.name), "TEXT")
        day = sql.cast(sql.cast(sql.column(date_.name), "DATE"), "TEXT")
        units = sql.cast(sql.minor_units(amount), "TEXT")
        self._among("turned_back", (name, day, units), found)

    def _closes(self) -> list[date]:
        """The first day of each period but the first."""
        account = self.population.account(None)
        if account.first_date is None or account.last_date is None:
            return []
        first, last = (date.fromisoformat(d[:10]) for d in (account.first_date, account.last_date))
        start = self.population.table.fiscal_year_starts
        found, span = [], Span.latest(self.settings.period, first, start)
        while span.end <= last:
            found.append(span.end)
            span = Span.latest(self.settings.period, span.end, start)
        return found

    def _matched(
        self, account: Column, amount: Column, date_: Column, closes: Sequence[date]
    ) -> set[tuple[Any, ...]] | None:
        """Account, day and amount of what is taken back, and of what takes it back; None where they are too many."""
        within = timedelta(days=self.settings.back_within)
        day = sql.cast(sql.column(date_.name), "DATE")
        values: dict[str, Tree] = {
            "at": sql.cast(sql.column(account.name), "TEXT"), "day": day, "units": sql.minor_units(amount),
        }  # fmt: skip
        near = exp.or_(*(_between(day, close - within, close + within) for close in closes))
        reasons = [*self.reasons, Reason("far", exp.Not(this=exp.paren(near)))]
        base = self.population.base(values, reasons)
        before, after = base.subquery("x"), base.copy().subquery("y")
        side = exp.or_(
            *(
                exp.and_(
                    exp.LT(this=sql.column("day", "x"), expression=_day(close)),
                    exp.GTE(this=sql.column("day", "y"), expression=_day(close)),
                )
                for close in closes
            )
        )
        apart = exp.DateDiff(
            this=sql.column("day", "y"), expression=sql.column("day", "x"), unit=exp.var("DAY")
        )
        opposite = exp.EQ(
            this=sql.column("units", "x"), expression=exp.Neg(this=sql.column("units", "y"))
        )
        on = exp.and_(
            exp.EQ(this=sql.column("at", "x"), expression=sql.column("at", "y")),
            opposite,
            exp.NEQ(this=sql.column("units", "x"), expression=sql.integer(0)),
            exp.paren(side),
            exp.LTE(this=apart, expression=sql.integer(self.settings.back_within)),
        )
        columns = [
            exp.alias_(sql.column(name, side_), f"{name}_{side_}", quoted=True)
            for side_ in ("x", "y")
            for name in ("at", "day", "units")
        ]
        select = exp.select(*columns).from_(before).join(after, on=on, join_type="inner").distinct()
        rows = self.population.query(select.limit(MOST_MATCHES + 1)).to_pylist()
        if len(rows) > MOST_MATCHES:
            return None
        found = set()
        for row in rows:
            for side_ in ("x", "y"):
                found.add(
                    (row[f"at_{side_}"], str(row[f"day_{side_}"]), str(row[f"units_{side_}"]))
                )
        return found

    def _among(
        self,
        name: str,
        trees: Sequence[Tree],
        values: set[tuple[Any, ...]],
        types: Sequence[pa.DataType] = (),
    ) -> None:
        """A trait of rows whose values are in a list: looked up in a table of the engine. They are texts, where
        no ``types`` are given."""
        if not self._wants(name):
            return
        columns = (
            list(zip(*sorted(values, key=str), strict=True)) if values else [() for _ in trees]
        )
        self.inputs[name] = pa.table(
            {
                f"k{i}": pa.array([v if types else str(v) for v in column], kind)
                for i, (column, kind) in enumerate(
                    zip(columns, types or [pa.string()] * len(trees), strict=True)
                )
            }
        )
        keys = [exp.alias_(sql.column(f"k{i}"), f"k{i}") for i in range(len(trees))]
        listed = exp.select(*keys).from_(name)
        value = (
            exp.Tuple(expressions=[tree.copy() for tree in trees])
            if len(trees) > 1
            else trees[0].copy()
        )
        self.conditions[name] = exp.In(this=value, query=listed.subquery())


def _between(day: Tree, first: date, last: date) -> Tree:
    return exp.and_(
        exp.GTE(this=day.copy(), expression=_day(first)),
        exp.LT(this=day.copy(), expression=_day(last)),
    )


def _day(value: date) -> Tree:
    return sql.cast(sql.text(value.isoformat()), "DATE")


def _round(amount: Column) -> Tree:
    """A thousand or more with no more than two digits before the zeros."""
    size = exp.Abs(this=sql.minor_units(amount))
    found = []
    for digits in range(3 + amount.scale, 18):
        inside = exp.and_(
            exp.GTE(this=size.copy(), expression=sql.integer(10**digits)),
            exp.LT(this=size.copy(), expression=sql.integer(10 ** (digits + 1))),
        )
        rest = exp.Mod(this=exp.paren(size.copy()), expression=sql.integer(10 ** (digits - 1)))
        found.append(exp.and_(inside, exp.EQ(this=rest, expression=sql.integer(0))))
    return exp.or_(*found)


def check_left_out(names: Sequence[str]) -> None:
    """Refuse a name that is no trait.

    Raises
    ------
    UserError
        If there is one.
    """
    wrong = [name for name in names if name not in TRAITS]
    if wrong:
        raise UserError(f"--leave-out {wrong[0]!r} is no trait; expected {', '.join(TRAITS)}")
