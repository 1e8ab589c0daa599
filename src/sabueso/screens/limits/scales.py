"""The scale a limit is set on: the amount itself, or its signed logarithm."""

from __future__ import annotations

from math import copysign

from sabueso.population import sql
from sabueso.population.sql import Tree
from sabueso.population.table import Column

LOG_SCALE = 9  # decimals that log10 values are rounded to, so that their sums are exact


def scaled_units(measure: Column, scale: str) -> Tree:
    """The measure in minor units, or its log scale in steps of 10^-9."""
    if scale == "amount":
        return sql.minor_units(measure)
    return sql.log_units(sql.column(measure.name), LOG_SCALE)


def amount_of(logarithm: float) -> float | None:
    """The amount at a point of the log scale, or None beyond what a float holds."""
    if abs(logarithm) > 300:
        return None
    return copysign(10 ** abs(logarithm) - 1, logarithm)
