"""Lines that say, by their words, that they state a sum or what an account stood at."""

from __future__ import annotations

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


def states_total(texts: pa.Array, pattern: str = TOTALS) -> np.ndarray:
    """Texts that begin with a word for a total, or fit another pattern."""
    if not len(texts):
        return np.zeros(0, dtype=bool)  # the pattern alone takes milliseconds to make
    if pa.types.is_dictionary(texts.type):
        found = pc.match_substring_regex(texts.dictionary, pattern)
        if not pc.any(found).as_py():
            return np.zeros(len(texts), dtype=bool)
        found = found.take(texts.indices)
    else:
        found = pc.match_substring_regex(texts, pattern)
    return np.asarray(found.fill_null(False).to_numpy(zero_copy_only=False), dtype=bool)


def states_balance(texts: pa.Array) -> np.ndarray:
    """Texts that say that they state a balance, and nothing besides."""
    plain = texts.cast(pa.string()) if pa.types.is_dictionary(texts.type) else texts
    found = pc.fill_null(pc.match_substring_regex(plain, _MAY_STATE), False)
    found = np.array(found.to_numpy(zero_copy_only=False), dtype=bool)
    some = np.flatnonzero(found)
    if len(some):
        said = pc.utf8_lower(pc.utf8_trim_whitespace(plain.take(pa.array(some))))
        for letters, letter in ACCENTS:
            said = pc.replace_substring_regex(said, f"[{letters}]", letter)
        found[some] = pc.match_substring_regex(said, BALANCES).to_numpy(zero_copy_only=False)
    return found
