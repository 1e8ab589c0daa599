"""Decimal arithmetic without rounding: the digits of any amount and of any sum of amounts.

Python rounds every operation on decimals to 28 digits unless told otherwise. An amount here has up
to 38, a sum of them may need more before it is found too large.
"""

from __future__ import annotations

import decimal
from collections.abc import Callable
from functools import wraps
from typing import ParamSpec, TypeVar

from sabueso.base.errors import UserError

DIGITS = 38
"""The most that an amount or a sum may have: what every engine holds."""
_PRECISION = 2 * DIGITS + 1

P = ParamSpec("P")
R = TypeVar("R")


def use_exact_decimals() -> None:
    """Set this thread and those it starts to exact arithmetic: a program's own choice, at its start."""
    decimal.DefaultContext.prec = _PRECISION
    decimal.getcontext().prec = _PRECISION


def exactly(function: Callable[P, R]) -> Callable[P, R]:
    """Run a function under exact arithmetic, whatever the caller's is."""

    @wraps(function)
    def inner(*args: P.args, **kwargs: P.kwargs) -> R:
        with decimal.localcontext() as context:
            context.prec = max(context.prec, _PRECISION)
            return function(*args, **kwargs)

    return inner


def within_digits(value: decimal.Decimal, what: str) -> decimal.Decimal:
    """The value itself.

    Raises
    ------
    UserError
        If it has more digits than can be kept exact.
    """
    if len(value.as_tuple().digits) > DIGITS:
        raise UserError(
            f"{what} has more than {DIGITS} digits, and is not kept: it would be rounded"
        )
    return value
