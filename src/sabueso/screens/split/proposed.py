"""Limits that are proposed: those of the plan's facts, and round amounts below which there are too many."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import sqlglot.expressions as exp

from sabueso.base.plain import Cells
from sabueso.base.words import CalledSo
from sabueso.population import sql
from sabueso.population.population import Population, Reason, missing
from sabueso.population.table import Column
from sabueso.report import numbers as num
from sabueso.screens.proposal import LEAST_ROWS, Proposal, is_budget, settings_of
from sabueso.screens.split.looking import FROM, TO, excess_of

FIRST = ("1", "1.5", "2", "2.5", "3", "4", "5", "6", "7.5", "8")
SURELY = 1e-4
"""p, times the limits looked at, below which a round amount is taken for a limit."""
MAYBE, MOST_TRIED, SURELY_OF_ONE = 0.2, 5, 1e-6
"""p, of one round amount, from which it is asked whether somebody is behind what lies below it; how many are tried; and
the adjusted p below which somebody is."""
LEAST_BELOW, MOST_FEW = 10, 2
"""Amounts just below a round one from which it is asked who has them, where too few lie around it, and how many such are
tried."""
LOW = 950
"""Thousandths of a limit from which an amount is just below it: the test's own."""
LEAST_LIMIT = 100
"""Below it nothing is taken for a limit because of how many lie just below it in all."""
Flagged = Callable[[str], Iterable[Cells]]
_LIMIT = CalledSo(r"approv|aprob|limit|límit|umbral|threshold|autoriz|genehmig|freigabe")


def proposed_limits(population: Population, flagged: Flagged) -> Iterator[Proposal]:
    """A screen for each limit that the plan has among its facts; where it has none, for the round amount
    below which there are most too many, or somebody has.

    Parameters
    ----------
    flagged : callable
        What the test flags at a limit.
    """
    table = population.table
    measure = table.role("amount")
    if measure is None or is_budget(table) or population.account(None).used < LEAST_ROWS:
        return
    named = {
        name: value
        for name, value in table.facts.items()
        if _LIMIT.search(name) and isinstance(value, (int, float, Decimal)) and value > 0
    }
    by_whom = table.role("preparer") is not None
    if named and by_whom:
        for name, value in named.items():
            yield _proposal(table.name, f"facts.{name}", f"{name} of the plan, {value:,}")
        return
    found, few = _full(population, measure)
    if not by_whom:
        # A price may be just below a round amount; that no amount reaches one is a limit's doing.
        found, few = [each for each in found if each.unreached], []
    surely = next((each for each in found if each.limit >= LEAST_LIMIT), None)
    if surely is not None and surely.p < SURELY:
        each = surely
        below = _just_below(each.limit, unreached=each.unreached)
        told = f"{num.many(each.count, 'amount')} {below}, {each.expected:,.0f} expected"
        yield _proposal(table.name, str(each.limit), told)
        return
    # Small prices end just below round amounts: of them whoever enters rows tells, and not whoever is paid.
    asked = [each for each in found if by_whom or each.limit >= LEAST_LIMIT][:MOST_TRIED]
    likely = {each.limit: each.unreached for each in asked if each.alone < MAYBE}
    for limit in (*likely, *few):
        if (who := _somebody(flagged(str(limit)))) is not None:
            below = _just_below(limit, unreached=likely.get(limit, False))
            yield _proposal(table.name, str(limit), f"{who} {below}")
            return


def _just_below(limit: Decimal, *, unreached: bool) -> str:
    return f"just below {limit:,}{', which no amount reaches' if unreached else ''}"


@dataclass(frozen=True)
class _Limit:
    """A round amount, how many lie just below it and would be expected there, with the chance of so many: ``alone``, and
    times the amounts looked at; ``unreached`` where no amount is as large."""

    limit: Decimal
    count: int
    expected: float
    alone: float
    p: float
    unreached: bool = False


def _somebody(flags: Iterable[Cells]) -> str | None:
    """Whoever has most of what lies just below a limit, where chance gives nobody as much at any limit looked at."""
    sure = [f for f in flags if (f["p_adjusted"] is not None and f["p_adjusted"] < SURELY_OF_ONE)]
    if not sure:
        return None
    first = min(sure, key=lambda flag: float(flag["p_adjusted"]))
    name = " ".join(num.named(first["subject"]))
    return f"{num.many(first['rows'], 'amount')} of {name}"


def _proposal(table: str, limit: str, because: str) -> Proposal:
    return Proposal(
        f"{table} just under {limit}",
        settings_of(limit=limit),
        "Amounts that stay under a limit of approval, or pass it in pieces.",
        because,
    )


def _full(population: Population, measure: Column) -> tuple[list[_Limit], list[Decimal]]:
    """Round amounts with what lies just below them, the least likely first; and those with the most just below of which too
    few lie around to say how many are to be expected: somebody may have nearly all of these."""
    least, counts = _first_four(population, measure)
    if not len(least):
        return [], []
    # What all amounts stay under is a limit too.
    unit, largest = 10**measure.scale, int(least.max())
    limits = [
        limit
        for power in range(1, 8)
        for first in FIRST
        if (limit := Decimal(first).scaleb(power)) * unit * LOW <= largest * 1000
    ]
    found: list[_Limit] = []
    few: list[tuple[int, Decimal]] = []
    for limit in limits:
        part = least * 1000 // int(limit * unit)
        near = (part >= FROM) & (part < TO)
        around = np.bincount(part[near] - FROM, counts[near], TO - FROM).astype(np.int64)
        below = excess_of(around, LOW)
        plain = Decimal(format(limit.normalize(), "f"))
        if below is not None:
            p = below.p, below.p * len(limits)
            found.append(_Limit(plain, below.count, below.expected, *p, limit * unit > largest))
        elif (count := int(around[LOW - FROM : 1000 - FROM].sum())) >= LEAST_BELOW:
            few.append((count, plain))
    few.sort(key=lambda each: -each[0])
    return sorted(found, key=lambda each: each.p), [limit for _, limit in few[:MOST_FEW]]


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
