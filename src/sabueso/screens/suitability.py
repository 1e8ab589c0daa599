"""Is a population fit for a leading-digit test? Each doubt with its figure."""

from __future__ import annotations

from math import log10

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Account, Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, money
from sabueso.screens import cautions
from sabueso.screens.grouping import UNITS
from sabueso.screens.interface import Caution

LEAST_ROWS = {
    "first": 300,
    "second": 300,
    "first-two": 1_000,
    "first-three": 10_000,
    "last-two": 1_000,
}


def digit_cautions(
    population: Population,
    measure: Column,
    base: exp.Select,
    account: Account,
    test: str,
    n: int,
) -> list[Caution]:
    """Cautions of a digit test on the rows used, ungrouped."""
    found: list[Caution | None] = []
    if n < LEAST_ROWS[test]:
        least = LEAST_ROWS[test]
        found.append(
            Caution(
                "too_few",
                f"{n:,} rows are used; below {least:,} the {test} digits say little",
                {"n": n, "least": least},
            )
        )
    if n:
        found += _from_amounts(population, measure, base, account, n)
    found.append(cautions.many_zeros(account))
    return [caution for caution in found if caution is not None]


def _from_amounts(
    population: Population, measure: Column, base: exp.Select, account: Account, n: int
) -> list[Caution | None]:
    size = sql.magnitude(sql.column(UNITS))
    distinct = exp.select(sql.column(UNITS), exp.alias_(size, "size"), exp.alias_(sql.count(), "n"))
    distinct = distinct.from_(base.subquery("b")).group_by(sql.column(UNITS))
    top = population.query(
        exp.select(sql.column(UNITS), sql.column("n"))
        .from_(distinct.subquery("d"))
        .order_by(sql.ordered(sql.column("n"), descending=True), sql.ordered(sql.column(UNITS)))
        .limit(5)
    ).to_pylist()
    rows, units, sizes = sql.column("n"), sql.column(UNITS), sql.column("size")
    whole = exp.EQ(
        this=exp.Mod(this=units, expression=sql.integer(10**measure.scale)),
        expression=sql.integer(0),
    )
    negative = exp.LT(this=units.copy(), expression=sql.integer(0))

    def total(when: Tree) -> Tree:
        return exp.Sum(this=exp.Case().when(when, rows.copy()).else_(sql.integer(0)))

    facts = population.query(
        exp.select(
            exp.alias_(sql.count(), "distinct_amounts"),
            exp.alias_(exp.Min(this=sizes), "least"),
            exp.alias_(exp.Max(this=sizes.copy()), "greatest"),
            exp.alias_(total(negative), "negative"),
            exp.alias_(total(exp.Not(this=exp.paren(whole))), "fractional"),
            exp.alias_(sql.call("ARG_MIN", rows.copy(), sizes.copy()), "at_least"),
            exp.alias_(sql.call("ARG_MAX", rows.copy(), sizes.copy()), "at_greatest"),
        ).from_(distinct.subquery("d"))
    ).to_pylist()[0]
    order = population.query(
        exp.select(
            exp.alias_(
                sql.quantiles(sql.magnitude(sql.column(UNITS, "b")), ["0.01", "0.5", "0.99"]), "q"
            ),
            exp.alias_(sql.exact_sum(sql.magnitude(sql.column(UNITS, "b"))), "total"),
        ).from_(base.subquery("b"))
    ).to_pylist()[0]
    low, median, high = order["q"]
    mean = int(order["total"]) / n
    unit = 10**measure.scale
    return [
        _narrow(low, high, unit),
        _not_skewed(mean, median, unit),
        _bounded(facts, n, measure.scale),
        _assigned(facts, n, measure.scale),
        _repeated(top, n, measure.scale),
        cautions.mixed_signs(int(facts["negative"]), account.used, "look at each sign alone"),
    ]


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


def _bounded(facts: dict[str, int], n: int, scale: int) -> Caution | None:
    for side, count, size in (
        ("least", facts["at_least"], facts["least"]),
        ("greatest", facts["at_greatest"], facts["greatest"]),
    ):
        if count / n > 0.05:
            return Caution(
                "bounded",
                f"{100 * count / n:.1f}% of the rows are at the {side} amount, "
                f"{money(size, scale):,}: a floor or ceiling is built in",
                {"share": count / n, "at": money(size, scale)},
            )
    return None


def _assigned(facts: dict[str, int], n: int, scale: int) -> Caution | None:
    step = 1 if facts["fractional"] else 10**scale
    span = (facts["greatest"] - facts["least"]) // step + 1
    distinct = facts["distinct_amounts"]
    if distinct < 0.95 * n or distinct < 0.9 * span or n < 10:
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
