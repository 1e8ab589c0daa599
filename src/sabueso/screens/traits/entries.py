"""Entries by the traits that they have: patterns first, which are few, then the rarest entries themselves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from math import log2

import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.population import Population, Reason
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
    ) -> None:
        self._source = source
        self._population, self._grouping, self._marks = population, grouping, marks
        self._measure = measure
        self._account = population.table.role("account")
        self._preparer = population.table.role("preparer")
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
        """Each entry once, with its traits as bits, its rows and its money."""
        values: dict[str, Tree] = {**self._grouping.values()}
        for place, condition in enumerate(self._marks.conditions.values()):
            flag = exp.Case().when(condition.copy(), sql.integer(1), copy=False)
            values[f"t{place}"] = flag.else_(sql.integer(0), copy=False)
        units: Tree = sql.integer(0) if self._measure is None else sql.minor_units(self._measure)
        values[UNITS] = units
        if self.pairs and self._account is not None:
            values["account"] = sql.cast(sql.column(self._account.name), "TEXT")
        if self._source is not None:
            values["source"] = sql.cast(sql.column(self._source.name), "TEXT")
        if self._preparer is not None:
            values["who"] = sql.cast(sql.column(self._preparer.name), "TEXT")
        base = self._population.base(values, self._marks.reasons)
        keys = self._grouping.columns("b")
        own = sql.column(UNITS, "b")
        size = exp.Abs(this=own.copy())
        positive = exp.GT(this=own.copy(), expression=sql.integer(0))
        negative = exp.LT(this=own.copy(), expression=sql.integer(0))
        fields: dict[str, Tree] = {
            f"t{place}": exp.Max(this=sql.column(f"t{place}", "b"))
            for place in range(len(self._marks.conditions))
        }
        fields["n"] = sql.count()
        fields["total"] = sql.exact_sum(
            exp.Case().when(positive.copy(), own.copy()).else_(sql.integer(0))
        )
        fields["largest"] = exp.Max(this=size)
        if self._preparer is not None:
            fields["who"] = exp.Min(this=sql.column("who", "b"))
        if self._source is not None:
            fields["source"] = exp.Min(this=sql.column("source", "b"))
        if self.pairs:
            account = sql.column("account", "b")
            fields["debit"] = exp.Min(this=exp.Case().when(positive.copy(), account))
            fields["credit"] = exp.Min(this=exp.Case().when(negative.copy(), account.copy()))
        select = (
            exp.select(
                *keys, *(exp.alias_(tree, name, quoted=True) for name, tree in fields.items())
            )
            .from_(base.subquery("b"))
            .group_by(*(key.copy() for key in keys))
        )
        with self._population.staged(ENTRIES, select, **self._marks.inputs):
            if self.pairs:
                self._find_pairs(rare)
            yield

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
        total: Tree = sql.integer(0)
        for place in range(len(self._marks.conditions)):
            one = exp.Mul(this=sql.column(f"t{place}", "e"), expression=sql.integer(1 << place))
            total = exp.Add(this=total, expression=one)
        if self.pairs:
            mark = 1 << (len(self.names) - 1)
            pairs = [exp.Tuple(expressions=[sql.text(a), sql.text(b)]) for a, b in self._rare_pairs]
            if pairs:
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
        """The entries of some patterns, the largest first."""
        if not patterns:
            return []
        names = [*self._grouping.names, "n", "total", "largest"]
        names += ["who"] if self._preparer is not None else []
        names += ["source"] if self._source is not None else []
        inner = self._from(
            *(sql.column(name, "e") for name in names),
            exp.alias_(self._bits(), "bits", quoted=True),
        )
        wanted = [sql.integer(self.number_of(p.traits)) for p in patterns]
        select = exp.select("*").from_(inner.subquery("p"))
        select = select.where(exp.In(this=sql.column("bits"), expressions=wanted))
        order = [sql.ordered(sql.column("total"), descending=True)]
        order += [sql.ordered(sql.column(name)) for name in self._grouping.names]
        found = self._population.query(select.order_by(*order).limit(MOST_KEPT)).to_pylist()
        chosen = {(self.number_of(p.traits), p.source) for p in patterns}
        return [row for row in found if (int(row["bits"]), row.get("source")) in chosen]

    @property
    def preparer(self) -> str | None:
        """The column of who prepared an entry."""
        return None if self._preparer is None else self._preparer.name

    def key(self, row: Cells) -> Cells:
        pairs = zip(self._grouping.labels, self._grouping.names, strict=True)
        return {label: row[name] for label, name in pairs}


def bits_of(count: int, entries: int) -> float:
    """Bits that a trait counts: the fewer have it, the more.

    Examples
    --------
    >>> round(bits_of(3, 1000), 3), bits_of(1000, 1000) < 0.001
    (8.16, True)
    """
    return -log2((count + 0.5) / (entries + 1))


def missing_entry(grouping: Grouping) -> Reason:
    return Reason("missing_key", exp.or_(*(sql.is_missing(t.copy()) for t in grouping.trees)))
