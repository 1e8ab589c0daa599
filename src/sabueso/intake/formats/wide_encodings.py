"""Which encoding of two bytes a letter a text of East Asia is in.

Each encoding is tried on the text; the one is taken in which nearly all letters are the everyday ones of its
language, and that is an assumption which is said. Everyday letters stand together in each of these
encodings: the syllables, and the first level of the ideographs (JIS X 0208, GB 2312, Big5, KS X 1001).
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass

LEAST_SHARE, LEAST_LETTERS, LEAST_BESIDE = 0.93, 8, 0.6
"""Share of the letters that are everyday ones, how many letters there are where no known word is, and the share
of them that stand beside another: in other languages such letters stand alone among plain ones."""

_WIDE, _SIDE_BY_SIDE = re.compile(r"[^\x00-\x7f]"), re.compile(r"[^\x00-\x7f]{2,}")


@dataclass(frozen=True)
class _Wide:
    """An encoding, whose language it is, and whether two bytes are an everyday letter of it."""

    encoding: str
    language: str
    everyday: Callable[[int, int], bool]
    telling: Callable[[int, int], bool]
    words: str


def _pairs(first: int, last: int) -> Callable[[int, int], bool]:
    """Letters of a square of 94 by 94 whose first byte lies between two."""
    return lambda lead, trail: first <= lead <= last and 0xA1 <= trail <= 0xFE


def _shift_jis(lead: int, trail: int) -> bool:
    code = lead << 8 | trail
    return 0x8140 <= code <= 0x8396 or 0x889F <= code <= 0x9872


_ENCODINGS = (
    _Wide("cp932", "Japanese", _shift_jis, lambda a, b: 0x829F <= a << 8 | b <= 0x8396,
          "日付 金額 摘要 科目 取引先 伝票 借方 貸方 残高 合計 支払"),
    _Wide("euc-jp", "Japanese", lambda a, b: _pairs(0xA1, 0xA5)(a, b) or _pairs(0xB0, 0xCF)(a, b), _pairs(0xA4, 0xA5),
          "日付 金額 摘要 科目 取引先 伝票 借方 貸方 残高 合計 支払"),
    _Wide("gb18030", "Chinese", lambda a, b: _pairs(0xA1, 0xA3)(a, b) or _pairs(0xB0, 0xD7)(a, b), _pairs(0xC9, 0xD7),
          "日期 金额 摘要 科目 供应商 凭证 借方 贷方 余额 合计 客户 数量 单价 备注"),
    _Wide("cp949", "Korean", lambda a, b: _pairs(0xA1, 0xA3)(a, b) or _pairs(0xB0, 0xC8)(a, b), lambda a, b: False,
          "날짜 일자 금액 적요 거래처 계정 차변 대변 잔액 합계 전표"),
    _Wide("big5", "Chinese", lambda a, b: 0xA1 <= a <= 0xC6 and (0x40 <= b <= 0x7E or 0xA1 <= b <= 0xFE),
          lambda a, b: 0x40 <= b <= 0x7E, "日期 金額 摘要 科目 供應商 傳票 借方 貸方 餘額 合計 客戶 數量 單價 備註"),
)  # fmt: skip


def tell_wide(text: bytes) -> tuple[str, str] | None:
    """The encoding of two bytes a letter, and its language; None where the text is in none of them.

    Parameters
    ----------
    text : bytes
        The beginning of a text, cut where a line ends.

    Examples
    --------
    >>> tell_wide("日付,取引先,金額".encode("cp932"))
    ('cp932', 'Japanese')
    >>> tell_wide("Überweisung an Müller & Söhne".encode("cp1252")) is None
    True
    """
    found: dict[tuple[str, str], float] = {}
    size = 0
    for wide in _ENCODINGS:
        try:
            read = text.decode(wide.encoding)
        except UnicodeDecodeError:
            continue
        letters = _WIDE.findall(read)
        if not letters:
            continue
        counts = _counted(letters, wide)
        if counts["everyday"] < LEAST_SHARE * len(letters):
            continue
        size = max(size, len(letters))
        known = sum(word in read for word in wide.words.split())
        if not known and (
            len(letters) < LEAST_LETTERS or _beside(read) < LEAST_BESIDE * len(letters)
        ):
            continue
        share = counts["telling"] / len(letters)
        # Two alphabets stand at the same places: what only one of them would have there tells, and words.
        found[wide.encoding, wide.language] = min(known, 4) + min(share * 4, 1.0)
    best = max(found, key=lambda each: found[each], default=None)
    if best is not None and found[best] > 0:
        return best
    # Syllables of Korean stand in the narrowest place: of many letters it is no chance that all are there.
    return KOREAN if KOREAN in found and size >= MANY_LETTERS else None


def _beside(text: str) -> int:
    """How many letters stand beside another such."""
    return sum(map(len, _SIDE_BY_SIDE.findall(text)))


KOREAN, MANY_LETTERS = ("cp949", "Korean"), 30


def _counted(letters: list[str], wide: _Wide) -> Mapping[str, int]:
    counts = {"everyday": 0, "telling": 0}
    for letter, times in Counter(letters).items():
        pair = letter.encode(wide.encoding)
        if len(pair) == 2:
            counts["everyday"] += times * wide.everyday(*pair)
            counts["telling"] += times * wide.telling(*pair)
        elif wide.encoding == "cp932" and len(pair) == 1:
            # Narrow syllables, as banks write them.
            counts["everyday"] += times * (0xA1 <= pair[0] <= 0xDF)
    return counts
