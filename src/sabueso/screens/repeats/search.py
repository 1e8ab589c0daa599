"""Rows that may repeat others, as the engine finds them, and how often parties and amounts occur."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import functions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits import table as lim
from sabueso.screens.runs import run_starts

MOST_CANDIDATES = 500_000
SIZE = "size"
"""The amount without its sign, in minor units."""


class Search:
    """What the engine finds: rows of which there is more than one of their keys and size."""

    def __init__(
        self,
        population: Population,
        grouping: Grouping,
        measure: Column,
        date: Column | None,
        document: Column | None,
        reasons: list[Reason],
        differs: Column | None = None,
    ) -> None:
        self._differs = differs
        self._population = population
        self._grouping = grouping
        self._columns = lim.RowColumns.of(population.table, measure)
        units = sql.minor_units(measure)
        self._values: dict[str, Tree] = {
            **grouping.values(),
            UNITS: units,
            SIZE: exp.Abs(this=units.copy()),
            **self._columns.trees(),
            "day": exp.null() if date is None else sql.cast(sql.column(date.name), "DATE"),
            "document": exp.null() if document is None else _text(document),
            "other": exp.null() if differs is None else _text(differs),
            "coarse": exp.null() if document is None else _coarse(_text(document)),
        }
        self._reasons = reasons

    def _base(self, *names: str) -> exp.Select:
        wanted = {name: tree for name, tree in self._values.items() if not names or name in names}
        return self._population.base(wanted, self._reasons)

    def candidates(self, within: int | None) -> pa.Table:
        """Rows of one key and size, of which some lie close together or share a document.

        Raises
        ------
        UserError
            If they are too many to be repeats: the columns do not tell a thing from another.
        """
        keys = [*self._grouping.names, SIZE]
        several = exp.select(*(sql.column(name, "b") for name in keys))
        several = several.from_(self._base(*keys, "other").subquery("b"))
        several = several.group_by(*(sql.column(name, "b") for name in keys))
        many: Tree = sql.count()
        if self._differs is not None:
            many = exp.Count(this=exp.Distinct(expressions=[sql.column("other", "b")]))
        several = several.having(exp.GTE(this=many, expression=sql.integer(2)))
        same = sql.both(sql.same(sql.column(name, "b"), sql.column(name, "m")) for name in keys)
        rows = exp.select(*(sql.column(name, "b") for name in self._values))
        rows = rows.from_(self._base().subquery("b"))
        rows = rows.join(several.subquery("m"), on=same, join_type="inner")
        if within is not None:
            rows = self._near(rows, keys, within)
        wanted = exp.select(*(sql.column(name, "r") for name in self._values))
        wanted = wanted.from_(rows.subquery("r")).order_by(
            *(sql.ordered(sql.column(name, "r")) for name in keys),
            sql.ordered(sql.column("day", "r")),
            sql.ordered(sql.column("row_file", "r")),
            sql.ordered(sql.column("row_line", "r")),
        )
        found = self._population.query(wanted.limit(MOST_CANDIDATES + 1))
        if found.num_rows > MOST_CANDIDATES:
            raise UserError(
                f"more than {MOST_CANDIDATES:,} rows share {', '.join(self._grouping.labels)} and amount "
                "with a row close by: these do not tell one thing from another; add columns with --same, "
                "or look at fewer days with --within"
            )
        return found

    def _near(self, rows: exp.Select, keys: list[str], within: int) -> exp.Select:
        """Of these rows the groups in which two lie so close, or have one document."""

        def over(this: exp.Expr, by: list[str], *, ordered: bool) -> exp.Window:
            order = [sql.ordered(sql.column(n, "k")) for n in ("day", "row_file", "row_line")]
            return exp.Window(
                this=this,
                partition_by=[sql.column(name, "k") for name in by],
                order=exp.Order(expressions=order) if ordered else None,
            )

        before = over(exp.Lag(this=sql.column("day", "k")), keys, ordered=True)
        twice = over(exp.Count(this=sql.column("coarse", "k")), [*keys, "coarse"], ordered=False)
        marked = exp.select(
            *(sql.column(name, "k") for name in self._values),
            exp.alias_(before, "before"),
            exp.alias_(twice, "times"),
        ).from_(rows.subquery("k"))
        apart = exp.DateDiff(
            this=sql.column("day", "k"), expression=sql.column("before", "k"), unit=exp.var("DAY")
        )
        near = exp.or_(
            exp.LTE(this=apart, expression=sql.integer(within)),
            exp.GTE(this=sql.column("times", "k"), expression=sql.integer(2)),
        )
        hit = exp.Case().when(near, sql.integer(1)).else_(sql.integer(0))
        each = exp.select(
            *(sql.column(name, "k") for name in self._values),
            exp.alias_(over(exp.Max(this=hit), keys, ordered=False), "hits"),
        ).from_(marked.subquery("k"))
        kept = exp.select(*(sql.column(name, "h") for name in self._values))
        return kept.from_(each.subquery("h")).where(
            exp.EQ(this=sql.column("hits", "h"), expression=sql.integer(1))
        )

    def parties(self, found: pa.Table) -> dict[tuple[Any, ...], int]:
        """How many rows the population has of each party of some rows."""
        names = self._grouping.names
        asked = found.select(names).group_by(names).aggregate([])
        select = exp.select(*self._grouping.columns("b"), exp.alias_(sql.count(), "n"))
        select = select.from_(self._base(*names).subquery("b"))
        select = select.join("asked", on=self._grouping.join("b", "asked"), join_type="inner")
        counted = self._population.query(select.group_by(*self._grouping.columns("b")), asked=asked)
        keys = (tuple(key.values()) for key in self._grouping.keys(counted))
        return dict(zip(keys, counted.column("n").to_pylist(), strict=True))

    def days_and_sizes(
        self, parties: Sequence[tuple[Any, ...]]
    ) -> dict[tuple[Any, ...], tuple[np.ndarray, np.ndarray]]:
        """The days, as numbers, and the sizes of all dated rows of some parties."""
        names = self._grouping.names
        values = [pa.array(column) for column in zip(*parties, strict=True)]
        asked = pa.table(dict(zip(names, values, strict=True)))
        size = exp.alias_(sql.cast(sql.column(SIZE, "b"), "DOUBLE"), SIZE)
        select = exp.select(*(sql.column(name, "b") for name in (*names, "day")), size)
        select = select.from_(self._base(*names, "day", SIZE).subquery("b"))
        select = select.join("asked", on=self._grouping.join("b", "asked"), join_type="inner")
        select = select.where(exp.Not(this=sql.is_missing(sql.column("day", "b"))))
        select = select.order_by(*(sql.ordered(sql.column(name, "b")) for name in names))
        found = self._population.query(select, asked=asked)
        if not found.num_rows:
            return {}
        starts = run_starts(found.combine_chunks().to_batches()[0], names)
        days = np.split(found.column("day").cast(pa.int32()).to_numpy(), starts[1:])
        sizes = np.split(found.column(SIZE).to_numpy(), starts[1:])
        keys = (tuple(key.values()) for key in self._grouping.keys(found.take(starts)))
        return dict(zip(keys, zip(days, sizes, strict=True), strict=True))

    def sizes(self, found: pa.Table) -> dict[int, int]:
        """How many rows of the population have each of the sizes of some rows."""
        asked = pa.table({"size": found.column(SIZE).unique()})
        select = exp.select(sql.column(SIZE, "b"), exp.alias_(sql.count(), "n"))
        select = select.from_(self._base(SIZE).subquery("b"))
        on = exp.EQ(this=sql.column(SIZE, "b"), expression=sql.column("size", "asked"))
        select = select.join("asked", on=on, join_type="inner").group_by(sql.column(SIZE, "b"))
        rows = self._population.query(select, asked=asked).to_pylist()
        return {int(row[SIZE]): row["n"] for row in rows}

    def expected(self, share: float) -> float:
        """Pairs of one party and amount within the days, where amounts are drawn from all rows alike:
        Σ over parties of C(n, 2), times the chance that two rows have one amount, times the share."""
        sizes = exp.select(exp.alias_(sql.count(), "n")).from_(self._base(SIZE).subquery("b"))
        sizes = sizes.group_by(sql.column(SIZE, "b"))
        alike, _ = self._pairs(sizes)
        parties = exp.select(exp.alias_(sql.count(), "n"))
        parties = parties.from_(self._base(*self._grouping.names).subquery("b"))
        parties = parties.group_by(*self._grouping.columns("b"))
        met, n = self._pairs(parties)
        return share * met * 2 * alike / (n * (n - 1)) if n > 1 else 0.0

    def _pairs(self, counted: exp.Select) -> tuple[int, int]:
        """Σ n(n - 1)/2 and Σ n of some counts."""
        n = sql.column("n", "c")
        less = exp.paren(exp.Sub(this=n.copy(), expression=sql.integer(1)))
        select = exp.select(
            exp.alias_(sql.exact_sum(exp.Mul(this=n.copy(), expression=less)), "pairs"),
            exp.alias_(sql.exact_sum(n.copy()), "n"),
        ).from_(counted.subquery("c"))
        row = self._population.query(select).to_pylist()[0]
        return int(row["pairs"] or 0) // 2, int(row["n"] or 0)


def _text(column: Column) -> Tree:
    return sql.cast(sql.column(column.name), "TEXT")


def _coarse(document: Tree) -> Tree:
    """A document's number in small letters without accents, marks and any zero: numbers that are the same are so
    in this form, and few others."""
    return exp.RegexpReplace(
        this=functions.folded_tree(document),
        expression=sql.text("[^\\p{L}\\p{N}]|0"),
        replacement=sql.text(""),
        modifiers=sql.text("g"),
    )
