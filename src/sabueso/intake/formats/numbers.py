"""Texts as exact decimals: marks, ways to write a minus, and the unit beside the digits."""

from __future__ import annotations

import re
import sys
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.currencies import CODES, OF_ONE, OF_SEVERAL
from sabueso.base.figures import FIGURES, plain_figures
from sabueso.intake.formats.floats import (
    MAY_BE_MACHINE,
    MOST_DECIMALS,
    plain_number,
    plain_numbers,
    way_and_plain,
)
from sabueso.population.table import Column, ColumnType

MOST_DIGITS = 38
SIDES = "DR|CR|Dr|Cr|D|C|S|H"
"""Marks of the side of the ledger after an amount: debit and credit, debe and haber, Soll and Haben."""
CREDIT_SIDES = "CR|Cr|C|H"
DASHES = str.maketrans(dict.fromkeys("\u2212\u2010\u2011\u2012\u2013\ufe63\uff0d", "-"))
"""Minuses as typesetting has them, and what is taken for one."""
# The longest first: US$ is no $ after US.
_SIGNS = sorted((*OF_ONE, *OF_SEVERAL), key=len, reverse=True)
CURRENCY = "|".join([*map(re.escape, _SIGNS), *sorted(CODES)])
"""A sign or a code of a currency, as a part of a pattern."""
BLANK = "[ \u00a0\u202f]"
WRITTEN_BY_PROGRAMS = frozenset({"machine", "cut"})
_UNIT = re.compile(
    rf"[+(-]?{BLANK}?({CURRENCY})?{BLANK}?[+(-]?[0-9](?:[0-9.,' \u00a0\u202f]*[0-9])?[.,]?[)-]?{BLANK}?"
    rf"({CURRENCY}|%)?[)-]?"
)


