"""What tests of cells share: who has too little to be compared, few others, and the figures of a flagged cell."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

import sqlglot.expressions as exp

from sabueso.base.plain import ByColumn, Cells
from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.report import numbers as num
from sabueso.report.blocks import Cell
from sabueso.screens.finding import Caution, NotTested

FEW_GROUPS = 3
"""Groups below which it is said that there are few others."""


def few_others(kept: int, groups: int) -> list[Caution]:
    """That few groups have enough to be compared with one another, where it is so."""
    if kept >= FEW_GROUPS:
        return []
    told = (
        f"{kept:,} of {groups:,} groups have rows enough: there are few others to be compared with"
    )
    return [Caution("too_few", told, {"groups": kept})]


def with_too_few(
    keys: Sequence[ByColumn],
    counts: Sequence[int],
    rows: Sequence[int],
    least: int,
    named: tuple[str, str],
) -> list[NotTested]:
    """Groups with fewer than ``least`` of what is counted, called so, one and several."""
    return [
        NotTested(key, num.too_few(int(count), least, *named), int(n))
        for key, count, n in zip(keys, counts, rows, strict=True)
        if count < least
    ]


def above_nothing(units: Tree) -> Tree:
    """Units where they are above nothing: both sides of an entry add to 0, and what is at stake is one of them."""
    zero = sql.integer(0)
    above = exp.GT(this=units, expression=zero)
    return exp.Case().when(above, units.copy()).else_(zero.copy())


def cell_figures(flag: Cells, scale: int) -> list[Cell]:
    """The amount of a flagged cell, its residual and adjusted p."""
    amount = flag["amount"]
    return [
        "–" if amount is None else num.amount(Decimal(amount), scale),
        num.signed(flag["score"], 1),
        num.p_value(flag["p_adjusted"]),
    ]
