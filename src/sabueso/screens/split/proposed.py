"""Limits that are proposed: those of the plan's facts, and round amounts below which there are too many."""

from __future__ import annotations

import re
from collections.abc import Iterator
from decimal import Decimal

import numpy as np
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population, Reason, missing
from sabueso.population.table import Column
from sabueso.report import numbers as num
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.split.looking import FROM, TO, excess_of

FIRST = ("1", "1.5", "2", "2.5", "3", "4", "5", "6", "7.5", "8")
SURELY = 1e-4
"""p, times the limits looked at, below which a round amount is taken for a limit."""
_LIMIT = re.compile(r"approv|aprob|limit|límit|umbral|threshold|autoriz|genehmig|freigabe", re.I)


def proposed_limits(population: Population) -> Iterator[Proposal]:
    """A screen for each limit that the plan has among its facts; where it has none, for the round amount
    below which there are most too many."""
    table = population.table
    measure = table.role("amount")
    if measure is None or is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    named = {
        name: value
        for name, value in table.facts.items()
        if _LIMIT.search(name) and isinstance(value, (int, float, Decimal)) and value > 0
    }
    for name, value in named.items():
        yield _proposal(table.name, f"facts.{name}", f"{name} of the plan, {value:,}")
    if named:
        return
    found = _fullest(population, measure)
    if found is not None:
        limit, count, expected = found
        yield _proposal(
            table.name,
            str(limit),
            f"{num.many(count, 'amount')} just below {limit:,}, {expected:,.0f} expected",
        )


def _proposal(table: str, limit: str, because: str) -> Proposal:
    return Proposal(
        f"{table} just under {limit}",
        settings_of(limit=limit),
        "Amounts that stay under a limit of approval, or pass it in pieces.",
        because,
    )


def _fullest(population: Population, measure: Column) -> tuple[Decimal, int, float] | None:
    """The round amount with the least likely excess below it."""
    least, counts = _first_four(population, measure)
    if not len(least):
        return None
    unit, largest = 10**measure.scale, int(least.max())
    limits = [
        limit
        for power in range(2, 8)
        for first in FIRST
        if (limit := Decimal(first).scaleb(power)) * unit <= largest
    ]
    best: tuple[float, Decimal, int, float] | None = None
    for limit in limits:
        part = least * 1000 // int(limit * unit)
        near = (part >= FROM) & (part < TO)
        around = np.bincount(part[near] - FROM, counts[near], TO - FROM).astype(np.int64)
        below = excess_of(around, 950)
        if below is None or below.p * len(limits) >= SURELY:
            continue
        if best is None or below.p < best[0]:
            best = below.p, Decimal(format(limit.normalize(), "f")), below.count, below.expected
    return None if best is None else best[1:]


def _first_four(population: Population, measure: Column) -> tuple[np.ndarray, np.ndarray]:
    """Positive amounts by their first four digits: the least amount of each such class, and its rows."""
    units = sql.minor_units(measure)
    positive = exp.GT(this=sql.column(measure.name), expression=sql.integer(0))
    text = sql.cast(units, "TEXT")
    values: dict[str, exp.Expr] = {
        "digits": sql.call("LENGTH", text),
        "first": sql.call("SUBSTR", text.copy(), sql.integer(1), sql.integer(4)),
    }
    base = population.base(
        values, [missing(measure), Reason("not_positive", exp.Not(this=positive))]
    )
    keys = [sql.column("digits", "b"), sql.column("first", "b")]
    select = exp.select(*keys, exp.alias_(sql.count(), "n")).from_(base.subquery("b"))
    found = population.query(select.group_by(*(key.copy() for key in keys))).to_pylist()
    least = [int(row["first"]) * 10 ** max(int(row["digits"]) - 4, 0) for row in found]
    return np.array(least, dtype=np.int64), np.array([row["n"] for row in found], dtype=np.int64)