@dataclass(frozen=True)
class NumberFormat:
    """An exact decimal. ``styles`` are the ways a minus may be written beside a leading one: trailing,
    in parentheses, or as the side of the ledger (``12.50 CR``). ``unit`` may stand on either side of
    the digits; a per cent sign must, or 12 among 12% would be read as 1200%. The style ``machine``
    reads exponents, and decimals that only a binary float has, to the 15 digits that it holds; ``cut``
    rounds what states more decimals than are kept.

    ``dashes`` reads minuses of typesetting, ``apart`` signs and parentheses with a blank beside them, ``figures`` digits of other scripts and other marks of it.

    ``assumed`` thousands are those of which nothing yet tells that they are no decimals: three digits
    after every mark. They are strict: whatever would be written otherwise is not theirs."""

    decimal: str = "."
    thousands: str = ""
    scale: int = 0
    whole: int = 15
    styles: frozenset[str] = frozenset()
    assumed: bool = False
    unit: str = ""

    type: ClassVar[ColumnType] = "number"

    @property
    def precision(self) -> int:
        return 18 if self.whole + self.scale <= 18 else 38

    def pattern(self, decimals: int | None = None) -> str:
        """Regular expression of the texts that fit, all engines' common subset."""
        most = self.scale if decimals is None else decimals
        digits = r"[0-9]+"
        if self.thousands:
            mark = re.escape(self.thousands)
            digits = rf"(?:[0-9]{{1,3}}(?:{mark}[0-9]{{3}})+|[0-9]+)"
            if self.thousands == ",":
                # In India by twos above a thousand: 12,34,567.
                digits = rf"(?:[0-9]{{1,2}}(?:,[0-9]{{2}})+,[0-9]{{3}}|{digits})"
            if self.assumed:
                digits = rf"(?:[1-9][0-9]{{0,2}}(?:{mark}[0-9]{{3}})+|[0-9]{{1,3}})"
        body = digits
        if most:
            mark = re.escape(self.decimal)
            body = rf"(?:{digits}(?:{mark}[0-9]{{0,{most}}})?|{mark}[0-9]{{1,{most}}})"
        forms = [rf"[+-]?{body}"]
        if "trailing" in self.styles:
            forms.append(rf"{body}-")
        if "parentheses" in self.styles:
            forms.append(rf"\({body}\)")
        if "sides" in self.styles:
            forms.append(rf"{body} ?(?:{SIDES})")
        whole = forms[0] if len(forms) == 1 else "|".join(f"(?:{form})" for form in forms)
        if not self.unit:
            return whole
        unit = re.escape(self.unit)
        if self.unit == "%":
            return rf"(?:{whole}){BLANK}?%"
        # The unit may stand between a sign and the digits too: -€5, (€5).
        signed = rf"[+-]?{BLANK}?{unit}{BLANK}?{body}-?"
        return (
            rf"{unit}{BLANK}?(?:{whole})|(?:{whole}){BLANK}?{unit}|{signed}|{whole}|"
            rf"\({unit}{BLANK}?{body}\)"
        )

    def fits(self, text: str) -> bool:
        if "figures" in self.styles:
            text = plain_figures(text)
        if "dashes" in self.styles:
            text = text.translate(DASHES)
        if "apart" in self.styles:
            text = together(text)
        if self.styles & WRITTEN_BY_PROGRAMS:
            text = plain_number(text)
        return _compiled(self).fullmatch(text) is not None and not too_long(text)

    def read(self, texts: pa.Array) -> pa.Array:
        kind = pa.decimal128(self.precision, self.scale)
        if pa.types.is_dictionary(texts.type):
            texts = texts.cast(pa.string())
        if "figures" in self.styles:
            texts = _in_plain_figures(texts)
        if "dashes" in self.styles:
            texts = pc.replace_substring_regex(texts, f"[{''.join(map(chr, DASHES))}]", "-")
        if "apart" in self.styles:
            for apart in _APART:
                texts = pc.replace_substring_regex(texts, apart, r"\1")
        if self.styles & WRITTEN_BY_PROGRAMS:
            texts = plain_numbers(texts)
        if not (self.thousands or self.styles or self.unit or _is_foreign(texts, self._points())):
            # Nothing but digits, signs and the decimal mark: what converts, fits.
            try:
                if self.precision == 18 and self.scale:
                    sizes = _uniform(texts, self.decimal, kind)
                    if sizes is not None:
                        return sizes
                return _cast(self._plain(texts), kind)
            except pa.ArrowInvalid:
                pass
        fits = pc.match_substring_regex(texts, rf"\A(?:{self.pattern()})\z")
        texts = pc.if_else(fits, texts, pa.scalar(None, pa.string()))
        negative = None
        if self.unit:
            texts = pc.replace_substring_regex(
                texts, rf"{BLANK}?{re.escape(self.unit)}{BLANK}?", ""
            )
        if self.styles or self.unit:
            negative = pc.match_substring_regex(texts, rf"[(-]|(?:{CREDIT_SIDES})\z")
            texts = pc.replace_substring_regex(texts, rf"[()-]| ?(?:{SIDES})\z", "")
        sizes = _decimals(self._plain(texts), kind)
        return sizes if negative is None else pc.if_else(negative, pc.negate(sizes), sizes)

    def _plain(self, texts: pa.Array) -> pa.Array:
        """Texts as exact decimals are written everywhere."""
        if self.thousands:
            texts = pc.replace_substring(texts, self.thousands, "")
        if self.decimal == "," and self.scale:
            texts = pc.replace_substring(texts, ",", ".")
        return texts

    def _points(self) -> bool:
        """Whether a point is this format's decimal mark."""
        return self.decimal == "." and self.scale > 0

    def described(self) -> str:
        grouped = f"1{self.thousands}234" if self.thousands else "1234"
        floats = ", floats to 15 digits and 12 decimals" if "machine" in self.styles else ""
        floats += ", rounded to 12 decimals" if "cut" in self.styles else ""
        floats += ", digits or marks of another script" if "figures" in self.styles else ""
        unit = f" {self.unit}" if self.unit else ""
        if "sides" in self.styles:
            unit += " D/C"
        unit += floats
        if not self.scale:
            assumed = " (thousands mark assumed)" if self.assumed and self.thousands else ""
            return f"whole number {grouped}{unit}{assumed}"
        shown = f"number {grouped}{self.decimal}{'5678901234567'[: self.scale]}{unit}"
        return shown + (" (decimal mark assumed)" if self.assumed else "")

    def column(self, name: str) -> Column:
        return Column(name, "number", self.scale, self.precision)


