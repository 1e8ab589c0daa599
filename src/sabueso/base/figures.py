"""Digits of every script in use as the ten of ASCII, and marks as typesetting has them as they are typed: what a
number or a day is, is the same in any of them."""

from __future__ import annotations

# Arabic, Persian, Devanagari, Bengali, Gurmukhi, Gujarati, Oriya, Tamil, Telugu, Kannada, Malayalam,
# Sinhala, Thai, Lao, Tibetan, Burmese, Khmer, Mongolian, and the wide ones of East Asia.
_ZEROS = "٠۰०০੦૦୦௦౦೦൦෦๐໐༠၀០᠐０"
FIGURES: dict[int, str] = {
    ord(zero) + digit: str(digit) for zero in _ZEROS for digit in range(10)
} | {
    0x066B: ".",  # Arabic decimal mark
    0x066C: ",",  # Arabic thousands mark
    0x066A: "%",
    0xFF0E: ".",
    0xFF0C: ",",
    0xFF0F: "/",
    0x200E: "",  # which way a line runs
    0x200F: "",
    0x061C: "",
    **dict.fromkeys((0x2018, 0x2019, 0x02BC, 0x00B4), "'"),  # apostrophes
    **dict.fromkeys((0x2007, 0x2008, 0x2009), "\u202f"),  # blanks that are narrow or fixed
}
"""For ``str.translate``: code point to what it is written as."""


def plain_figures(text: str) -> str:
    """A text with its digits, and the marks among them, as ASCII has them.

    Examples
    --------
    >>> plain_figures("١٬٢٣٤٫٥٠"), plain_figures("१२.५"), plain_figures("12"), plain_figures("1’234.50")
    ('1,234.50', '12.5', '12', "1'234.50")
    """
    return text if text.isascii() else text.translate(FIGURES)
