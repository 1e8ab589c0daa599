"""Numbers as the trade writes them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from sabueso.base.plain import ByColumn

MINUS = "\u2212"
_NOTHING = re.compile(r"-(?=[0.,]*%?$)")


def _signed(text: str) -> str:
    """A number with a true minus sign; what rounds to nothing has none."""
    return _NOTHING.sub("", text).replace("-", MINUS)


def amount(value: Decimal | str | float | None, scale: int = 2) -> str:
    """Thousands separated, a true minus sign; a dash where there is none."""
    if value is None:
        return "–"
    exact = value if isinstance(value, Decimal) else Decimal(str(value))
    places = (
        max(scale, -int(exact.as_tuple().exponent)) if isinstance(value, (Decimal, str)) else scale
    )
    return _signed(f"{exact:,.{places}f}")


def count(value: int) -> str:
    return f"{value:,}".replace("-", MINUS)


def number(value: float | None, places: int = 2) -> str:
    """A statistic; very large and very small ones keep their meaning."""
    if value is None:
        return "–"
    if value and (abs(value) >= 1e12 or abs(value) < 10 ** -(places + 2)):
        return f"{value:.3g}".replace("-", MINUS)
    return _signed(f"{value:,.{places}f}")


def expected(rows: float) -> str:
    """Rows that were expected: a tenth says that none is where there are few.

    Examples
    --------
    >>> expected(12.34), expected(0.3), expected(0.0035), expected(0.0)
    ('12.3', '0.3', '0.0035', '0.0')
    """
    return number(rows, 1) if rows >= 0.05 or not rows else f"{rows:.2g}"


def signed(value: float | None, places: int = 1) -> str:
    if value is None:
        return "–"
    return f"{value:+,.{places}f}".replace("-", MINUS)


def percent(share: float | None, places: int = 1) -> str:
    """A share of 1 as a percentage."""
    return "–" if share is None else _signed(f"{100 * share:,.{places}f}%")


def p_value(p: float | None) -> str:
    if p is None:
        return "–"
    return "<0.0001" if p < 0.0001 else f"{p:.4f}"


def p_text(p: float) -> str:
    """For a sentence: p < 0.0001, p = 0.0123."""
    return "p < 0.0001" if p < 0.0001 else f"p = {p:.4f}"


def many(n: int, word: str, plural: str | None = None) -> str:
    return f"{n:,} {word if n == 1 else plural or word + 's'}"


def too_few(n: int, least: int, word: str = "row", plural: str | None = None) -> str:
    """That there are fewer of something than it takes.

    Examples
    --------
    >>> too_few(1, 3), too_few(12, 50, "batch", "batches")
    ('only 1 row; at least 3 are needed', 'only 12 batches; at least 50 are needed')
    """
    return f"only {many(n, word, plural)}; at least {least:,} {verb(least, 'is', 'are')} needed"


def verb(n: int, one: str = "has", more: str = "have") -> str:
    """The verb of a count."""
    return one if n == 1 else more


def group_name(group: ByColumn) -> str:
    """A group as text: its values, missing ones said."""
    shown = [_value_name(name, value) for name, value in group.items()]
    return " · ".join(shown) or "all rows"


def _value_name(name: str, value: Any) -> str:
    if name.startswith("sign(") and value in (1, -1):
        return "positive" if value == 1 else "negative"
    return shown(value)


def named(group: Mapping[str, Any]) -> list[str]:
    """Each of a group's columns with its value."""
    return [f"{name} {shown(value)}" for name, value in group.items()]


def shown(value: object) -> str:
    """A client's value as text; a missing one is said."""
    return "(missing)" if value is None else str(value)
