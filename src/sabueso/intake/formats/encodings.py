"""Which single-byte encoding a text is in, told by its letters.

A byte above 127 is a letter in one encoding and a symbol, or another language's letter, in the next.
Each encoding is tried on the words that hold such bytes; the one that makes of them words with the
letters of one language is taken, and that is an assumption which is said.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from itertools import islice

CANDIDATES = (
    "cp1252", "cp1250", "cp1257", "cp1254", "cp1251", "cp1253", "iso8859-2", "iso8859-15", "cp850",
    "cp852", "mac-roman", "mac-latin2", "cp866", "koi8-r", "iso8859-7", "cp1255", "cp1256", "iso8859-6", "cp874",
    "cp857", "cp862", "cp737", "cp775", "mac-turkish", "mac-greek", "mac-cyrillic",
)  # fmt: skip
"""In the order of how common they are: of equally good ones the first is taken."""
WORD = re.compile(rb"[A-Za-z'\x80-\xff]*[\x80-\xff][A-Za-z'\x80-\xff]*")
MOST_WORDS, JUDGED = 20_000, 1_000
"""Words that are gathered, which an encoding must be able to read, and the most frequent of them, which tell
whose language they are."""
LOOKED_AT = 1 << 20
"""Bytes of a chunk whose plain words are looked at."""

_CYRILLIC = "абвгдежзийклмнопрстуфхцчшщъыьэюяё"
ALPHABETS = {
    "German": "äöüß", "French": "éèêàçùûîôïëœâ", "Spanish": "áéíóúñü", "Portuguese": "ãõáàâçéêíóôú",
    "Italian": "àèéìòù", "Catalan": "àèéíïòóúüç", "Dutch": "ëéïöüè", "Swedish": "åäöé", "Danish": "æøåé",
    "Icelandic": "áéíóúýðþæö", "Estonian": "äöõüšž", "Polish": "ąćęłńóśźż", "Czech": "áčďéěíňóřšťúůýž",
    "Slovak": "áäčďéíĺľňóôŕšťúýž", "Hungarian": "áéíóöőúüű", "Romanian": "ăâîşţșț", "Croatian": "čćđšž",
    "Lithuanian": "ąčęėįšųūž", "Latvian": "āčēģīķļņšūž", "Turkish": "çğıöşüİâ",
    "Russian": _CYRILLIC, "Ukrainian": "абвгґдеєжзиіїйклмнопрстуфхцчшщьюя",
    "Greek": "αβγδεζηθικλμνξοπρσςτυφχψωάέήίόύώϊϋΐΰ",
    "Hebrew": "אבגדהוזחטיךכלםמןנסעףפץצקרשת",
    "Arabic": "ءآأؤإئابةتثجحخدذرزسشصضطظعغفقكلمنهوىيپچژگکی",
    "Thai": "".join(map(chr, (*range(0x0E01, 0x0E3B), *range(0x0E40, 0x0E4F)))),
}  # fmt: skip
_HINTS = {
    "German": "betrag buchung konto rechnung und soll haben kunde artikel menge preis datum nummer lieferant",
    "French": "montant compte facture libelle achat banque numero prix fournisseur",
    "Spanish": "fecha importe cuenta concepto proveedor factura pago cliente articulo codigo precio numero",
    "Portuguese": "valor conta fornecedor fatura pagamento cliente artigo numero nome",
    "Italian": "importo conto fattura descrizione pagamento cliente articolo codice prezzo numero fornitore nome",
    "Dutch": "bedrag omschrijving rekening factuur klant artikel prijs datum nummer",
    "Swedish": "belopp konto faktura och leverans kund datum pris",
    "Danish": "dato tekst konto faktura og bilag kunde pris",
    "Icelandic": "dags reikningur",
    "Estonian": "summa arve kuup konto klient hind",
    "Polish": "kwota opis konto faktura numer klient cena",
    "Czech": "popis datum faktura doklad cena kod",
    "Slovak": "suma popis doklad cena datum",
    "Hungarian": "bank utalas kelt megnevez nev",
    "Romanian": "suma factura data cont furnizor pret",
    "Croatian": "iznos opis datum konto kupac",
    "Lithuanian": "suma data saskaita kaina klientas",
    "Latvian": "summa datums konts cena klients",
    "Turkish": "tarih tutar hesap fatura cari",
}
_SURE_SIGN = 1.5
"""Points of a sign where it stands as it does in ``N°``, ``3ª``, ``m²`` and ``°C``."""
LEAST_SURE = 0.5
"""Points a letter below which no encoding makes words of a text: of two bytes a letter, for one."""
_HINT, _MOST_HINTS, _NEIGHBOUR, _SIGN, _MOSTLY = 0.6, 3, 0.25, 0.6, 0.75
_VOWELS = frozenset("aeiouyáàâäãåæāąăéèêëēėęěíìîïīįióòôöõøőōœúùûüūųůűýıαεηιουωάέήίόύώаеиоуыэюяёієї")
_NO_TURNS = frozenset(ALPHABETS["Hebrew"] + ALPHABETS["Arabic"] + ALPHABETS["Thai"])
"""Letters of alphabets in which vowels are not written, or are marks on other letters."""
_THAI = frozenset(ALPHABETS["Thai"])
_LAST_ONLY = frozenset("ςךםןףץ")
"""Letters that stand at the end of a word alone."""
_BEFORE, _AFTER = frozenset("เแโใไ"), frozenset("ะาำัิีึืฺุู็่้๊๋์ํ")
"""Vowels and marks of Thai that stand before, and after, the letter that they belong to."""
_SETS = {name: frozenset(letters + letters.upper()) for name, letters in ALPHABETS.items()}
_SIGNS = frozenset("€£₪₫₺₽₴₸฿§°ºª«»„“”‚‘’–—…·•¿¡²³½¼¾µ™®©×÷±¹¢¥ƒ\u00a0\u00ad№")
_WORD_SIGNS = frozenset("’ºª\u00a0\u00ad·")
"""Signs that may stand against a letter."""


@dataclass(frozen=True)
class Told:
    """The encoding, and the language whose letters tell it; no language where signs alone are there, or
    where no encoding makes words of them."""

    encoding: str
    language: str
    told: bool = True


def gathered(chunks: Iterable[bytes]) -> tuple[Counter[bytes], frozenset[str]]:
    """The words of a text that hold a byte above 127, as many as are needed, and its plain words."""
    found: Counter[bytes] = Counter()
    plain: set[str] = set()
    for chunk in chunks:
        if len(plain) < MOST_WORDS:
            plain |= {
                word.decode() for word in re.findall(rb"[a-z]{2,12}", chunk[:LOOKED_AT].lower())
            }
        if len(found) < MOST_WORDS and not chunk.isascii():
            found.update(match.group() for match in islice(WORD.finditer(chunk), MOST_WORDS))
    return found, frozenset(plain)


def tell(words: Mapping[bytes, int], plain: Collection[str] = ()) -> Told:
    """The encoding that makes the best of words.

    Parameters
    ----------
    words : mapping
        Words that hold a byte above 127, and how often they stand there.
    plain : collection of str
        Words of the text without such a byte, in small letters: they hint at its language.

    Examples
    --------
    >>> tell({"Dvořák".encode("cp1250"): 1}).encoding
    'cp1250'
    >>> tell({"Peñíscola".encode("latin-1"): 1}).language
    'Spanish'
    """
    best, score = Told(CANDIDATES[0], ""), float("-inf")
    hints = {name: len(set(text.split()) & set(plain)) for name, text in _HINTS.items()}
    whole = b" ".join(words)
    judged = Counter(words).most_common(JUDGED)
    for encoding in CANDIDATES:
        try:
            whole.decode(encoding)
        except UnicodeDecodeError:
            continue
        texts = {word.decode(encoding): count for word, count in judged}
        language, points = _best_language(texts, hints)
        if points > score + 1e-9:
            best, score = Told(encoding, language), points
    letters = sum(
        sum(mark >= "\x80" and mark.isalpha() for mark in word.decode(best.encoding, "replace")) * n
        for word, n in judged
    )
    if letters and score < LEAST_SURE * letters:
        return Told(CANDIDATES[0], "", told=False)
    return best


def _best_language(texts: Mapping[str, int], hints: Mapping[str, int]) -> tuple[str, float]:
    """The language that most letters are of, and how well the texts read as its words."""
    letters: Counter[str] = Counter()
    points = 0.0
    for text, count in texts.items():
        for place, mark in enumerate(text):
            if mark < "\x80":
                continue
            before = text[place - 1] if place else " "
            after = text[place + 1] if place + 1 < len(text) else " "
            if _is_letter(mark):
                letters[mark] += count
                points += count * (
                    _turns(before, mark, after)
                    - _odd_case(before, mark, after)
                    - _odd_place(before, mark, after)
                )
            else:
                points -= count * _odd_sign(before, mark, after)
    total = sum(letters.values())
    language, inside = "", 0.0
    for name, alphabet in _SETS.items():
        fitting: float = sum(count for mark, count in letters.items() if mark in alphabet)
        fitting += _HINT * min(hints.get(name, 0), _MOST_HINTS) if fitting else 0
        if fitting > inside:
            language, inside = name, fitting
    return language, 2 * inside - total + points


def _is_letter(mark: str) -> bool:
    return (mark.isalpha() and mark not in "ªº") or mark in _THAI


def _is_vowel(mark: str) -> bool:
    return mark.casefold()[:1] in _VOWELS


def _turns(before: str, mark: str, after: str) -> float:
    """How far vowels and consonants take turns around a letter, as in words they mostly do; where vowels are
    no letters, what a word mostly has."""
    near = [each for each in (before, after) if _is_letter(each)]
    if mark in _NO_TURNS:
        return _NEIGHBOUR * _MOSTLY * len(near)
    return _NEIGHBOUR * sum(_is_vowel(each) != _is_vowel(mark) for each in near)


def _odd_place(before: str, mark: str, after: str) -> float:
    """How odd a letter is where it stands in its word: alone, where words have several; one that ends words
    within one; a mark that belongs to a letter without it."""
    if not _is_letter(before) and not _is_letter(after):
        # A pound before its digits and a dash between words are letters elsewhere; few letters are words.
        return 0.5
    if mark in _LAST_ONLY:
        return 2.0 if _is_letter(after) else 0.0
    if mark in _BEFORE:
        return 0.0 if after in _THAI and after not in _AFTER else 2.0
    if mark in _AFTER:
        return 0.0 if before in _THAI and before not in _BEFORE else 2.0
    return 0.0


def _odd_case(before: str, mark: str, after: str) -> float:
    """How odd a letter is beside its neighbours: a capital after a small one, a small one among capitals,
    one of another alphabet."""
    if any(each.isalpha() and (each < "\u0370") != (mark < "\u0370") for each in (before, after)):
        return 2.0  # letters of two alphabets in one word
    if mark.isupper():
        alone = not before.isalpha() and not after.isalpha()
        return 2.0 if before.islower() else 0.5 if alone else 0.1
    return 1.0 if before.isupper() and after.isupper() else 0.0


def _odd_sign(before: str, mark: str, after: str) -> float:
    if mark not in _SIGNS:
        return 3.0
    numbered = mark in "°ºª" and before in "Nn0123456789" and not after.isalpha()
    squared = mark in "²³" and before in "mM" and not after.isalpha()
    if numbered or squared or (mark == "°" and not before.isalpha() and after in "CF"):
        return -_SURE_SIGN
    if mark in "°ºª" and not before.isalpha() and not after.isalpha():
        return -_SURE_SIGN / 2  # behind a figure, which is no part of a word
    if mark in _WORD_SIGNS:
        return 0.0
    return 2.0 if before.isalpha() or after.isalpha() else -_SIGN
