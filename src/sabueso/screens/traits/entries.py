"""Entries by the traits that they have: patterns first, which are few, then the rarest entries themselves."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from math import log2

import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.traits.marks import Marks

ENTRIES = "_entries"
MOST_KEPT = 100_000


@dataclass(frozen=True)
class Pattern:
    """A set of traits and how many entries of a source have just these."""

    traits: tuple[str, ...]
    count: int
    source: str | None = None


class Entries:
    """Rows put together as entries in the engine."""

    def __init__(
        self,
        population: Population,
        grouping: Grouping,
        marks: Marks,
        measure: Column | None,
        source: Column | None = None,
        preparer: Column | None = None,
    ) -> None:
        self._source = source
        self._population, self.grouping, self._marks = population, grouping, marks
        self._measure = measure
        self._account = population.table.role("account")
        self._preparer = preparer
        self.names = list(marks.conditions)
        # Both sides of an entry are told by the sign of its amounts.
        self.pairs = (
            self._account is not None
            and measure is not None
            and "rare_pair" not in marks.settings.leave_out
        )
        if self.pairs:
            self.names.append("rare_pair")
        elif self._account is not None and "rare_pair" not in marks.settings.leave_out:
            marks.cannot["rare_pair"] = "no amount"

    @contextmanager
    def ready(self, rare: float) -> Iterator[None]:
        """Each entry once, with its traits as bits and its rows. What is told of the few that are flagged is
        asked for when it is known who they are."""
        values: dict[str, Tree] = {**self.grouping.values(), "traits": self._traits_of_row()}
        keys = self.grouping.columns("b")
        fields: dict[str, Tree] = {
            "traits": exp.BitwiseOrAgg(this=sql.column("traits", "b")),
            "n": sql.count(),
        }
        if self._source is not None:
            values["source"] = sql.cast(sql.column(self._source.name), "TEXT")
            fields["source"] = exp.Min(this=sql.column("source", "b"))
        if self.pairs and self._account is not None:
            values[UNITS] = self._units()
            values["account"] = sql.cast(sql.column(self._account.name), "TEXT")
            own, account = sql.column(UNITS, "b"), sql.column("account", "b")
            for name, side in (("debit", exp.GT), ("credit", exp.LT)):
                here = side(this=own.copy(), expression=sql.integer(0))
                fields[name] = exp.Min(this=exp.Case().when(here, account.copy()))
        base = self._population.base(values, self._marks.reasons)
        select = _grouped(keys, fields).from_(base.subquery("b"))
        select = select.group_by(*(key.copy() for key in keys))
        with self._population.staged(ENTRIES, select, **self._marks.inputs):
            if self.pairs:
                self._find_pairs(rare)
            yield

    def _traits_of_row(self) -> Tree:
        """The traits of a row as one number."""
        total: Tree = sql.integer(0)
        for place, condition in enumerate(self._marks.conditions.values()):
            own = exp.Case().when(condition.copy(), sql.integer(1 << place), copy=False)
            own = own.else_(sql.integer(0), copy=False)
            total = exp.Add(this=total, expression=own)
        return exp.paren(total)

    def _units(self) -> Tree:
        return sql.integer(0) if self._measure is None else sql.minor_units(self._measure)

    def _find_pairs(self, rare: float) -> None:
        """Pairs of accounts, debit and credit, of which few entries are."""
        pair = [sql.column("debit", "e"), sql.column("credit", "e")]
        select = self._from(*pair, exp.alias_(sql.count(), "n"))
        known = [exp.Not(this=sql.is_missing(c.copy())) for c in pair]
        found = self._population.query(
            select.where(*known).group_by(*(c.copy() for c in pair))
        ).to_pylist()
        whole = sum(row["n"] for row in found)
        self._rare_pairs = [
            (row["debit"], row["credit"]) for row in found if row["n"] < rare * whole
        ]

    def _from(self, *columns: Tree) -> exp.Select:
        kept = exp.Table(this=exp.to_identifier(ENTRIES, quoted=True))
        return exp.select(*columns).from_(exp.alias_(kept, "e"))

    def _bits(self) -> Tree:
        """The traits of an entry as one number."""
        total: Tree = sql.column("traits", "e")
        if self.pairs and self._rare_pairs:
            mark = 1 << (len(self.names) - 1)
            pairs = [exp.Tuple(expressions=[sql.text(a), sql.text(b)]) for a, b in self._rare_pairs]
            pair = exp.Tuple(expressions=[sql.column("debit", "e"), sql.column("credit", "e")])
            rare = exp.Case().when(exp.In(this=pair, expressions=pairs), sql.integer(mark))
            total = exp.Add(this=total, expression=rare.else_(sql.integer(0)))
        return total

    def patterns(self) -> list[Pattern]:
        """Sets of traits with their entries."""
        source = [sql.column("source", "e")] if self._source is not None else []
        inner = self._from(exp.alias_(self._bits(), "bits", quoted=True), *source)
        keys = [sql.column("bits"), *([sql.column("source")] if source else [])]
        select = exp.select(*keys, exp.alias_(sql.count(), "n"))
        select = select.from_(inner.subquery("p")).group_by(*(key.copy() for key in keys))
        select = select.order_by(*(sql.ordered(key.copy()) for key in keys))
        found = self._population.query(select).to_pylist()
        return [
            Pattern(self.traits_of(int(row["bits"])), int(row["n"]), row.get("source"))
            for row in found
        ]

    def traits_of(self, bits: int) -> tuple[str, ...]:
        return tuple(name for place, name in enumerate(self.names) if bits >> place & 1)

    def number_of(self, traits: Sequence[str]) -> int:
        return sum(1 << self.names.index(name) for name in traits)

    def rows(self) -> int:
        select = self._from(exp.alias_(exp.Sum(this=sql.column("n", "e")), "n"))
        return int(self._population.query(select).to_pylist()[0]["n"] or 0)

    def of(self, patterns: Sequence[Pattern]) -> list[Cells]:
        """The entries of some patterns, the largest first.

        Raises
        ------
        UserError
            If they are too many to be looked at.
        """
        if not patterns:
            return []
        if sum(p.count for p in patterns) > MOST_KEPT:
            raise UserError(
                f"more than {MOST_KEPT:,} entries are as rare as asked for: ask for a smaller --share, or more traits "
                "with --least"
            )
        carried = ["n", *(["source"] if self._source is not None else [])]
        inner = self._from(
            *(sql.column(name, "e") for name in (*self.grouping.names, *carried)),
            exp.alias_(self._bits(), "bits", quoted=True),
        )
        listed = [sql.integer(self.number_of(p.traits)) for p in patterns]
        wanted = exp.select("*").from_(inner.subquery("p"))
        wanted = wanted.where(exp.In(this=sql.column("bits"), expressions=listed))
        values: dict[str, Tree] = {**self.grouping.values(), UNITS: self._units()}
        own = sql.column(UNITS, "b")
        positive = exp.GT(this=own, expression=sql.integer(0))
        fields: dict[str, Tree] = {
            "total": sql.exact_sum(exp.Case().when(positive, own.copy()).else_(sql.integer(0))),
            "largest": exp.Max(this=exp.Abs(this=own.copy())),
            **{name: exp.Min(this=sql.column(name, "w")) for name in ("bits", *carried)},
        }
        if self._preparer is not None:
            values["who"] = sql.cast(sql.column(self._preparer.name), "TEXT")
            fields["who"] = exp.Min(this=sql.column("who", "b"))
        keys = self.grouping.columns("b")
        select = _grouped(keys, fields)
        select = select.from_(self._population.base(values, self._marks.reasons).subquery("b"))
        select = select.join(
            wanted.subquery("w"), on=self.grouping.join("b", "w"), join_type="inner"
        )
        select = select.group_by(*(key.copy() for key in keys))
        order = [sql.ordered(sql.column("total"), descending=True)]
        order += [sql.ordered(sql.column(name)) for name in self.grouping.names]
        every = exp.select("*").from_(select.subquery("f")).order_by(*order)
        found = self._population.query(every).to_pylist()
        chosen = {(self.number_of(p.traits), p.source) for p in patterns}
        return [row for row in found if (int(row["bits"]), row.get("source")) in chosen]

    @property
    def preparer(self) -> str | None:
        """The column of who prepared an entry."""
        return None if self._preparer is None else self._preparer.name

    def preparers(self) -> int:
        """How many there are who prepared rows."""
        if self._preparer is None:
            return 0
        own = exp.Count(this=exp.Distinct(expressions=[sql.column(self._preparer.name)]))
        select = self._population.used(exp.select(exp.alias_(own, "n")), self._marks.reasons)
        return int(self._population.query(select).to_pylist()[0]["n"] or 0)

    def key(self, row: Cells) -> Cells:
        pairs = zip(self.grouping.labels, self.grouping.names, strict=True)
        return {label: row[name] for label, name in pairs}


def _grouped(keys: Sequence[Tree], fields: Mapping[str, Tree]) -> exp.Select:
    return exp.select(
        *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
    )


def bits_of(count: int, entries: int) -> float:
    """Bits that a trait counts: the fewer have it, the more.

    Examples
    --------
    >>> round(bits_of(3, 1000), 3), bits_of(1000, 1000) < 0.001
    (8.16, True)
    """
    return -log2((count + 0.5) / (entries + 1))
