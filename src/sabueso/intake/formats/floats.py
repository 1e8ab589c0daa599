"""Numbers as only a program writes them: with exponents, or with the digits of a binary float."""

from __future__ import annotations

import re
from decimal import Decimal

import pyarrow as pa
import pyarrow.compute as pc

MOST_DECIMALS = 12
"""Decimals that are kept."""
_MACHINE = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?[eE][+-]?[0-9]{1,2}|[+-]?[0-9]+\.[0-9]{9,}")
MAY_BE_MACHINE = re.compile(r"[0-9.][eE][+-]?[0-9]|\.[0-9]{9}")
FLOAT_DIGITS = 15


def is_machine(text: str) -> bool:
    """Whether only a program writes a number so: with an exponent, with more digits than a binary float holds,
    or with more decimals than are kept where it is a float to its last digit."""
    if _MACHINE.fullmatch(text) is None:
        return False
    digits = sum(map(str.isdigit, text.lstrip("+-0.")))
    return "e" in text.lower() or digits > FLOAT_DIGITS or _is_small_float(text)


def _is_small_float(text: str) -> bool:
    return len(text.partition(".")[2]) > MOST_DECIMALS and repr(float(text)) == text.lstrip("+")


def plain_number(text: str) -> str:
    """A number written by a program, as people write it; any other text as it is.

    Examples
    --------
    >>> plain_number("50.3999999999996"), plain_number("0.06371234567890123"), plain_number("0.063712345678901234")
    ('50.4', '0.063712345679', '0.0637123456789012')
    """
    if not is_machine(text):
        return text
    found = Decimal(format(float(text), f".{FLOAT_DIGITS}g"))
    if _is_small_float(text):
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
