"""Numbers as only a program writes them: with exponents, or with the digits of a binary float."""

from __future__ import annotations

import re
from decimal import Decimal, localcontext

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

MOST_DECIMALS = 12
"""Decimals that are kept."""
_MACHINE = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?[eE][+-]?[0-9]{1,2}|[+-]?[0-9]+\.[0-9]{9,}")
MAY_BE_MACHINE = re.compile(r"[0-9.][eE][+-]?[0-9]|\.[0-9]{9}")
FLOAT_DIGITS = 15


def way_of(text: str) -> str:
    """How a program wrote a number, or nothing where people write so too: ``machine`` with an exponent or with the
    digits of a binary float, ``cut`` with more decimals than are kept and not those of a binary float, which is what
    a ledger in tiny units states to its last digit.

    Examples
    --------
    >>> way_of("77.568412632875629003"), way_of("0.1000000000000000056"), way_of("1234567.123456789"), way_of("12.50")
    ('cut', 'machine', 'machine', '')
    """
    if _MACHINE.fullmatch(text) is None:
        return ""
    if "e" in text or "E" in text:
        return "machine"
    if len(text.partition(".")[2]) > MOST_DECIMALS:
        return "machine" if _is_float(text) else "cut"
    digits = len(text.lstrip("+-0.").replace(".", ""))
    return "machine" if digits > FLOAT_DIGITS and _is_float(text) else ""


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
    return way_and_plain(text)[1]


def way_and_plain(text: str) -> tuple[str, str]:
    """How a program wrote a number, as :func:`way_of` tells it, and the number as :func:`plain_number` has it."""
    way = way_of(text)
    if not way:
        return way, text
    found = Decimal(text if way == "cut" else format(float(text), f".{FLOAT_DIGITS}g"))
    exponent = found.as_tuple().exponent
    if isinstance(exponent, int) and -exponent > MOST_DECIMALS:
        with localcontext() as exact:  # however long it is
            exact.prec = max(exact.prec, len(text))
            found = round(found, MOST_DECIMALS).normalize()
    return way, format(found, "f")


def plain_numbers(texts: pa.Array) -> pa.Array:
    """The same of many, ``str``: at once where they are the shortest texts of floats, or have exponents; the
    few others one by one."""
    odd = pc.match_substring_regex(texts, rf"\A(?:{_MACHINE.pattern})\z")
    if not pc.any(odd).as_py():
        return texts
    odd = odd.fill_null(False)
    written = texts.filter(odd)
    values = written.cast(pa.float64())
    size = np.abs(values.to_numpy(zero_copy_only=False))
    shortest = pc.equal(values.cast(pa.string()), pc.utf8_ltrim(written, "+"))
    whole = pc.or_(shortest, pc.match_substring_regex(written, "[eE]"))
    within = ((size >= _LEAST) & (size < _MOST)) | (size == 0)
    at_once = within & whole.to_numpy(zero_copy_only=False)
    plain = pc.if_else(pa.array(at_once), _rounded(values, np.where(at_once, size, 0.0)), written)
    if not at_once.all():
        encoded = plain.dictionary_encode()
        words = [plain_number(word) for word in encoded.dictionary.to_pylist()]
        plain = pa.array(words, pa.string()).take(encoded.indices)
    return pc.replace_with_mask(texts, odd, plain)


_LEAST, _MOST = 1e-8, 1e15
"""Floats whose 15 digits are a whole number of some power of ten that a float holds exactly, 10^22 at most."""
_TENS = 10.0 ** np.arange(23)
_WHOLE_TENS = 10 ** np.arange(19, dtype=np.int64)
_SPLIT = 2.0**27 + 1


def _rounded(values: pa.Array, size: np.ndarray) -> pa.Array:
    """Floats as texts of 15 digits, and of no more decimals than are kept; ``size``, without their sign, is 0 or within
    the limits. Both roundings are exact, to even at a tie, as those of one number are."""
    most = len(_TENS) - 1
    exponent = np.floor(np.log10(size, out=np.zeros_like(size), where=size > 0)).astype(np.int64)
    places = np.clip(FLOAT_DIGITS - 1 - exponent, 0, most)
    # Beside a power of ten the logarithm may be of its other side.
    found = size * _TENS[places]
    places += (found < 10.0 ** (FLOAT_DIGITS - 1)).astype(np.int64) - (found >= 10.0**FLOAT_DIGITS)
    places = np.clip(places, 0, most)
    tens = _TENS[places]
    # The product, and what of it a float does not hold (Dekker 1971).
    product = size * tens
    (high, low), (high_tens, low_tens) = _halves(size), _halves(tens)
    rest = low * low_tens - (((product - high * high_tens) - low * high_tens) - high * low_tens)
    digits = np.floor(product)
    beyond = (product - digits - 0.5) + rest
    units = digits.astype(np.int64)
    units += (beyond > 0) | ((beyond == 0) & (units % 2 == 1))
    cut = _WHOLE_TENS[np.maximum(places - MOST_DECIMALS, 0)]
    units, left = np.divmod(units, cut)
    units += (2 * left > cut) | ((2 * left == cut) & (units % 2 == 1))
    places = np.minimum(places, MOST_DECIMALS)
    whole, part = np.divmod(units, _WHOLE_TENS[places])
    decimals = pa.array(part * _WHOLE_TENS[MOST_DECIMALS - places]).cast(pa.string())
    text = pc.binary_join_element_wise(
        pa.array(whole).cast(pa.string()), pc.utf8_lpad(decimals, MOST_DECIMALS, "0"), "."
    )
    text = pc.utf8_rtrim(pc.utf8_rtrim(text, "0"), ".")
    negative = pc.and_(pc.less(values, 0), pc.not_equal(text, "0"))
    return pc.if_else(negative, pc.binary_join_element_wise("-", text, ""), text)


def _halves(numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Floats as sums of two of 26 bits each (Veltkamp), whose products are exact."""
    high = numbers * _SPLIT
    high = high - (high - numbers)
    return high, numbers - high
