"""Instalments of a loan from its terms, and any one of the terms from the instalments."""

from __future__ import annotations

import itertools
from calendar import monthrange
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import ROUND_HALF_EVEN, Context, Decimal, localcontext
from typing import Literal

DIGITS = 50
HIGHEST_RATE = 10.0
"""The largest yearly rate that is looked for: 1,000 %."""
MOST_PERIODS = 1200
NEAR = Decimal("0.001")
"""Part of a payment by which that of a whole number of periods may differ from it."""
Due = Literal["end", "begin"]
DayCount = Literal["30/360", "actual/365", "actual/360"]


@dataclass(frozen=True)
class Terms:
    """What a loan was agreed at; the one that is None is solved for.

    ``rate`` is the nominal rate of a year, ``per_year`` how many instalments one has (it divides 12),
    ``first`` when the first is due, ``grace`` how many at the beginning are of interest alone, ``balloon``
    what is left after the last. ``day_count`` says what part of the yearly rate a period bears: even
    parts, or its days over 365 or 360.
    """

    principal: Decimal | None
    rate: Decimal | None
    periods: int | None
    payment: Decimal | None
    first: date
    per_year: int = 12
    due: Due = "end"
    grace: int = 0
    balloon: Decimal = Decimal(0)
    day_count: DayCount = "30/360"


@dataclass(frozen=True)
class Instalment:
    """One instalment: its number from 1, when it is due, what it is, the interest in it, and what is owed
    after it."""

    number: int
    due: date
    payment: Decimal
    interest: Decimal
    balance: Decimal


