"""Is a population fit for a leading-digit test? Each doubt with its figure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor, log10

import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, Reason
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
    hundreds: int  # minor units that end in 00
    whole_hundreds: int  # whole amounts that end in 00
    below_hundred: int  # sizes below 100 minor units
    least: int
    greatest: int


_SUMMED = (
    "n", "size", "negative", "fractional", "hundreds", "whole_hundreds", "below_hundred",
)  # fmt: skip


def facts_of_groups(classes: pa.Table, starts: np.ndarray) -> list[AmountFacts]:
    """Facts of each group, added up over its classes, which begin at ``starts``."""
    if not classes.num_rows:
        return []
    summed = [
        np.add.reduceat(
            np.array([int(v or 0) for v in classes.column(c).to_pylist()], object), starts
        )
        for c in _SUMMED
    ]
    ends = [
        pick.reduceat(np.array(classes.column(c).to_pylist(), object), starts)
        for pick, c in ((np.minimum, "least"), (np.maximum, "greatest"))
    ]
    return [AmountFacts(*map(int, row)) for row in zip(*summed, *ends, strict=True)]


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
            "hundreds": self.count(_ends_in(size, 100)),
            "whole_hundreds": self.count(_ends_in(size, 100 * 10**scale)),
            "below_hundred": self.count(exp.LT(this=size.copy(), expression=sql.integer(100))),
            "least": exp.Min(this=size.copy()),
            "greatest": exp.Max(this=size.copy()),
        }


def _ends_in(size: Tree, divisor: int) -> Tree:
    rest = exp.Mod(this=size.copy(), expression=sql.integer(divisor))
    return exp.EQ(this=rest, expression=sql.integer(0))


STAGED = "_distinct_amounts"


def distinct_amounts(
    population: Population, measure: Column, reasons: Sequence[Reason]
) -> exp.Select:
    """Each amount of the rows used with its size and its count, to be staged as ``STAGED``.

    Most ledgers repeat their amounts many times over: what is asked of amounts is then asked of a
    small table.
    """
    units, rows = exp.alias_(sql.minor_units(measure), UNITS, quoted=True), sql.column("n")
    each = exp.select(units, rows).from_(population.distinct(measure, reasons).subquery("d"))
    return _sized(rows).from_(each.subquery("b"))


def distinct_differences(base: exp.Select) -> exp.Select:
    """The same of each difference of a base."""
    return _sized(sql.count()).from_(base.subquery("b")).group_by(sql.column(UNITS))


def _sized(rows: Tree) -> exp.Select:
    units = sql.column(UNITS)
    size = exp.alias_(sql.magnitude(units.copy()), "size", quoted=True)
    return exp.select(units, size, exp.alias_(rows.copy(), "n", quoted=True))


def few_rows(n: int, test: str) -> Caution | None:
    """Fewer rows than the digits need."""
    least = LEAST_ROWS[test]
    if n >= least:
        return None
    text = f"{n:,} rows are used; below {least:,} the {test} digits say little"
    return Caution("too_few", text, {"n": n, "least": least})


LEAST_BOUNDED = 0.0501
"""The share at an end that is known to be more than a twentieth, and no more than that."""
FEW_DISTINCT = 2_000_000
"""Distinct amounts up to which percentiles are counted along them, not taken from the rows."""


def coarse_steps(facts: AmountFacts, scale: int) -> Caution | None:
    """Differences that are small whole numbers of minor units follow no law of significands."""
    share = facts.below_hundred / facts.n if facts.n else 0
    if share <= 0.10:
        return None
    return Caution(
        "coarse_steps",
        f"{100 * share:.1f}% of the differences are below {money(100, scale):,}: their digits are those of "
        "small whole numbers, and need not follow the law",
        {"share": share},
    )


def of_amounts(
    population: Population, measure: Column, base: exp.Select, facts: AmountFacts
) -> list[Caution | None]:
    """Cautions of the rows used as one group, with their amounts staged."""
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

    # Of amounts of one sign each has a size of its own.
    one_sign = facts.negative in (0, n)
    sizes = sql.count() if one_sign else exp.Count(this=exp.Distinct(expressions=[size]))
    ends = population.query(
        exp.select(
            exp.alias_(sizes, "distinct_amounts"),
            exp.alias_(rows_at(facts.least), "at_least"),
            exp.alias_(rows_at(facts.greatest), "at_greatest"),
        ).from_(STAGED)
    ).to_pylist()[0]
    distinct = int(ends["distinct_amounts"])
    if distinct <= FEW_DISTINCT:
        low, median, high = _along_distinct(population, n)
    else:
        low, median, high = _from_rows(population, base)
    at_least, at_greatest = int(ends["at_least"]), int(ends["at_greatest"])
    shown = ", ".join(f"{money(item[UNITS], scale):,}" for item in top)
    return [
        *judged(facts, float(low), float(median), float(high), scale),
        bounded(facts, at_least / n, at_greatest / n, scale),
        assigned(facts, distinct, scale),
        repeated(sum(item["n"] for item in top), n, f"{len(top)} amounts ({shown})"),
    ]


def judged(
    facts: AmountFacts, low: float, median: float, high: float, scale: int
) -> list[Caution | None]:
    """Cautions that the facts and three percentiles of |x| (1st, 50th, 99th, in minor units) tell."""
    unit = 10**scale
    return [
        _narrow(low, high, unit),
        _not_skewed(facts.size / facts.n, median, unit),
        _truncated(facts, low, high, scale),
        _rounded(facts),
        cautions.mixed_signs(facts.negative, facts.n, "look at each sign alone"),
    ]


SHARES = ("0.01", "0.5", "0.99")


def _along_distinct(population: Population, n: int) -> list[Fraction]:
    """Percentiles of |x|: order statistics found along the distinct amounts and their counts."""
    found = population.query(exp.select(sql.column("size"), sql.column("n")).from_(STAGED))
    size, rows = (found.column(name).to_numpy() for name in ("size", "n"))
    order = np.argsort(size)
    size, upto = size[order], np.cumsum(rows[order])

    def at(rank: int) -> int:
        return int(size[np.searchsorted(upto, rank)])

    positions = [(n - 1) * Fraction(share) + 1 for share in SHARES]
    return [between(p, at(floor(p)), at(ceil(p))) for p in positions]


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


def _share(share: float) -> str:
    return "at least 5%" if share == LEAST_BOUNDED else f"{100 * share:.1f}%"


def bounded(facts: AmountFacts, at_least: float, at_greatest: float, scale: int) -> Caution | None:
    """More than 5 % of the rows at the very least or greatest amount."""
    for side, share, size in (
        ("least", at_least, facts.least),
        ("greatest", at_greatest, facts.greatest),
    ):
        if share > 0.05:
            return Caution(
                "bounded",
                f"{_share(share)} of the rows are at the {side} amount, "
                f"{money(size, scale):,}: a floor or ceiling is built in",
                {"share": share, "at": money(size, scale)},
            )
    return None


def assigned(facts: AmountFacts, distinct: int, scale: int) -> Caution | None:
    """Distinct amounts that fill their range one by one."""
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


def repeated(rows: int, n: int, amounts: str) -> Caution | None:
    """More than 30 % of the rows on five amounts."""
    if rows / n <= 0.30:
        return None
    return Caution(
        "repeated_prices",
        f"{100 * rows / n:.1f}% of the rows are on {amounts}: prices set by hand, not suitable for a "
        "leading-digit test",
        {"share": rows / n},
    )


MANY_ENOUGH = 500
"""Rows from which the outermost hundredth says something of an end."""


def _truncated(facts: AmountFacts, low: float, high: float, scale: int) -> Caution | None:
    """Cut off within a decade: the outermost 1 % lie within a tenth of an order of magnitude.

    An end at a power of ten leaves every class whole.
    """
    if facts.n < MANY_ENOUGH:
        return None
    for side, end, inner in (("least", facts.least, low), ("greatest", facts.greatest, high)):
        if not end or not inner or abs(log10(inner / end)) >= 0.1:
            continue
        # Of a unit that is no power of ten the digits are the same.
        place = log10(end) % 1
        if 0.02 < place < 0.98:
            edge, near = f"{money(end, scale):,}", f"{inner / 10**scale:,.2f}"
            return Caution(
                "truncated",
                f"the {'smallest' if side == 'least' else 'largest'} 1% of the amounts lie between {near} "
                f"and {edge}: the population is cut off at {edge}, within a decade, and need not follow "
                "the law",
                {"at": money(end, scale), "inner": inner / 10**scale},
            )
    return None


def _rounded(facts: AmountFacts) -> Caution | None:
    """More than 10 % of the amounts end in 00, where one in a hundred is to be expected."""
    ended = facts.hundreds if facts.fractional else facts.whole_hundreds
    share = ended / facts.n
    if share <= 0.10:
        return None
    return Caution(
        "rounded",
        f"{100 * share:.1f}% of the amounts end in 00{'' if facts.fractional else ' before the point'}, "
        "where 1% is to be expected: amounts that were rounded or set by hand need not follow the law",
        {"share": share},
    )
