"""Numbers as only a program writes them: with exponents, or with the digits of a binary float."""

from __future__ import annotations

import re
from decimal import Decimal, localcontext

import pyarrow as pa
import pyarrow.compute as pc

MOST_DECIMALS = 12
"""Decimals that are kept."""
_MACHINE = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?[eE][+-]?[0-9]{1,2}|[+-]?[0-9]+\.[0-9]{9,}")
MAY_BE_MACHINE = re.compile(r"[0-9.][eE][+-]?[0-9]|\.[0-9]{9}")
FLOAT_DIGITS = 15


def is_machine(text: str) -> bool:
    """Whether only a program writes a number so: with an exponent, with the digits of a binary float, or with
    more decimals than are kept."""
    if _MACHINE.fullmatch(text) is None:
        return False
    digits = sum(map(str.isdigit, text.lstrip("+-0.")))
    tiny = "e" in text.lower() or len(text.partition(".")[2]) > MOST_DECIMALS
    return tiny or (digits > FLOAT_DIGITS and _is_float(text))


def is_cut(text: str) -> bool:
    """Whether a number has more decimals than are kept, and not those of a binary float: what a ledger in tiny
    units states to its last digit.

    Examples
    --------
    >>> is_cut("77.568412632875629003"), is_cut("0.1000000000000000056"), is_cut("1234567.123456789")
    (True, False, False)
    """
    if _MACHINE.fullmatch(text) is None or "e" in text.lower():
        return False
    return len(text.partition(".")[2]) > MOST_DECIMALS and not _is_float(text)


def _is_float(text: str) -> bool:
    """Whether digits are those of a binary float: its shortest, or those that it has to some decimal."""
    bare, value = text.lstrip("+"), float(text)
    return bare in (repr(value), f"{value:.17g}", f"{value:.{len(bare.partition('.')[2])}f}")


def plain_number(text: str) -> str:
    """A number written by a program, as people write it; any other text as it is.

    Examples
    --------
    >>> plain_number("50.3999999999996"), plain_number("0.06371234567890123"), plain_number("77.568412632875629003")
    ('50.4', '0.063712345679', '77.568412632876')
    """
    if not is_machine(text):
        return text
    found = Decimal(text if is_cut(text) else format(float(text), f".{FLOAT_DIGITS}g"))
    exponent = found.as_tuple().exponent
    if isinstance(exponent, int) and -exponent > MOST_DECIMALS:
        with localcontext() as exact:  # however long it is
            exact.prec = max(exact.prec, len(text))
            found = round(found, MOST_DECIMALS).normalize()
    return format(found, "f")


def plain_numbers(texts: pa.Array) -> pa.Array:
    """The same of many; few of them are looked at one by one."""
    odd = pc.match_substring_regex(texts, rf"\A(?:{_MACHINE.pattern})\z")
    if not pc.any(odd).as_py():
        return texts
    encoded = texts.dictionary_encode()
    words = [None if w is None else plain_number(w) for w in encoded.dictionary.to_pylist()]
    return pa.array(words, pa.string()).take(encoded.indices)