def _in_plain_figures(texts: pa.Array) -> pa.Array:
    """Texts with the digits of every script as ASCII has them: those that are there, one after another."""
    letters = set("".join(pc.unique(texts).drop_null().to_pylist()))
    for letter in sorted(letters & set(map(chr, FIGURES))):
        texts = pc.replace_substring(texts, letter, FIGURES[ord(letter)])
    return texts


_APART = (rf"\A([(+-]){BLANK}+", rf"{BLANK}+([)-])\z")
_APART_HERE = [re.compile(text.replace(r"\z", r"\Z")) for text in _APART]


def together(text: str) -> str:
    """A text without the blanks between a sign, or parentheses, and what they belong to.

    Examples
    --------
    >>> together("- 12.50"), together("12.50 -"), together("( 12.50 )"), together("-€ 5")
    ('-12.50', '12.50-', '(12.50)', '-€ 5')
    """
    for apart in _APART_HERE:
        text = apart.sub(r"\1", text)
    return text


def too_long(text: str) -> bool:
    """Whether a number has more digits than can be kept exact."""
    return len(text) > MOST_DIGITS and sum(map(str.isdigit, text)) > MOST_DIGITS


def _is_foreign(texts: pa.Array, points: bool) -> bool:
    """Whether some text has a letter, which a conversion takes for an exponent, or a point where
    none belongs; by the bytes as they lie."""
    _, offsets, data = texts.buffers()
    if data is None or not len(texts):
        return False
    ends = np.frombuffer(offsets, np.int32)[[texts.offset, texts.offset + len(texts)]]
    held = np.frombuffer(data, np.uint8)[ends[0] : ends[1]]
    if not len(held):
        return False
    return bool(held.max() > ord("9") or (not points and (held == ord(".")).any()))


def _uniform(texts: pa.Array, mark: str, kind: pa.Decimal128Type) -> pa.Array | None:
    """Texts that all have as many decimals as the column; None where some have not.

    They are read as floats, three times as fast as decimals, and exactly: with k in minor units,
    reading k/10^s and multiplying by 10^s err by less than k/2^52, which below k = 2^50 is a
    quarter of a unit, and is rounded away.

    Raises
    ------
    ArrowInvalid
        If one is no number.
    """
    _, ends, data = texts.buffers()
    if data is None or texts.null_count or sys.byteorder != "little":
        return None
    ends = np.frombuffer(ends, np.int32)[texts.offset : texts.offset + len(texts) + 1]
    held = np.frombuffer(data, np.uint8)[ends[0] : ends[-1]]
    marks = held == ord(mark)
    places = ends[1:] - (ends[0] + kind.scale + 1)
    if np.count_nonzero(marks) != len(texts) or (np.diff(ends) <= kind.scale).any():
        return None
    if not marks[places].all():
        return None
    if mark != ".":
        plain = np.where(marks, np.uint8(ord(".")), held)
        texts = pa.StringArray.from_buffers(
            len(texts), pa.py_buffer(ends - ends[0]), pa.py_buffer(plain)
        )
    scaled = texts.cast(pa.float64()).to_numpy() * 10.0**kind.scale
    if np.abs(scaled).max(initial=0) >= 2**50:
        return None
    units = np.rint(scaled).astype(np.int64)
    words = np.empty((len(units), 2), np.int64)
    words[:, 0], words[:, 1] = units, units >> 63
    return pa.Array.from_buffers(kind, len(units), [None, pa.py_buffer(words)])


def _decimals(texts: pa.Array, kind: pa.Decimal128Type) -> pa.Array:
    """Plain decimal texts as decimals; missing where one has more digits than the column."""
    try:
        return _cast(texts, kind)
    except pa.ArrowInvalid:
        whole = kind.precision - kind.scale
        digits = pc.utf8_length(pc.replace_substring_regex(texts, r"\A[+-]?0*|\..*\z", ""))
        return pc.if_else(pc.less_equal(digits, whole), texts, pa.scalar(None, pa.string())).cast(
            kind
        )


