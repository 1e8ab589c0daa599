"""The reconciliation of a population as text: the same lines under every result."""

from __future__ import annotations

from decimal import Decimal

from sabueso.population.population import Account
from sabueso.report import numbers as num

LEFT_OUT = {
    "outside_population": "outside the population",
    "outside_where": "outside the condition",
    "outside_periods": "outside the periods",
    "set_aside": "set aside by review",
    "below_10": "below 10.00",
    "missing_key": "without a subject",
    "key_says_nothing": "with a key that states nothing",
}


def reasons_text(left_out: dict[str, int]) -> str:
    """Rows left out by reason, in words."""
    return ", ".join(
        f"{LEFT_OUT.get(code, code.replace('_', ' '))} {n:,}" for code, n in left_out.items()
    )


def account_lines(account: Account, scale: int, currency: str, on: str | None = None) -> list[str]:
    """``rows … = used … + left out …``, and the amounts likewise where there is a measure; one that is not known for
    money by its name."""
    out = sum(account.left_out.values())
    why = f" ({reasons_text(account.left_out)})" if account.left_out else ""
    lines = [f" rows {account.rows:,} = used {account.used:,} + left out {out:,}{why}"]
    if account.used_total is not None:
        unit = f" {currency}" if currency else ""
        what = "amount" if currency or on is None else f"sum of {on}"
        left = sum(account.left_out_totals.values(), Decimal(0))
        lines.append(
            f" {what} {num.amount(account.total, scale)}{unit} = used "
            f"{num.amount(account.used_total, scale)} + left out {num.amount(left, scale)}"
        )
    return lines
