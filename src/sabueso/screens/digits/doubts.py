"""Is each population of a digit test fit for it? The whole, or group by group."""

from __future__ import annotations

from typing import Any

import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn
from sabueso.population import sql
from sabueso.population.population import Account, Population
from sabueso.population.table import Column
from sabueso.report.numbers import group_name
from sabueso.screens import cautions
from sabueso.screens import grouping as grp
from sabueso.screens.digits import suitability as fit
from sabueso.screens.digits.classes import Counted
from sabueso.screens.finding import Caution
from sabueso.screens.grouping import UNITS, Grouping

SHARES = ("0.01", "0.05", "0.5", "0.95", "0.99")
FEW_ROWS = 2_000_000
"""Rows up to which the amounts of each group are counted one by one."""


def digit_cautions(
    population: Population,
    measure: Column,
    base: exp.Select,
    groups: Grouping,
    account: Account,
    test: str,
    counted: Counted,
    *,
    whole: bool = True,
) -> list[Caution]:
    """Cautions of a digit test on the rows used, with their distinct amounts staged.

    With groups each caution is judged in every group and told with the number of groups that it
    holds for. Without ``whole`` the figures tested are made from the amounts, and only their number
    is judged.
    """
    found: list[Caution | None] = []
    if groups.labels:
        found += _of_groups(population, measure, base, groups, test, counted, whole=whole)
    elif counted.facts:
        (facts,) = counted.facts
        found.append(fit.few_rows(facts.n, test))
        if whole:
            found += fit.of_amounts(population, measure, base, facts)
        else:
            found.append(fit.coarse_steps(facts, measure.scale))
    else:
        found.append(fit.few_rows(0, test))
    found.append(cautions.many_zeros(account))
    return [caution for caution in found if caution is not None]


def _of_groups(
    population: Population,
    measure: Column,
    base: exp.Select,
    groups: Grouping,
    test: str,
    counted: Counted,
    *,
    whole: bool,
) -> list[Caution]:
    """Each caution that holds for some groups, once, with their number and one of them."""
    facts = [counted.facts[i] for i in counted.tested.tolist()]
    used = sum(f.n for f in counted.facts)
    judged: list[list[Caution | None]] = [[fit.few_rows(f.n, test)] for f in facts]
    if not whole:
        for f, own in zip(facts, judged, strict=True):
            own.append(fit.coarse_steps(f, measure.scale))
    if whole and facts:
        quantiles = _quantiles(population, base, groups, used)
        repeats = _repeats(population, base, groups) if used <= FEW_ROWS else {}
        for key, f, own in zip(counted.keys, facts, judged, strict=True):
            at = tuple(key.values())
            low, twentieth, median, last, high = quantiles[at]
            own += fit.judged(f, low, median, high, measure.scale)
            # A twentieth of the rows at an end is told by the percentile there.
            ends = (
                fit.LEAST_BOUNDED if twentieth <= f.least else 0.0,
                fit.LEAST_BOUNDED if last >= f.greatest else 0.0,
            )
            if f.least < f.greatest:
                own.append(fit.bounded(f, *ends, measure.scale))
            if at in repeats:
                distinct, rows = repeats[at]
                own.append(fit.assigned(f, distinct, measure.scale))
                own.append(fit.repeated(rows, f.n, "5 amounts"))
    told: dict[str, list[tuple[ByColumn, Caution]]] = {}
    for key, own in zip(counted.keys, judged, strict=True):
        for caution in own:
            if caution is not None:
                told.setdefault(caution.code, []).append((key, caution))
    return [_together(code, cases, len(facts)) for code, cases in told.items()]


def _together(code: str, cases: list[tuple[ByColumn, Caution]], groups: int) -> Caution:
    key, first = cases[0]
    text = f"in {len(cases):,} of {groups:,} groups, as in {group_name(key)}: {first.text}"
    return Caution(code, text, {"groups": len(cases), "of": groups, **first.figures})


def _quantiles(
    population: Population, base: exp.Select, groups: Grouping, used: int
) -> dict[tuple[Any, ...], list[float]]:
    """Percentiles of |x| by group, in minor units."""
    size = sql.magnitude(sql.column(UNITS, "b"))
    found = grp.order_statistics(population, base, groups, {"q": sql.quantiles(size, SHARES)}, used)
    return {
        tuple(key.values()): row
        for key, row in zip(groups.keys(found), found.column("q").to_pylist(), strict=True)
    }


def _repeats(
    population: Population, base: exp.Select, groups: Grouping
) -> dict[tuple[Any, ...], tuple[int, int]]:
    """By group, how many distinct amounts it has, and the rows on its five most frequent."""
    names = [sql.column(name, "d") for name in groups.names]
    place = exp.Window(
        this=exp.RowNumber(),
        partition_by=[name.copy() for name in names],
        order=exp.Order(
            expressions=[
                sql.ordered(sql.column("n", "d"), descending=True),
                sql.ordered(sql.column(UNITS, "d")),
            ]
        ),
    )
    ranked = exp.select(*names, sql.column("n", "d"), exp.alias_(place, "place", quoted=True))
    ranked = ranked.from_(grp.distinct_units(base, groups).subquery("d"))
    first = exp.LTE(this=sql.column("place"), expression=sql.integer(5))
    fields = {
        "distinct": sql.count(),
        "rows": sql.only(exp.Sum(this=sql.column("n")), first),
    }
    found = population.query(grp.per_group(ranked, groups, fields))
    counts = zip(
        groups.keys(found),
        grp.integers(found, "distinct"),
        grp.integers(found, "rows"),
        strict=True,
    )
    return {tuple(key.values()): (distinct, rows) for key, distinct, rows in counts}
