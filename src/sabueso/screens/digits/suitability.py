"""Is a population fit for a leading-digit test? Each doubt with its figure."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor, log10

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, money
from sabueso.screens import cautions
from sabueso.screens.finding import Caution
from sabueso.screens.grouping import UNITS
from sabueso.stats.quartiles import between

LEAST_ROWS = {
    "first": 300,
    "second": 300,
    "first-two": 1_000,
    "first-three": 10_000,
    "last-two": 1_000,
}


@dataclass(frozen=True)
class AmountFacts:
    """Figures of all amounts used, from the pass that counts the classes."""

    n: int
    size: int  # Σ|x|, in minor units
    negative: int
    fractional: int
    least: int
    greatest: int

    @classmethod
    def of(cls, classes: pa.Table) -> AmountFacts:
        """Added up over the classes of a digit test."""
        summed = [
            sum(int(v or 0) for v in classes.column(name).to_pylist())
            for name in ("n", "size", "negative", "fractional")
        ]
        ends = [
            pick(classes.column(name).to_pylist(), default=0)
            for pick, name in ((min, "least"), (max, "greatest"))
        ]
        return cls(*summed, *ends)


@dataclass(frozen=True)
class Amounts:
    """Rows with their units and sizes, or the distinct amounts standing for them, each with the
    count ``n`` of its rows."""

    source: exp.Expr
    distinct: bool

    def count(self, when: Tree | None = None) -> Tree:
        """Rows, maybe those that meet a condition; missing where there is none."""
        rows = exp.Sum(this=sql.column("n")) if self.distinct else sql.count()
        return rows if when is None else sql.only(rows, when)

    def sum(self, value: Tree) -> Tree:
        """Σ of whole numbers over the rows, exact."""
        if self.distinct:
            return sql.exact_weighted_sum(value, sql.column("n"))
        return sql.exact_sum(value)

    def facts(self, scale: int) -> dict[str, Tree]:
        """What :class:`AmountFacts` needs of each class."""
        units, size = sql.column(UNITS), sql.column("size")
        rest = exp.Mod(this=units, expression=sql.integer(10**scale))
        negative = exp.LT(this=units.copy(), expression=sql.integer(0))
        return {
            "n": self.count(),
            "size": self.sum(size),
            "negative": self.count(negative),
            "fractional": self.count(exp.NEQ(this=rest, expression=sql.integer(0))),
            "least": exp.Min(this=size.copy()),
            "greatest": exp.Max(this=size.copy()),
        }


STAGED = "_distinct_amounts"


def distinct_amounts(base: exp.Select) -> exp.Select:
    """Each amount of a base with its size and its count, to be staged as ``STAGED``.

    Most ledgers repeat their amounts many times over: what is asked of amounts is then asked of a
    small table.
    """
    units = sql.column(UNITS)
    each = exp.select(
        units,
        exp.alias_(sql.magnitude(units.copy()), "size", quoted=True),
        exp.alias_(sql.count(), "n", quoted=True),
    )
    return each.from_(base.subquery("b")).group_by(units.copy())


def digit_cautions(
    population: Population,
    measure: Column,
    base: exp.Select,
    account: Account,
    test: str,
    facts: AmountFacts,
    *,
    whole: bool = True,
) -> list[Caution]:
    """Cautions of a digit test on the rows used, ungrouped, with their amounts staged.

    Without ``whole`` the figures tested are made from the amounts, and only their number is judged.
    """
    found: list[Caution | None] = []
    if facts.n < LEAST_ROWS[test]:
        least = LEAST_ROWS[test]
        found.append(
            Caution(
                "too_few",
                f"{facts.n:,} rows are used; below {least:,} the {test} digits say little",
                {"n": facts.n, "least": least},
            )
        )
    if facts.n and whole:
        found += _from_amounts(population, measure, base, facts)
    found.append(cautions.many_zeros(account))
    return [caution for caution in found if caution is not None]


FEW_DISTINCT = 2_000_000
"""Distinct amounts up to which percentiles are counted along them, not taken from the rows."""


def _from_amounts(
    population: Population, measure: Column, base: exp.Select, facts: AmountFacts
) -> list[Caution | None]:
    n, scale = facts.n, measure.scale
    units, rows, size = sql.column(UNITS), sql.column("n"), sql.column("size")
    top = population.query(
        exp.select(units, rows)
        .from_(STAGED)
        .order_by(sql.ordered(rows.copy(), descending=True), sql.ordered(units.copy()))
        .limit(5)
    ).to_pylist()

    def rows_at(value: int) -> Tree:
        here = exp.EQ(this=size.copy(), expression=sql.integer(value))
        return sql.only(exp.Sum(this=rows.copy()), here)

    ends = population.query(
        exp.select(
            exp.alias_(exp.Count(this=exp.Distinct(expressions=[size])), "distinct_amounts"),
            exp.alias_(rows_at(facts.least), "at_least"),
            exp.alias_(rows_at(facts.greatest), "at_greatest"),
        ).from_(STAGED)
    ).to_pylist()[0]
    distinct = int(ends["distinct_amounts"])
    if distinct <= FEW_DISTINCT:
        low, median, high = _along_distinct(population, n)
    else:
        low, median, high = _from_rows(population, base)
    unit = 10**scale
    return [
        _narrow(float(low), float(high), unit),
        _not_skewed(facts.size / n, float(median), unit),
        _bounded(facts, int(ends["at_least"]), int(ends["at_greatest"]), scale),
        _assigned(facts, distinct, scale),
        _repeated(top, n, scale),
        cautions.mixed_signs(facts.negative, n, "look at each sign alone"),
    ]


SHARES = ("0.01", "0.5", "0.99")


def _along_distinct(population: Population, n: int) -> list[Fraction]:
    """Percentiles of |x|: order statistics found along the distinct sizes and their counts."""
    positions = [(n - 1) * Fraction(share) + 1 for share in SHARES]
    size, rows = sql.column("size"), sql.column("n")
    sizes = exp.select(size, exp.alias_(exp.Sum(this=rows), "n", quoted=True))
    sizes = sizes.from_(STAGED).group_by(size.copy())
    running = exp.Window(
        this=exp.Sum(this=rows.copy()), order=exp.Order(expressions=[sql.ordered(size.copy())])
    )
    counted = exp.select(size.copy(), exp.alias_(running, "upto", quoted=True))
    counted = counted.from_(sizes.subquery("s"))
    ranks = sorted({rank for p in positions for rank in (floor(p), ceil(p))})

    def at(rank: int) -> Tree:
        reached = exp.GTE(this=sql.column("upto"), expression=sql.integer(rank))
        return sql.only(exp.Min(this=size.copy()), reached)

    fields = [exp.alias_(at(rank), f"r{rank}", quoted=True) for rank in ranks]
    row = population.query(exp.select(*fields).from_(counted.subquery("c"))).to_pylist()[0]
    return [between(p, row[f"r{floor(p)}"], row[f"r{ceil(p)}"]) for p in positions]


def _from_rows(population: Population, base: exp.Select) -> list[Fraction]:
    size = sql.magnitude(sql.column(UNITS, "b"))
    select = exp.select(exp.alias_(sql.quantiles(size, SHARES), "q")).from_(base.subquery("b"))
    found = population.query(select).to_pylist()[0]["q"]
    return [sql.exact_quantile(q, share) for q, share in zip(found, SHARES, strict=True)]


def _narrow(low: float, high: float, unit: int) -> Caution | None:
    orders = log10(high / low) if low > 0 else np.inf
    if orders >= 2:
        return None
    return Caution(
        "narrow_range",
        f"the middle 98% of the amounts, {low / unit:,.2f} to {high / unit:,.2f}, span {orders:.1f} "
        "orders of magnitude; below 2 the digits need not follow the law",
        {"orders": orders, "p1": low / unit, "p99": high / unit},
    )


def _not_skewed(mean: float, median: float, unit: int) -> Caution | None:
    if mean > median:
        return None
    return Caution(
        "not_skewed",
        f"the mean {mean / unit:,.2f} is not above the median {median / unit:,.2f}; "
        "amounts that follow the law are skewed to the right",
        {"mean": mean / unit, "median": median / unit},
    )


def _bounded(facts: AmountFacts, at_least: int, at_greatest: int, scale: int) -> Caution | None:
    for side, count, size in (
        ("least", at_least, facts.least),
        ("greatest", at_greatest, facts.greatest),
    ):
        if count / facts.n > 0.05:
            return Caution(
                "bounded",
                f"{100 * count / facts.n:.1f}% of the rows are at the {side} amount, "
                f"{money(size, scale):,}: a floor or ceiling is built in",
                {"share": count / facts.n, "at": money(size, scale)},
            )
    return None


def _assigned(facts: AmountFacts, distinct: int, scale: int) -> Caution | None:
    step = 1 if facts.fractional else 10**scale
    span = (facts.greatest - facts.least) // step + 1
    if distinct < 0.95 * facts.n or distinct < 0.9 * span or facts.n < 10:
        return None
    return Caution(
        "assigned_numbers",
        f"{distinct:,} distinct amounts fill {100 * distinct / span:.0f}% of their range one by "
        "one: numbers that were assigned, not measured, are no population for leading digits",
        {"distinct": distinct, "span": span},
    )


def _repeated(top: list[dict[str, int]], n: int, scale: int) -> Caution | None:
    rows = sum(item["n"] for item in top)
    if rows / n <= 0.30:
        return None
    shown = ", ".join(f"{money(item[UNITS], scale):,}" for item in top)
    return Caution(
        "repeated_prices",
        f"{100 * rows / n:.1f}% of the rows are on {len(top)} amounts ({shown}): prices set by hand, "
        "not suitable for a leading-digit test",
        {"share": rows / n, "amounts": [money(item[UNITS], scale) for item in top]},
    )
