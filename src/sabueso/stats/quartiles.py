"""Quartiles by three published rules, interquartile fences and the modified z-score."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor, lcm
from typing import Literal

QuartileRule = Literal["linear", "weibull", "hinges"]

# The normal quantile 0.75 to four places, and sqrt(π/2): they put the median absolute deviation
# and the mean absolute deviation on the scale of a standard deviation.
MEDIAN_CONSTANT = Fraction("0.6745")
MEAN_CONSTANT = Fraction("1.253314")


def quartile_positions(n: int, rule: QuartileRule) -> tuple[Fraction, Fraction, Fraction]:
    """Positions (from 1, maybe between two) of Q1, median and Q3 among n sorted values.

    ``linear`` is type 7 of Hyndman & Fan (1996), (n - 1)p + 1; ``weibull`` type 6, (n + 1)p held
    within 1 and n; ``hinges`` are Tukey's (1977): the medians of the two halves, the middle value
    belonging to both where n is odd.

    Raises
    ------
    ValueError
        If n < 1.

    Examples
    --------
    >>> [float(p) for p in quartile_positions(10, "linear")]
    [3.25, 5.5, 7.75]
    """
    if n < 1:
        raise ValueError("quartiles need at least one value")
    if rule == "hinges":
        depth = Fraction((n + 1) // 2 + 1, 2)
        return depth, Fraction(n + 1, 2), n + 1 - depth
    shares = (Fraction(1, 4), Fraction(1, 2), Fraction(3, 4))
    if rule == "linear":
        first, second, third = ((n - 1) * p + 1 for p in shares)
    else:
        first, second, third = (min(max((n + 1) * p, Fraction(1)), Fraction(n)) for p in shares)
    return first, second, third


def between(position: Fraction, lower: int, upper: int) -> Fraction:
    """The value at a position between the order statistics at its floor and its ceiling."""
    return lower + (position - floor(position)) * (upper - lower)


def in_units(value: Fraction, unit: int) -> float:
    """value / unit as the nearest float; a division of whole numbers, ten times as fast as of fractions."""
    return value.numerator / (value.denominator * unit)


@dataclass(frozen=True)
class Fences:
    """Fences in minor units, exact.

    ``low`` and ``high`` are the inner fences, ``outer_*`` the outer ones. ``least`` and
    ``greatest`` are the integers within the inner fences: an amount is flagged if and only if it
    is below the first or above the second.
    """

    q1: Fraction
    median: Fraction
    q3: Fraction
    low: Fraction
    high: Fraction
    outer_low: Fraction
    outer_high: Fraction
    least: int
    greatest: int

    @property
    def iqr(self) -> Fraction:
        return self.q3 - self.q1


def fences(
    q1: Fraction, median: Fraction, q3: Fraction, inner: Fraction, outer: Fraction, *, far: bool
) -> Fences:
    """Interquartile fences Q1 - k·IQR and Q3 + k·IQR.

    Parameters
    ----------
    q1, median, q3 : Fraction
        Quartiles in minor units.
    inner, outer : Fraction
        k of the inner and of the outer fences (Tukey: 1.5 and 3).
    far : bool
        If true, ``least`` and ``greatest`` belong to the outer fences.

    Raises
    ------
    ValueError
        If the quartiles are not ascending or the outer k is below the inner one.

    References
    ----------
    Tukey, J. W. (1977), Exploratory Data Analysis, chapter 2.
    """
    if not q1 <= median <= q3:
        raise ValueError("quartiles must ascend")
    if not 0 < inner <= outer:
        raise ValueError("the outer fences cannot lie inside the inner ones")
    # Whole numbers over one denominator: fractions would say the same several times as slowly.
    unit = lcm(q1.denominator, q3.denominator, inner.denominator, outer.denominator)
    first = q1.numerator * (unit // q1.denominator)
    third = q3.numerator * (unit // q3.denominator)

    def reach(k: Fraction) -> tuple[int, int]:
        """unit² times the lower and the upper fence."""
        by = k.numerator * (unit // k.denominator) * (third - first)
        return first * unit - by, third * unit + by

    square = unit * unit
    near, beyond = reach(inner), reach(outer)
    least, greatest = beyond if far else near
    low, high, outer_low, outer_high = (Fraction(end, square) for end in (*near, *beyond))
    return Fences(
        q1=q1, median=median, q3=q3, low=low, high=high, outer_low=outer_low, outer_high=outer_high,
        least=-(-least // square), greatest=greatest // square,
    )  # fmt: skip


def robust_unit(mad: Fraction, mean_deviation: Fraction) -> Fraction | None:
    """Length of one modified deviate: MAD/0.6745, or 1.253314·(mean absolute deviation) if MAD = 0.

    Returns None where both are 0: the group has no spread and cannot be tested.

    References
    ----------
    Iglewicz, B. and Hoaglin, D. C. (1993), How to Detect and Handle Outliers, ASQC.
    """
    if mad > 0:
        return mad / MEDIAN_CONSTANT
    if mean_deviation > 0:
        return mean_deviation * MEAN_CONSTANT
    return None


def centred_limits(centre: Fraction, unit: Fraction, limit: Fraction) -> tuple[int, int]:
    """Least and greatest integers within ``limit`` units of the centre, exactly."""
    return ceil(centre - limit * unit), floor(centre + limit * unit)
