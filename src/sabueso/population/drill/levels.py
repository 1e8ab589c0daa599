"""The groups of a drill-down, level by level, as queries.

Where every measure adds up, the narrowest groups are taken once and kept in the engine, and wider ones
are made of them. What is not shown of a level is put together by the engine too: only lines that are
shown leave it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.population import sql
from sabueso.population.drill.measures import Plan
from sabueso.population.population import Population
from sabueso.population.sql import Tree

NARROWEST, KEPT = "_narrowest", "_kept"
Key = tuple[Any, ...]


@dataclass(frozen=True)
class Order:
    """How the groups of a level are sorted.

    ``values`` are the group's own in their order; empty for the order of their letters; None for the
    ``figure`` of that place, or for the rows where that is None.
    """

    values: list[str] | None = None
    figure: int | None = 0
    descending: bool = True
    size: bool = True
    """Whether by the size of the figure, whatever its sign."""


@dataclass(frozen=True)
class Level:
    """The groups of a level that are shown, and whether there are others."""

    groups: list[tuple[Key, Cells]]
    hidden: bool


@dataclass(frozen=True)
class Grouped:
    """What rows are grouped by: the tree of its values; and where it is a period, which, and the tree of a
    number for it, which is faster to group by."""

    tree: Tree
    period: str | None = None
    code: Tree | None = None


@dataclass(frozen=True)
class Levels:
    """Queries on the levels of one drill-down. ``keys`` are its groups, ``wide`` what stands across."""

    population: Population
    keys: Sequence[Grouped]
    wide: Grouped | None
    plan: Plan

    @contextmanager
    def ready(self) -> Iterator[None]:
        """The narrowest groups kept in the engine, and those that meet the condition on groups."""
        with ExitStack() as kept:
            if self.plan.merges:
                names = [*self._names(), *(["wide"] if self.wide is not None else [])]
                narrowest = self._aggregated(self._base(coded=True), names, merged=False)
                kept.enter_context(self.population.staged(NARROWEST, self._labelled(narrowest)))
            if self.plan.having is not None:
                grouped = self._grouped(len(self.keys))
                met = exp.select(*map(sql.column, self._names())).from_(grouped.subquery("m"))
                met = met.where(self.plan.having.copy())
                kept.enter_context(self.population.staged(KEPT, met))
            yield

    def whole(self) -> Cells:
        """The figures of all rows."""
        (row,) = self.population.query(self._valued(self._grouped(0), [])).to_pylist()
        return row

    def whole_across(self) -> dict[Any, Cells]:
        """The figures of all rows for each value across."""
        rows = self.population.query(self._valued(self._grouped(0, wide=True), ["wide"]))
        return {row["wide"]: row for row in rows.to_pylist()}

    def level(self, depth: int, order: Order, limit: int | None, parents: pa.Table | None) -> Level:
        """The groups at a depth that are shown, at most ``limit`` of each parent."""
        names = self._names(depth)
        valued = self._valued(self._grouped(depth), names)
        ranked = exp.select("*", *self._places(names, order)).from_(
            self._meeting(valued, names).subquery("v")
        )
        shown: exp.Select = exp.select("*").from_(ranked.subquery("r"))
        wanted: list[Tree] = [sql.column("meets")]
        if limit is not None:
            wanted.append(exp.LTE(this=sql.column("place"), expression=sql.integer(limit)))
        shown = shown.where(sql.both(wanted))
        inputs = {} if parents is None else {"above": parents}
        if parents is not None:
            shown = self._semi(shown, names[:-1], "above")
        shown = shown.order_by(sql.ordered(sql.column("place")))
        found = self.population.query(shown, **inputs).to_pylist()
        groups = [(tuple(row[name] for name in names), row) for row in found]
        # Where a parent shows fewer than it has; without any, nothing met the condition on groups.
        many = {key[:-1]: row["many"] for key, row in groups}
        hidden = sum(many.values()) > len(groups) or (not groups and self.plan.having is not None)
        return Level(groups, hidden)

    def rest(
        self, depth: int, shown: pa.Table, parents: pa.Table | None, *, wide: bool = False
    ) -> list[tuple[tuple[Key, str], Cells]]:
        """The groups at a depth that are not shown, of each parent in one, with how many they are: those
        beyond the limit (``rest``) and those that do not meet the condition (``unmet``)."""
        names = self._names(depth)
        rows = self._rows("b")
        joined = self._left(rows, names, "shown", "s")
        hidden = [sql.is_missing(sql.column("mark", "s"))]
        kind: Tree = sql.text("rest")
        if self.plan.having is not None:
            prefix = self._prefixes(names).subquery("k")
            joined = joined.join(prefix, on=self._same(names, "b", "k"), join_type="left")
            met = sql.is_missing(sql.column("mark", "k"))
            kind = exp.Case().when(met, sql.text("unmet")).else_(sql.text("rest"))
        inputs = {"shown": shown}
        if parents is not None:
            joined = self._left(joined, names[:-1], "above", "a")
            hidden.append(exp.Not(this=sql.is_missing(sql.column("mark", "a"))))
            inputs["above"] = parents
        keys: list[str] = [*names[:-1], *(["wide"] if wide else [])]
        columns = [sql.column(name, "b") for name in [*keys, names[-1], *self._columns()]]
        chosen = joined.select(*columns, exp.alias_(kind, "kind", quoted=True)).where(
            sql.both(hidden)
        )
        grouped = self._aggregated(
            chosen, [*keys, "kind"], merged=self.plan.merges, counted=names[-1]
        )
        valued = self._valued(grouped, [*keys, "kind", "groups"])
        found = self.population.query(valued, **inputs).to_pylist()
        return [((tuple(row[n] for n in names[:-1]), row["kind"]), row) for row in found]

    def across(self, depth: int, shown: pa.Table) -> list[tuple[Key, Any, Cells]]:
        """The figures of the groups that are shown, for each value across."""
        names = self._names(depth)
        valued = self._valued(self._grouped(depth, wide=True), [*names, "wide"])
        select = self._semi(exp.select("*").from_(valued.subquery("r")), names, "shown")
        found = self.population.query(select, shown=shown).to_pylist()
        return [(tuple(row[name] for name in names), row["wide"], row) for row in found]

    def marked(self, groups: Sequence[tuple[Key, Cells]], depth: int) -> pa.Table:
        """Keys as a table that queries join, typed as the engine gave them."""
        columns = {
            name: pa.array([key[place] for key, _ in groups])
            for place, name in enumerate(self._names(depth))
        }
        return pa.table(columns | {"mark": pa.array([1] * len(groups), pa.int32())})

    def _names(self, depth: int | None = None) -> list[str]:
        return [f"g{place}" for place in range(len(self.keys) if depth is None else depth)]

    def _columns(self) -> list[str]:
        """What the rows of a source hold beside the keys."""
        if self.plan.merges:
            return ["n", *(f"p{place}" for place in range(len(self.plan.parts)))]
        parts = enumerate(self.plan.parts)
        return [f"a{place}" for place, part in parts if part.argument is not None]

    def _groups(self) -> dict[str, Grouped]:
        found = {f"g{place}": key for place, key in enumerate(self.keys)}
        return found if self.wide is None else {**found, "wide": self.wide}

    def _labelled(self, narrowest: exp.Select) -> exp.Select:
        """The narrowest groups with periods by their names, and no more by their numbers."""
        groups = self._groups()
        if not any(key.code is not None for key in groups.values()):
            return narrowest
        columns: list[Tree] = []
        for name, key in groups.items():
            value: Tree = sql.column(name)
            if key.code is not None and key.period is not None:
                value = sql.period_of_code(value, key.period)
            columns.append(exp.alias_(value, name, quoted=True))
        rest = [sql.column(name) for name in self._columns()]
        return exp.select(*columns, *rest).from_(narrowest.subquery("c"))

    def _base(self, *, coded: bool = False) -> exp.Select:
        values = {
            name: (key.code if coded and key.code is not None else key.tree).copy()
            for name, key in self._groups().items()
        }
        for place, part in enumerate(self.plan.parts):
            if part.argument is not None:
                values[f"a{place}"] = part.argument.copy()
        return self.population.base(values or {"g": sql.integer(0)})

    def _rows(self, alias: str) -> exp.Select:
        """A SELECT from what levels are made of: the narrowest groups, or the rows themselves."""
        if self.plan.merges:
            kept = exp.Table(this=exp.to_identifier(NARROWEST, quoted=True))
            return exp.select().from_(exp.alias_(kept, alias))
        return exp.select().from_(self._base().subquery(alias))

    def _grouped(self, depth: int, *, wide: bool = False) -> exp.Select:
        names = [*self._names(depth), *(["wide"] if wide else [])]
        columns: list[Tree] = [sql.column(name, "b") for name in [*names, *self._columns()]]
        rows = self._rows("b").select(*(columns or [sql.integer(0)]))
        return self._aggregated(rows, names, merged=self.plan.merges)

    def _aggregated(
        self, rows: exp.Select, names: Sequence[str], *, merged: bool, counted: str = ""
    ) -> exp.Select:
        """Parts of each group of some rows: taken of rows, or merged of narrower groups; with
        ``counted`` how many values of that key there are, a missing one too."""
        count = sql.cast(exp.Sum(this=sql.column("n")), "BIGINT") if merged else sql.count()
        figures: list[Tree] = [exp.alias_(count, "n", quoted=True)]
        for place, part in enumerate(self.plan.parts):
            if merged:
                figure = part.merged(sql.column(f"p{place}"))
            else:
                given = None if part.argument is None else sql.column(f"a{place}")
                figure = part.taken(given)
            figures.append(exp.alias_(figure, f"p{place}", quoted=True))
        if counted:
            key = sql.column(counted)
            missing = exp.Case().when(sql.is_missing(key.copy()), sql.integer(1))
            known = exp.Count(this=exp.Distinct(expressions=[key]))
            some = exp.Max(this=missing.else_(sql.integer(0)))
            figures.append(exp.alias_(exp.Add(this=known, expression=some), "groups", quoted=True))
        keys = [sql.column(name) for name in names]
        select = exp.select(*keys, *figures).from_(rows.subquery("q"))
        return select.group_by(*(key.copy() for key in keys)) if keys else select

    def _valued(self, grouped: exp.Select, names: Sequence[str]) -> exp.Select:
        values = [
            exp.alias_(figure.value.copy(), f"v{place}", quoted=True)
            for place, figure in enumerate(self.plan.figures)
            if not figure.share
        ]
        columns = [sql.column(name) for name in (*names, "n")]
        return exp.select(*columns, *values).from_(grouped.subquery("p"))

    def _meeting(self, valued: exp.Select, names: Sequence[str]) -> exp.Select:
        """Groups with whether they, or any within them, meet the condition on groups."""
        if self.plan.having is None:
            meets = exp.alias_(exp.true(), "meets", quoted=True)
            return exp.select("*", meets).from_(valued.subquery("w"))
        prefix = self._prefixes(names).subquery("k")
        met = exp.Not(this=sql.is_missing(sql.column("mark", "k")))
        select = exp.select(exp.Column(this=exp.Star(), table=exp.to_identifier("w")))
        select = select.select(exp.alias_(met, "meets", quoted=True)).from_(valued.subquery("w"))
        return select.join(prefix, on=self._same(names, "w", "k"), join_type="left")

    def _prefixes(self, names: Sequence[str]) -> exp.Select:
        kept = exp.Table(this=exp.to_identifier(KEPT, quoted=True))
        columns = [sql.column(name) for name in names]
        mark = exp.alias_(exp.Max(this=sql.integer(1)), "mark", quoted=True)
        return exp.select(*columns, mark).from_(kept).group_by(*(c.copy() for c in columns))

    def _places(self, names: Sequence[str], order: Order) -> list[Tree]:
        """Each group's place among those of its parent, and how many those are."""
        parents = [sql.column(name) for name in names[:-1]]
        sort = exp.Order(
            expressions=[
                sql.ordered(sql.column("meets"), descending=True),
                *self._sorted(names[-1], order),
            ]
        )

        def over(figure: Tree, sort: exp.Order | None = None) -> Tree:
            return exp.Window(this=figure, partition_by=[p.copy() for p in parents], order=sort)

        return [
            exp.alias_(over(exp.RowNumber(), sort), "place", quoted=True),
            exp.alias_(over(sql.count()), "many", quoted=True),
        ]

    def _sorted(self, name: str, order: Order) -> list[exp.Ordered]:
        key = sql.column(name)
        tie = sql.ordered(sql.cast(key, "VARCHAR"))
        if order.values is not None:
            keys = [sql.ordered(key.copy(), descending=order.descending)]
            if order.values:
                choice = exp.Case(this=key.copy())
                for place, value in enumerate(order.values):
                    choice = choice.when(sql.text(value), sql.integer(place), copy=False)
                keys = [sql.ordered(choice, descending=order.descending)]
            return [*keys, tie]
        figure: Tree = sql.column("n" if order.figure is None else f"v{order.figure}")
        if order.size:
            figure = exp.Abs(this=figure)
        return [sql.ordered(figure, descending=order.descending), tie]

    def _same(self, names: Sequence[str], left: str, right: str) -> Tree:
        pairs = (sql.same(sql.column(n, left), sql.column(n, right)) for n in names)
        return sql.both(pairs)

    def _left(self, select: exp.Select, names: Sequence[str], given: str, alias: str) -> exp.Select:
        known = exp.alias_(exp.Table(this=exp.to_identifier(given)), alias)
        return select.join(known, on=self._same(names, "b", alias), join_type="left")

    def _semi(self, select: exp.Select, names: Sequence[str], given: str) -> exp.Select:
        """Only lines whose key is among those of a table."""
        known = exp.alias_(exp.Table(this=exp.to_identifier(given)), "x")
        lines = exp.select(exp.Column(this=exp.Star(), table=exp.to_identifier("y")))
        lines = lines.from_(select.subquery("y"))
        return lines.join(known, on=self._same(names, "y", "x"))
