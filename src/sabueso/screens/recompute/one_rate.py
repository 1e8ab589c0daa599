"""One multiple that nearly all amounts are of a number, with a least amount or without."""

from __future__ import annotations

from decimal import Decimal
from typing import NamedTuple

import numpy as np

from sabueso.screens.proposal import LEAST_OF_RULE
from sabueso.stats.additive import HOLDS, same_but_rounded

DIFFERENT, LEAST_DIFFERENT, MOST_ALIKE = 20, 5, 0.5
"""Different numbers of which an amount must be one multiple: of a few, such as days, where no more rows than such a share have
the same one."""
RATE_DECIMALS = range(7)
"""Decimals of a multiple: a tax of 8.875 percent has five."""
AS_GOOD = 0.002
"""Share of the rows by which one with fewer decimals may hold for less."""
FLOORED, LEAST_FLOORED = 0.02, 10
"""Share of the amounts, and how many, that are the least of all, from which that is a minimum."""
CLEAN = 0.98
"""Share of the rows from which a second amount is the same multiple by itself, and not by being mostly the first one."""


class OneRate(NamedTuple):
    """A multiple as it is written, the share of the rows seen that have it, and what is the least, where there is such."""

    text: str
    holds: float
    floor: float | None = None


def as_written(number: float, group: str = "") -> str:
    """A number in plain digits, as it stands in an expression; in groups of three with a comma as ``group``."""
    return format(Decimal(f"{number:.12g}").normalize(), f"{group}f")


def at_least(expression: str, floor: float | None) -> str:
    """An expression that is not below the least, where there is such."""
    return expression if floor is None else f"greatest({expression}, {floor:.15g})"


def floor_told(floor: float | None) -> str:
    """The least in words, after what it is the least of."""
    return "" if floor is None else f", at least {floor:.15g}"


def floor_of(own: np.ndarray) -> float | None:
    """The least amount above nothing, where so many rows have it that it is a minimum and no chance: of a charge."""
    some = own[own > 0]
    if not len(some):
        return None
    least = float(some.min())
    n = int((some == least).sum())
    return least if n >= max(LEAST_FLOORED, FLOORED * len(some)) and n < len(some) else None


def one_rate(
    own: np.ndarray,
    of: np.ndarray,
    scale: int,
    *,
    once: bool = False,
    least: int = LEAST_OF_RULE,
    different: int = DIFFERENT,
    floor: float | None = None,
) -> OneRate | None:
    """The multiple that nearly all rows with both have, by numbers that vary; None where there is none with six
    decimals or fewer, or it is one, unless ``once`` says that this is told by nothing else. It takes ``least`` rows, of so many
    ``different`` numbers; with a ``floor`` it is told by the rows above that, and the others have that."""
    known = ~(np.isnan(own) | np.isnan(of)) & (of != 0) & (own != 0)
    above = known if floor is None else known & (own > floor)
    if above.sum() < least or not _vary(of[above], different):
        return None
    # Of the largest rounding tells the least.
    large = above & (np.abs(of) >= np.median(np.abs(of[above])))
    near = float(np.median(own[large] / of[large]))
    rates = [rate for decimals in RATE_DECIMALS if (rate := round(near, decimals))]
    made = (of * rate if floor is None else np.maximum(of * rate, floor) for rate in rates)
    same = [float(same_but_rounded(own, each, scale)[known].mean()) for each in made]
    most = max(same, default=0.0)
    if most < HOLDS:
        return None
    rate, holds = next(pair for pair in zip(rates, same, strict=True) if pair[1] >= most - AS_GOOD)
    if abs(rate) == 1.0 and not once:
        return None
    return OneRate(as_written(rate), holds, floor)


def _vary(numbers: np.ndarray, different: int) -> bool:
    """Whether numbers are different enough that one multiple of them is a rate, and no amount that is always the same."""
    kinds, each = np.unique(numbers, return_counts=True)
    few = min(different, LEAST_DIFFERENT)
    return kinds.size >= different or (
        kinds.size >= few and each.max() <= MOST_ALIKE * len(numbers)
    )
