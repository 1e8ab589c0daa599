"""Rows by the million with several measures: they stay in the engine, of which only sums, a stated sample and the
rows that are named come out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column

MANY = 500_000
"""Rows above which they stay in the engine."""
SAMPLE = 100_000
"""Rows of a sample, about."""
SPREAD, OF = 2_654_435_761, 2**32
"""A row is of the sample by its line times the first, of the second: no pattern of neighbours survives that,
and the same rows are chosen on every engine. Knuth, D. E. (1973), The Art of Computer Programming 3, 6.4."""


def many_rows(population: Population, measures: Sequence[str]) -> ManyRows | None:
    """A table's rows that have every measure; None where they are few enough to be taken out."""
    table = population.table
    amount = table.role("amount")
    if population.account(amount).used <= MANY:  # asked once for all screens of a table
        return None
    columns = [table.number(name) for name in measures]
    reasons = missing_measures(columns)
    account = population.account(amount, reasons)
    if account.used <= MANY:
        return None
    return ManyRows(population, columns, reasons, account)


def missing_measures(columns: Sequence[Column]) -> list[Reason]:
    """Rows that lack one of some measures are left out, by the first that they lack."""
    return [Reason(f"missing_{c.name}", sql.is_missing(sql.column(c.name))) for c in columns]


@dataclass(frozen=True)
class ManyRows:
    """Rows that have every measure. In trees a measure is ``b.m0``, ``b.m1``, …, a DOUBLE."""

    population: Population
    columns: list[Column]
    reasons: list[Reason]
    account: Account

    @property
    def n(self) -> int:
        return self.account.used

    def sample(self) -> pa.Table:
        """Some of them with their place, in its order: about as many as a fit needs."""
        line = sql.cast(sql.column(LINE_COLUMN), "BIGINT")
        spread = exp.Mod(
            this=exp.paren(exp.Mul(this=line, expression=sql.integer(SPREAD))),
            expression=sql.integer(OF),
        )
        chosen = exp.LT(this=spread, expression=sql.integer(OF * SAMPLE // self.n))
        select = self.population.base(self.measures(), self.reasons, rows=True).where(chosen)
        return self.population.query(select.order_by(*sql.place()))

    def moments(self, kept: Sequence[int]) -> tuple[list[Fraction], list[list[Fraction]]]:
        """Means, and sums of products of what is left of the measures less their means: exact."""
        columns = [self.columns[j] for j in kept]
        values = {f"u{j}": sql.minor_units(c) for j, c in enumerate(columns)}
        pairs = [(i, j) for i in range(len(columns)) for j in range(i, len(columns))]
        fields: list[Tree] = [
            exp.alias_(sql.exact_sum(sql.column(f"u{j}", "b")), f"s{j}")
            for j in range(len(columns))
        ]
        fields += [
            exp.alias_(
                sql.exact_product_sum(sql.column(f"u{i}", "b"), sql.column(f"u{j}", "b")),
                f"s{i}_{j}",
            )
            for i, j in pairs
        ]
        base = self.population.base(values, self.reasons).subquery("b")
        (row,) = self.population.query(exp.select(*fields).from_(base)).to_pylist()
        sums = [int(row[f"s{j}"]) for j in range(len(columns))]
        units = [10**c.scale for c in columns]
        means = [Fraction(s, self.n * u) for s, u in zip(sums, units, strict=True)]
        products = [[Fraction(0)] * len(columns) for _ in columns]
        for i, j in pairs:
            off = Fraction(int(row[f"s{i}_{j}"])) - Fraction(sums[i] * sums[j], self.n)
            products[i][j] = products[j][i] = off / (units[i] * units[j])
        return means, products

    def streamed(self, trees: Mapping[str, Tree]) -> list[np.ndarray]:
        """Figures of each row as arrays of one order, which is not that of the rows."""
        fields = [exp.alias_(tree, name, quoted=True) for name, tree in trees.items()]
        batches = list(self.population.stream(exp.select(*fields).from_(self.based())))
        return [np.concatenate([batch.column(j).to_numpy() for batch in batches])
                for j in range(len(fields))]  # fmt: skip

    def strongest(
        self,
        by: Tree,
        *,
        least: float | None = None,
        most: int | None = None,
        among: Tree | None = None,
        also: Mapping[str, Tree] | None = None,
    ) -> pa.Table:
        """Rows by how large a figure of theirs is, with their place and measures, equal ones in the order of
        rows: those with at least so much, or so many of them, or of those that meet a condition."""
        names = [*self.measures(), FILE_COLUMN, LINE_COLUMN]
        fields: list[Tree] = [sql.column(name, "b") for name in names]
        fields += [exp.alias_(tree, name, quoted=True) for name, tree in (also or {}).items()]
        select = exp.select(*fields).from_(self.based(rows=True))
        if least is not None:
            select = select.where(exp.GTE(this=by.copy(), expression=double(least)))
        if among is not None:
            select = select.where(among.copy())
        select = select.order_by(sql.ordered(by.copy(), descending=True), *sql.place())
        return self.population.query(select if most is None else select.limit(most))

    def measures(self) -> dict[str, Tree]:
        return {f"m{j}": sql.cast(sql.column(c.name), "DOUBLE") for j, c in enumerate(self.columns)}

    def based(self, *, rows: bool = False) -> exp.Subquery:
        return self.population.base(self.measures(), self.reasons, rows=rows).subquery("b")


def double(value: float) -> Tree:
    """A number as a DOUBLE of the same bits."""
    return sql.cast(sql.text(repr(float(value))), "DOUBLE")
