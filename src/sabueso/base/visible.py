"""Text of a client as a reader may see it: nothing in it steers a terminal or turns a line round."""

from __future__ import annotations

import re

# Controls of a terminal (C0, DEL, C1), marks of text direction, line and paragraph separators, marks
# without width that hide a difference, tags, and halves of characters, which no file can hold.
_UNSEEN = re.compile(
    "[\x00-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb"
    "\U000e0000-\U000e007f\ud800-\udfff]"
)
_IN_JSON = re.compile("[\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb"
                      "\U000e0000-\U000e007f\ud800-\udfff]")  # fmt: skip


def visible(text: str, keep: str = "") -> str:
    """The text with what cannot be seen written as an escape: ESC as ``\\x1b``.

    Parameters
    ----------
    keep : str
        Characters that stay as they are, such as a line feed where lines are wanted.
    """
    if _UNSEEN.search(text) is None:
        return text
    return _UNSEEN.sub(lambda found: found[0] if found[0] in keep else _escape(found[0]), text)


def json_visible(text: str) -> str:
    """JSON in which no character steers a terminal; it says the same to whoever reads it as JSON.

    Below U+0020 a JSON writer has escaped them already.
    """
    if text.isascii() and "\x7f" not in text:  # of most, and no character need be looked at
        return text
    return _IN_JSON.sub(lambda found: _units(found[0]), text)


def clipped(text: str, most: int) -> str:
    """A text of at most so many characters, an ellipsis where it was cut."""
    return text if len(text) <= most else text[: most - 1] + "…"


def _escape(mark: str) -> str:
    named = {"\n": "\\n", "\r": "\\r", "\t": "\\t"}.get(mark)
    code = ord(mark)
    return named or (f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}")


def _units(mark: str) -> str:
    """A character as JSON escapes it: in UTF-16."""
    code = ord(mark)
    if code < 0x10000:
        return f"\\u{code:04x}"
    code -= 0x10000
    return f"\\u{0xD800 + (code >> 10):04x}\\u{0xDC00 + (code & 0x3FF):04x}"
