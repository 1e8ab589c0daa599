"""Lines that say, by their words, that they state a sum or what an account stood at."""

from __future__ import annotations

import re
from functools import cache

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_TOTAL_WORDS = (
    r"(?:(?:sub|gran|grand|zwischen|gesamt|sous|totale?|somme|page|report|batch|group|daily|account|vendor|supplier|customer|department|company)[ -]?)?(?:total(?:es|s|e|i|en)?|totaal|totaux|sumas?"
    r"|summen?|summa|gesamt|somme|somma|soma|razem|suma ogolem|ogolem|og[oó][lł]em|celkem|spolu|skupaj|ukupno|[oö]sszesen|yhteens[aä]"
    r"|totalt|i alt|toplam|kokku|i[sš] viso|viso|kop[aā]|итого|всего|разом|всього|общо|σύνολο|sum|合計|合计|總計|总计|小計|小计|累計|累计|합계|소계|총계|الإجمالي|المجموع|סהכ)"
)
_NO_WORD = r"[^\p{L}\p{N}]"  # of any alphabet: \W and \b know Latin letters alone
_STARS = r"\A\*{1,5}\z"
"""How lists of accounting programs mark sums, by their level."""
TOTALS = rf"\A(?i:{_NO_WORD}*{_TOTAL_WORDS}(?:{_NO_WORD}|\z))|{_STARS}"
BARE_TOTAL = (
    rf"\A(?i:{_NO_WORD}*{_TOTAL_WORDS}(?: general| generale| général)?{_NO_WORD}*)\z|{_STARS}"
)
_STATED = (
    r"(?:(?:opening|closing|beginning|ending|starting|previous|prior|initial|final) bal(?:ance|\.)?"
    r"|bal(?:ance|\.)? (?:b/?f|c/?f|b/?d|c/?d|(?:brought|carried) (?:forward|down|over)|forward|fwd)"
    r"|(?:brought|carried) (?:forward|down|over)|[bc]/[fd]"
    r"|saldo (?:inicial|final|anterior|de apertura|de cierre|iniziale|finale|precedente|de abertura|poczatkowe|koncowe|awal|akhir)"
    r"|(?:anfangs|end|eroffnungs|schluss)(?:saldo|bestand|stand)|saldovortrag|(?:alter|neuer) (?:saldo|kontostand)"
    r"|solde (?:initial|final|precedent|anterieur|reporte|d.ouverture|de cloture|a nouveau)|report a nouveau"
    r"|(?:begin|eind|primo|ultimo)[ -]?saldo|(?:ingaende|utgaende|inngaende|inngaaende) (?:saldo|balans)"
    r"|(?:pocatecni|konecny) zustatek|(?:nyito|zaro) egyenleg|(?:acilis|kapanis) bakiyesi|sold (?:initial|final)"
    r"|(?:входящ|исходящ|начальн|конечн)[\p{L}]{2,3} (?:остаток|сальдо)"
    r"|(?:期初|期末|上期|本期)(?:余额|餘額|结余|結餘|残高)|前期繰越|次期繰越|繰越金|(?:기초|기말|전기이월)잔액|전기이월|رصيد (?:افتتاحي|ختامي)|יתרת (?:פתיחה|סגירה))"
)
BALANCES = rf"\A(?i:{_NO_WORD}*{_STATED}(?:{_NO_WORD}+\p{{L}}{{1,3}})?[^\p{{L}}]*)\z"
"""What a line says that states what an account stood at, in letters without their accents; a day may follow."""
ACCENTS = (("áàâäãåăą", "a"), ("éèêëěę", "e"), ("íìîï", "i"), ("óòôöõő", "o"), ("úùûüűů", "u"), ("ç", "c"), ("ı", "i"),
           ("ńñň", "n"), ("ýÿ", "y"), ("šşś", "s"), ("žżź", "z"), ("ł", "l"))  # fmt: skip
_MAY_STATE = (
    r"(?i:bal|forward|carried|[bc]/[fd]|sald|bestand|stand\b|solde|report|sold |zustatek|z.statek|egyenleg|bakiye|остат|сальдо"
    r"|余额|餘額|结余|結餘|残高|繰越|잔액|이월|رصيد|יתרת)"
)
"""What any of these has: looked for first, since most texts have none."""


_MAY_SUM = (
    r"(?i:tot|sum|som|gesamt|raz|og[oół]|celkem|spolu|skupaj|ukupno|[oö]ssz|yhteens|i alt|top|kokku|viso|kop|итого|всего"
    r"|разом|всього|общо|σύνολο|合|總|总|小|累|합|소|총|الإجمالي|المجموع|סהכ)|\A\*"
)
"""What any text has that states a total. To make the whole pattern takes Arrow longer than to look for this in
thousands of texts, and hardly any has it."""
_MOST_ONE_BY_ONE = 500


def states_total(texts: pa.Array, pattern: str = TOTALS) -> np.ndarray:
    """Texts that begin with a word for a total, or fit another pattern of these words."""
    if not len(texts):
        return np.zeros(0, dtype=bool)
    if pa.types.is_dictionary(texts.type):
        found = states_total(texts.dictionary, pattern)
        # Few texts stand for many rows, and hardly ever is one a total's.
        if not found.any():
            return np.zeros(len(texts), dtype=bool)
        return _true(pa.array(found).take(texts.indices))
    stated = _true(pc.match_substring_regex(texts, _MAY_SUM))
    some = np.flatnonzero(stated)
    if len(some):
        stated[some] = _fit(texts.take(pa.array(some)), pattern)
    return stated


def _true(found: pa.Array) -> np.ndarray:
    return np.array(found.fill_null(False).to_numpy(zero_copy_only=False), dtype=bool)


def _fit(texts: pa.Array, pattern: str) -> np.ndarray:
    """Which of several texts fit a pattern: of few by the standard library, which keeps what it made of it."""
    if len(texts) > _MOST_ONE_BY_ONE:
        return _true(pc.match_substring_regex(texts, pattern))
    search = _made(pattern).search
    return np.array([search(text) is not None for text in texts.to_pylist()], dtype=bool)


@cache
def _made(pattern: str) -> re.Pattern[str]:
    """The same pattern as the standard library writes it."""
    return re.compile(pattern.replace(_NO_WORD, r"[\W_]").replace(r"\z", r"\Z"))


def states_balance(texts: pa.Array) -> np.ndarray:
    """Texts that say that they state a balance, and nothing besides."""
    plain = texts.cast(pa.string()) if pa.types.is_dictionary(texts.type) else texts
    found = _true(pc.match_substring_regex(plain, _MAY_STATE))
    some = np.flatnonzero(found)
    if len(some):
        said = pc.utf8_lower(pc.utf8_trim_whitespace(plain.take(pa.array(some))))
        for letters, letter in ACCENTS:
            said = pc.replace_substring_regex(said, f"[{letters}]", letter)
        found[some] = pc.match_substring_regex(said, BALANCES).to_numpy(zero_copy_only=False)
    return found
