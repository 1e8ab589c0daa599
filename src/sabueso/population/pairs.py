"""The correlation of every two measures, of all rows or within groups: exact sums, and ranks in the engine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn, Cells
from sabueso.population import expressions, sql
from sabueso.population.population import Population, missing
from sabueso.population.sql import Tree
from sabueso.population.table import Column
from sabueso.stats.adjust import adjust
from sabueso.stats.relation import correlation_p

MOST_RANKED = 2_000_000
"""Rows up to which ranks are taken: each needs all of them in order."""


@dataclass(frozen=True)
class Correlation:
    """Pearson's r of two measures over the rows that have both, with its p, raw and adjusted (Holm) over all
    pairs and groups; Spearman's rho of the same rows. None where one has no spread, or ``rho`` where there
    are too many rows to be ranked."""

    first: str
    second: str
    n: int
    r: float | None
    p: float | None = None
    p_adjusted: float | None = None
    rho: float | None = None
    group: ByColumn = field(default_factory=dict)


def correlations(
    population: Population, measures: Sequence[str], by: Sequence[str] = ()
) -> list[Correlation]:
    """r and rho of each pair in each group, from exact sums in one pass a pair.

    Raises
    ------
    UserError
        If there is no such column, or it holds no numbers.
    """
    table = population.table
    columns = [table.number(name) for name in measures]
    groups = {expressions.label(text, table): expressions.scalar(text, table) for text in by}
    found: list[Correlation] = []
    for i, a in enumerate(columns):
        for b in columns[i + 1 :]:
            found += _pair(population, a, b, groups)
    known = [each for each in found if each.p is not None]
    adjusted = iter(adjust([each.p for each in known if each.p is not None]) if known else ())
    return [
        each if each.p is None else replace(each, p_adjusted=float(next(adjusted)))
        for each in found
    ]


def _pair(
    population: Population, a: Column, b: Column, groups: dict[str, Tree]
) -> list[Correlation]:
    reasons = [missing(a), missing(b)]
    names = [f"g{i}" for i in range(len(groups))]
    values: dict[str, Tree] = {
        **dict(zip(names, (tree.copy() for tree in groups.values()), strict=True)),
        "x": sql.minor_units(a), "y": sql.minor_units(b),
    }  # fmt: skip
    base = population.base(values, reasons)
    rows = _summed(population, base, names, "x", "y")
    if sum(int(row["n"]) for row in rows) <= MOST_RANKED:
        ranks = {
            _key(row, names): row
            for row in _summed(population, _ranked(base, names), names, "x", "y")
        }
    else:
        ranks = {}
    found = []
    for row in rows:
        r = _r(row)
        n = int(row["n"])
        ranked = ranks.get(_key(row, names))
        found.append(
            Correlation(
                a.name, b.name, n, r,
                None if r is None or n < 3 else correlation_p(r, n),
                None, None if ranked is None else _r(ranked),
                dict(zip(groups, _key(row, names), strict=True)),
            )
        )  # fmt: skip
    return found


def _key(row: Cells, names: Sequence[str]) -> tuple[object, ...]:
    return tuple(row[name] for name in names)


def _ranked(base: exp.Select, names: Sequence[str]) -> exp.Select:
    """Twice the mean rank of each value within its group, less 1: whole numbers."""
    part = [sql.column(name, "b") for name in names]

    def ranks(name: str) -> Tree:
        order = exp.Order(expressions=[sql.ordered(sql.column(name, "b"))])
        place = exp.Window(
            this=exp.Anonymous(this="RANK"), partition_by=[c.copy() for c in part], order=order
        )
        alike = exp.Window(
            this=sql.count(), partition_by=[*(c.copy() for c in part), sql.column(name, "b")]
        )
        twice = exp.Add(
            this=exp.Mul(this=sql.cast(place, "BIGINT"), expression=sql.integer(2)),
            expression=sql.cast(alike, "BIGINT"),
        )
        return exp.alias_(sql.cast(exp.paren(twice), "BIGINT"), name, quoted=True)

    return exp.select(*(c.copy() for c in part), ranks("x"), ranks("y")).from_(base.subquery("b"))


def _summed(
    population: Population, base: exp.Select, names: Sequence[str], first: str, second: str
) -> list[Cells]:
    x, y = sql.column(first, "b"), sql.column(second, "b")
    fields = {
        "n": sql.count(),
        "sx": sql.exact_sum(x),
        "sy": sql.exact_sum(y),
        "xx": sql.exact_square_sum(x.copy()),
        "yy": sql.exact_square_sum(y.copy()),
        "xy": sql.exact_product_sum(x.copy(), y.copy()),
    }
    keys = [sql.column(name, "b") for name in names]
    named = [exp.alias_(tree, name, quoted=True) for name, tree in fields.items()]
    select = exp.select(*keys, *named).from_(base.subquery("b"))
    if keys:
        select = select.group_by(*(key.copy() for key in keys))
        select = select.order_by(*(sql.ordered(key.copy()) for key in keys))
    return population.query(select).to_pylist()


def _r(row: Cells) -> float | None:
    """Pearson's r from exact sums."""
    n, sx, sy, sxx, syy, sxy = (int(row[name] or 0) for name in ("n", "sx", "sy", "xx", "yy", "xy"))
    spread = (n * sxx - sx * sx) * (n * syy - sy * sy)
    return max(-1.0, min(1.0, (n * sxy - sx * sy) / spread**0.5)) if spread > 0 else None
