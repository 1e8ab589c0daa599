"""The limit that flags no more rows than can be reviewed, and the ladder of limits around it."""

from __future__ import annotations

from decimal import Decimal
from math import ceil

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import money
from sabueso.screens.finding import Aim, Rung
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.limits.scales import WORTH

AIM_STEPS = 10_000
"""A limit that is solved for is rounded up to this fraction: it can be written down and met again."""

_AROUND = ("0.5", "0.67", "0.8", "0.9", "1.1", "1.25", "1.5", "2")


def solved_limit(
    population: Population,
    base: exp.Select,
    grouping: Grouping,
    limits: pa.Table,
    side: str,
    capacity: int,
    scale: int,
) -> Aim:
    """The least limit that flags no more than a number of rows, and the ladder of limits around it.

    Parameters
    ----------
    base : Select
        With the units and ``worth``, the amount in minor units.
    limits : Table
        A :func:`limit_table`; its least and greatest are not used.
    capacity : int
        How many exceptions can be reviewed.
    scale : int
        Decimals of the amount.
    """
    value = sql.cast(sql.column(UNITS, "b"), "DOUBLE")
    above = exp.Sub(this=value, expression=sql.column("upper", "limits"))
    below = exp.Sub(this=sql.column("lower", "limits"), expression=value.copy())
    off: Tree = {
        "high": above,
        "low": below,
        "both": exp.Greatest(this=above, expressions=[below]),
    }[side]
    strength = exp.Div(this=exp.paren(off), expression=sql.column("unit", "limits"))
    inner = exp.select(exp.alias_(strength, "strength"), sql.column(WORTH, "b"))
    inner = inner.from_(base.subquery("b"))
    inner = inner.join("limits", on=grouping.join("b", "limits"), join_type="inner")
    rows = inner.subquery("r")
    far = sql.column("strength", "r")
    select = exp.select(far).from_(rows).order_by(sql.ordered(far.copy(), descending=True))
    found = population.query(select.limit(capacity + 1), limits=limits).column("strength")
    last = found[capacity].as_py() if len(found) > capacity else 0.0
    solved = Decimal(max(ceil(max(last, 0.0) * AIM_STEPS), 1)) / AIM_STEPS
    steps = sorted({solved, *(_rounded(solved * Decimal(factor)) for factor in _AROUND)})
    fields: list[Tree] = []
    for place, step in enumerate(steps):
        passed = exp.GT(this=far.copy(), expression=sql.number(step))
        worth = exp.Case().when(passed.copy(), sql.column(WORTH, "r"))
        fields += [
            exp.alias_(sql.only(sql.count(), passed), f"n{place}"),
            exp.alias_(sql.exact_sum(worth), f"t{place}"),
        ]
    counted = population.query(exp.select(*fields).from_(rows.copy()), limits=limits).to_pylist()[0]
    ladder = [
        Rung(step, counted[f"n{place}"], money(int(counted[f"t{place}"] or 0), scale))
        for place, step in enumerate(steps)
    ]
    return Aim(capacity, solved, ladder)


def _rounded(value: Decimal) -> Decimal:
    """Three significant digits."""
    return Decimal(f"{value:.3g}")