def _cast(texts: pa.Array, kind: pa.Decimal128Type) -> pa.Array:
    """Plain decimal texts as decimals.

    Raises
    ------
    ArrowInvalid
        If one is no number, or may have more digits than 128 bits hold: the library's own
        conversion makes another number of it, without a word.
    """
    longest = pc.max(pc.binary_length(texts)).as_py() or 0
    if longest > MOST_DIGITS:
        raise pa.ArrowInvalid("digits are to be counted")
    return texts.cast(kind)


@cache
def _compiled(format: NumberFormat) -> re.Pattern[str]:
    return re.compile(format.pattern())


def units_of(times: Mapping[str, int]) -> Counter[str]:
    """How many numbers have which currency or per cent sign beside their digits."""
    found: Counter[str] = Counter()
    for text, count in times.items():
        match = _UNIT.fullmatch(text.translate(DASHES))
        if match and (match[1] or match[2]):
            found[match[1] or match[2]] += count
    return found


_ONES = str.maketrans("023456789", "111111111")


def shapes_of(times: Mapping[str, int]) -> Counter[str]:
    """Texts with a 1 for every digit, and how many have each shape: marks are told by where they stand.

    Of those that may have been written by a program the first of each kind stands as it is: what they state
    depends on their digits.

    Examples
    --------
    >>> shapes_of({"12.50": 2, "34.75": 1, "1e5": 1, "2e5": 1, "1e7": 1})
    Counter({'11.11': 3, '1e5': 2, '1e7': 1})
    """
    found: Counter[str] = Counter()
    first: dict[tuple[str, str, str], str] = {}
    for text, count in times.items():
        shape = text.translate(_ONES)
        if MAY_BE_MACHINE.search(text):
            way, plain = way_and_plain(text)
            shape = first.setdefault((shape, way, plain.translate(_ONES)), text)
        found[shape] += count
    return found


def unit_of(times: Mapping[str, int]) -> str:
    """The currency or per cent sign beside the digits of at least half of the texts, or nothing.

    A unit that few texts have is another unit than that of the rest: these go to quarantine.
    """
    found = units_of(times)
    unit, most = found.most_common(1)[0] if found else ("", 0)
    return unit if 2 * most >= sum(times.values()) else ""


def fitted(start: NumberFormat, values: Sequence[str], *, sided: bool = False) -> NumberFormat:
    """A number format with the same marks, wide enough for those texts that can be read by it."""
    styles_known = {"trailing", "parentheses"} | ({"sides"} if sided else set())
    every = replace(start, styles=frozenset(styles_known | start.styles))
    pattern = re.compile(every.pattern(MOST_DECIMALS))
    scale, whole, styles = start.scale, start.whole if start.scale else 0, set(start.styles)
    for text in values:
        written, text = text, plain_figures(text)
        if text != written:
            styles.add("figures")
        written, text = text, text.translate(DASHES)
        dashed = text != written
        spaced, text = text, together(text)
        apart = text != spaced
        if start.decimal == ".":
            way, text = way_and_plain(text)
            styles |= {way} - {""}
        if pattern.fullmatch(text):
            if dashed:
                styles.add("dashes")
            if apart:
                styles.add("apart")
            side = re.search(
                rf" ?(?:{SIDES})\Z", text.replace(start.unit, "") if start.unit else text
            )
            bare = text.replace(start.unit, "") if start.unit else text
            digits, _, decimals = (
                re.sub(r"[^0-9.,' \u00a0\u202f]", "", bare).strip().partition(start.decimal)
            )
            scale = max(scale, len(decimals))
            whole = max(whole, len(digits) - digits.count(start.thousands or "\0"))
            if "(" in text:
                styles.add("parentheses")
            elif text.endswith("-"):
                styles.add("trailing")
            elif side:
                styles.add("sides")
    # A column is wide enough for its totals too: 15 whole digits where they fit 18.
    return replace(
        start, scale=scale, whole=max(whole, min(15, 18 - scale)), styles=frozenset(styles)
    )