def due_dates(first: date, periods: int, per_year: int) -> list[date]:
    """Dates so many months apart; the end of a month stays one.

    Examples
    --------
    >>> [d.isoformat() for d in due_dates(date(2024, 1, 31), 3, 12)]
    ['2024-01-31', '2024-02-29', '2024-03-31']
    """
    if 12 % per_year:
        raise ValueError(f"{per_year} instalments a year: expected a divisor of 12")
    last_day = first.day == monthrange(first.year, first.month)[1]
    found = []
    for k in range(periods):
        months = first.year * 12 + first.month - 1 + k * (12 // per_year)
        year, month = divmod(months, 12)
        days = monthrange(year, month + 1)[1]
        found.append(date(year, month + 1, days if last_day else min(first.day, days)))
    return found


def _growth(terms: Terms, rate: Decimal, periods: int) -> list[Decimal]:
    """By what each period makes what is owed grow."""
    if terms.day_count == "30/360":
        return [1 + rate / terms.per_year] * periods
    basis = Decimal(terms.day_count.partition("/")[2])
    dates = due_dates(terms.first, periods, terms.per_year)
    step = 12 // terms.per_year
    before = due_dates(_months_back(terms.first, step), 1, terms.per_year)[0]
    return [
        1 + rate * Decimal((day - earlier).days) / basis
        for earlier, day in zip([before, *dates[:-1]], dates, strict=True)
    ]


def _months_back(day: date, months: int) -> date:
    index = day.year * 12 + day.month - 1 - months
    year, month = divmod(index, 12)
    last = monthrange(year, month + 1)[1]
    end = day.day == monthrange(day.year, day.month)[1]
    return date(year, month + 1, last if end else min(day.day, last))


def _sums(terms: Terms, rate: Decimal, periods: int) -> tuple[Decimal, Decimal]:
    """What one unit of principal grows to over the periods that repay, and what one unit of each
    instalment does."""
    growth = _growth(terms, rate, periods)[terms.grace :]
    whole, paid = Decimal(1), Decimal(0)
    for g in growth:
        whole *= g
        paid = paid * g + (g if terms.due == "begin" else 1)
    return whole, paid


def level_payment(terms: Terms) -> Decimal:
    """The constant instalment, not rounded: (P Π − B) / Σ, Π and Σ what principal and instalments grow to.

    With even periods and nothing special this is P i / (1 − (1 + i)^−n), and P / n at no interest.

    Raises
    ------
    ValueError
        If principal, rate or periods is not given.

    Examples
    --------
    >>> terms = Terms(Decimal(1000), Decimal("0.12"), 12, None, date(2024, 1, 31))
    >>> round(level_payment(terms), 10)
    Decimal('88.8487886783')
    """
    if terms.principal is None or terms.rate is None or terms.periods is None:
        raise ValueError("principal, rate and periods are needed")
    with localcontext(Context(prec=DIGITS)):
        whole, paid = _sums(terms, terms.rate, terms.periods)
        return (terms.principal * whole - terms.balloon) / paid


def schedule(terms: Terms, unit: Decimal) -> list[Instalment]:
    """Every instalment of terms that are all known, in whole minor units; interest is rounded half to even.

    The last leaves what rounding left: ``balance`` of it is that beside the balloon.
    """
    payment = terms.payment if terms.payment is not None else level_payment(terms)
    assert terms.principal is not None and terms.rate is not None and terms.periods is not None
    with localcontext(Context(prec=DIGITS)):
        payment = payment.quantize(unit, ROUND_HALF_EVEN)
        owed, found = terms.principal, []
        growth = _growth(terms, terms.rate, terms.periods)
        dates = due_dates(terms.first, terms.periods, terms.per_year)
        for number, (day, g) in enumerate(zip(dates, growth, strict=True), 1):
            base = owed - payment if terms.due == "begin" and number > terms.grace else owed
            interest = (base * (g - 1)).quantize(unit, ROUND_HALF_EVEN)
            paid = interest if number <= terms.grace else payment
            owed = owed + interest - paid
            found.append(Instalment(number, day, paid, interest, owed))
        return found


def solve(terms: Terms, payment: Decimal) -> Terms:
    """The terms with the one that is missing such that the instalment is ``payment``.

    Raises
    ------
    ValueError
        If more than one of principal, rate and periods is missing, or nothing explains the payment.
    """
    missing = [name for name in ("principal", "rate", "periods") if getattr(terms, name) is None]
    if len(missing) > 1:
        raise ValueError(f"{' and '.join(missing)} are missing: one can be solved for")
    if not missing:
        return replace(terms, payment=payment)
    if missing == ["principal"]:
        assert terms.rate is not None and terms.periods is not None
        with localcontext(Context(prec=DIGITS)):
            whole, paid = _sums(terms, terms.rate, terms.periods)
            return replace(terms, principal=(payment * paid + terms.balloon) / whole)
    if missing == ["rate"]:
        return replace(terms, rate=_rate(terms, payment))
    return replace(terms, periods=_periods(terms, payment))


def _rate(terms: Terms, payment: Decimal) -> Decimal:
    def off(rate: float) -> float:
        return float(level_payment(replace(terms, rate=Decimal(rate))) - payment)

    low, high = 0.0, 0.01
    if off(low) > 1e-12 * float(payment):
        raise ValueError("the payments seen do not even repay the principal: no rate explains them")
    if abs(off(low)) <= 1e-12 * float(payment):
        return Decimal(0)
    while off(high) < 0:
        high *= 2
        if high > HIGHEST_RATE:
            raise ValueError("no rate up to 1,000 % explains the payments seen")
    # Only here, where a rate is solved for: loading it takes half a second.
    from scipy.optimize import brentq

    return Decimal(brentq(off, low, high, xtol=1e-15, rtol=1e-14))


def _periods(terms: Terms, payment: Decimal) -> int:
    """The whole number of periods whose instalment is nearest; instalments fall as periods grow."""
    best: tuple[Decimal, int] | None = None
    for n in range(terms.grace + 1, MOST_PERIODS + 1):
        off = level_payment(replace(terms, periods=n)) - payment
        if best is None or abs(off) < best[0]:
            best = abs(off), n
        if off < 0:
            break
    else:
        raise ValueError(
            f"the payments seen do not repay the principal in {MOST_PERIODS:,} periods"
        )
    assert best is not None
    off, n = best
    if off > NEAR * payment:
        nearest = level_payment(replace(terms, periods=n))
        raise ValueError(
            f"no whole number of periods explains the payments seen, {payment:,}; the nearest, {n:,}, has instalments of "
            f"{nearest:,.2f}"
        )
    return n


def sign_changes(flows: Sequence[Decimal]) -> int:
    """How often the sign of what is paid changes: with more than once several rates may explain it
    (Descartes' rule).

    Examples
    --------
    >>> sign_changes([Decimal(-100), Decimal(60), Decimal(0), Decimal(60)])
    1
    """
    signs = [flow > 0 for flow in flows if flow]
    return sum(a != b for a, b in itertools.pairwise(signs))


def nearest_due(days: Sequence[date], dues: Sequence[date]) -> list[int | None]:
    """Which instalment each payment is of: the one whose date is nearest; None beyond the last by more than
    half a period."""
    found: list[int | None] = []
    if not dues:
        return [None] * len(days)
    half = (dues[-1] - dues[-2]) / 2 if len(dues) > 1 else timedelta(days=15)
    for day in days:
        if day > dues[-1] + half:
            found.append(None)
            continue
        found.append(min(range(len(dues)), key=lambda k: (abs((dues[k] - day).days), k)))
    return found
