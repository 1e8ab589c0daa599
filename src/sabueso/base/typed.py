"""Amounts as people type them: ``66,00``, ``1.188,00``, ``1,188.00``, ``1'188.00``."""

from __future__ import annotations

import re
from decimal import Decimal

from sabueso.base.errors import UserError
from sabueso.base.figures import plain_figures

_SHAPE = re.compile(r"[+\-\u2212]?[0-9][0-9.,' \u00a0\u202f]*")
_SPACES = re.compile(r"['\u00a0\u202f ]")


def typed_amount(text: str, option: str) -> Decimal:
    """The amount that a text states.

    Raises
    ------
    UserError
        If it is none, or may be read in two ways: ``1,188`` is 1188 or 1.188.

    Examples
    --------
    >>> typed_amount("1.188,00", "--amount"), typed_amount("66,5", "--amount")
    (Decimal('1188.00'), Decimal('66.5'))
    """
    plain = plain_figures(text.strip())
    none = UserError(f"{option} {text!r} is no amount; expected digits such as 1188.00")
    if not _SHAPE.fullmatch(plain):
        raise none
    sign = "-" if plain[0] in "-\u2212" else ""
    body = _SPACES.sub("", plain.lstrip("+-\u2212"))
    marks = [c for c in body if c in ".,"]
    kinds = set(marks)
    if len(kinds) == 2:
        decimal = marks[-1]
        whole, _, rest = body.rpartition(decimal)
        if decimal in whole or not _grouped(whole, (kinds - {decimal}).pop()):
            raise none
        return Decimal(f"{sign}{re.sub('[.,]', '', whole)}.{rest or '0'}")
    if not kinds:
        return Decimal(sign + body)
    (mark,) = kinds
    if len(marks) > 1:
        if not _grouped(body, mark):
            raise none
        return Decimal(sign + body.replace(mark, ""))
    whole, rest = body.split(mark)
    if len(rest) == 3 and 1 <= len(whole) <= 3 and whole != "0":
        raise UserError(
            f"{option} {text!r} may be {whole}{rest} or {whole}.{rest}; write {whole}{rest}.00, or "
            f"{whole}.{rest}0"
        )
    if not whole:
        raise none
    return Decimal(f"{sign}{whole}.{rest or '0'}")


def _grouped(whole: str, mark: str) -> bool:
    """Whether every group of digits after the first has three."""
    first, *groups = whole.split(mark)
    return 1 <= len(first) <= 3 and all(len(group) == 3 for group in groups)
