"""Cautions that several tests share, each with the figures that call for it."""

from __future__ import annotations

from sabueso.population.population import Account
from sabueso.screens.finding import Caution


def percent(part: float, whole: float) -> float:
    return 100 * part / whole if whole else 0.0


def mixed_signs(negative: int, used: int, advice: str) -> Caution | None:
    """More than 5 % of the rows have the other sign."""
    fewer = min(negative, used - negative)
    if used == 0 or fewer / used <= 0.05:
        return None
    which = "credits (negative)" if negative == fewer else "positive"
    return Caution(
        "mixed_signs",
        f"{percent(fewer, used):.1f}% of the rows are {which}; {advice}",
        {"other_sign": fewer, "share": fewer / used},
    )


def many_zeros(account: Account) -> Caution | None:
    """More than 5 % of the rows that hold a value are 0."""
    zeros = account.left_out.get("zero", 0)
    if zeros == 0 or zeros / (account.used + zeros) <= 0.05:
        return None
    share = zeros / (account.used + zeros)
    return Caution(
        "many_zeros",
        f"{100 * share:.1f}% of the amounts are zero",
        {"zeros": zeros, "share": share},
    )
