"""What the name of a column or of a table tells: its words, and whether it is a code, a measure or a date."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

from sabueso.intake.formats.header_words import (
    CODE_NAMES,
    CODE_WORDS,
    RUNNING,
    UNSPACED,
    WORDS,
    inflected,
    within,
)
from sabueso.intake.formats.joined_words import told_apart
from sabueso.intake.formats.role_words import BY, CHANGED, ENTERED
from sabueso.population.table import Role

_MASTERS: dict[Role, frozenset[str]] = {
    "account": frozenset(
        [*WORDS["account"].split(), "chart", "coa", "plan", "kontenplan", "conti"]
    ),
    "party": frozenset(
        [*WORDS["party"].split(), "creditor", "debtor", "personal", "staff", "crediteuren"]
    ),
}
"""Words in the name of a table that say what its keys are."""
_PLURALS = ("", "s", "es", "n", "en", "e")
NUMBER_ROLES: tuple[Role, ...] = ("debit", "credit", "amount", "quantity", "price")


_LETTERS = str.maketrans(
    {"ø": "o", "Ø": "O", "ł": "l", "Ł": "L", "ß": "ss", "æ": "ae", "đ": "d", "ı": "i"}
)
"""Letters that are no plain letter with an accent."""


_ENDINGS = re.compile(
    r"([a-z]{3,}?)(nr|nummer|nummern|feld|datum|betrag|bedrag|konto|preis|prijs|menge|wert|differenz|summe|text|zeit|tag|rekening)"
)
"""What words of one piece end in, in languages that put words together."""


_WITHOUT_UMLAUT = re.compile("([aou])e")
_KNOWN = frozenset(word for words in WORDS.values() for word in words.split() if len(word) > 4)
"""Words that may be written with two letters for one that has an umlaut: Empfaenger."""


def worded(name: str) -> list[str]:
    """The words of a name, those that are put together also apart: ``Rechnungsnr`` -> ``rechnungsnr, rechnungs,
    rechnung, nr``."""
    found: list[str] = []
    for word in words_of(name):
        found.append(word)
        plain = _WITHOUT_UMLAUT.sub(r"\1", word)
        if plain != word and plain in _KNOWN:
            found.append(plain)
        if UNSPACED.fullmatch(word):
            found += within(word)
        elif word[0] >= "\u0400":
            found += inflected(word)
        parts = _ENDINGS.fullmatch(word)
        if parts is not None:
            stem, ending = parts.groups()
            found += [
                stem,
                *(stem.removesuffix(e) for e in ("s", "n", "en") if stem.endswith(e)),
                ending,
            ]
    return list(dict.fromkeys(found))


_LEDGER = re.compile(r"(?i)\b(?:g/l|a/c)(?!\w)")
_CAPITAL_WITHIN = re.compile(
    r"(?<=[a-zà-ÿ])(?=[A-Z](?:[a-zà-ÿ]|[A-Z]+(?![a-zà-ÿ])))|(?<=[A-Z][A-Z])(?=[A-Z][a-zà-ÿ]{2})"
)
"""Where a word of a name begins that nothing but a capital sets apart: CompteNum, CustomerID, GLAccount."""


def folded(name: str) -> str:
    """Small letters, without accents, words apart: ``N.º Factura`` -> ``n o factura``, ``CompteNum`` -> ``compte
    num``. What is written without blanks stays together."""
    name = _CAPITAL_WITHIN.sub(" ", _LEDGER.sub(" gl ", name)).replace("#", " no ")
    plain = "".join(map(_without_accent, unicodedata.normalize("NFKC", name.translate(_LETTERS))))
    plain = plain.replace("\u0e4d\u0e32", "\u0e33")  # one vowel of Thai, which is taken apart
    return " ".join(_TOKEN.findall(plain.casefold()))


_TOKEN = re.compile(rf"{UNSPACED.pattern}|[^\W\d_]+|[0-9]+")


def _without_accent(letter: str) -> str:
    """A letter of the alphabets that have accents; in others marks are letters, or parts of them."""
    if letter >= "\u0530" and not "\u1e00" <= letter < "\u2000":
        return letter
    return "".join(c for c in unicodedata.normalize("NFKD", letter) if not unicodedata.combining(c))


def words_of(name: str) -> list[str]:
    """The words of a name, those that a program wrote in one piece apart: ``InvoiceDate``, ``invoicedate``."""
    return [word for each in folded(name).split() for word in told_apart(each)]


def role_of_master(table: str) -> Role | None:
    """The role of a column that is linked with a table of such a name; None where the name tells none."""
    words = set(words_of(table))
    for role, known in _MASTERS.items():
        if words & {word + ending for word in known for ending in _PLURALS}:
            return role
    return None


_MEASURE_WORDS = frozenset(
    [
        *[
            "amounts",
            "importes",
            "totals",
            "subtotal",
            "tax",
            "vat",
            "iva",
            "mwst",
            "tva",
            "price",
            "precio",
            "rate",
            "due",
            "discount",
            "depreciation",
            "amortisation",
            "amortization",
            "amortizacion",
            "amortissement",
            "ammortamento",
            "abschreibung",
            "descuento",
            "base",
        ],
        *WORDS["amount"].split(),
        *WORDS["quantity"].split(),
        *RUNNING,
    ]
)
_GROUPED = re.compile(r"\d{1,3}(?:\.\d{3})+,\d{2}|\d{1,3}(?:[, ']\d{3})+\.\d{2}")
"""An amount with cents and its thousands apart by another mark."""
_BELOW = re.compile(
    r"-[0-9][0-9.,' ]*[.,][0-9]{1,2}|\([0-9][0-9.,' ]*[.,][0-9]{1,2}\)|[0-9][0-9.,' ]*[.,][0-9]{2}-"
)
_DECIMAL = re.compile(r"[^0-9]*[0-9][0-9.,' ]*[.,][0-9]{1,2}[^0-9]*")


def looks_like_code(name: str, values: Sequence[str] = ()) -> bool:
    """Whether a column holds identifiers, whose digits are not a quantity.

    Its values decide before its name: what a header calls an amount besides, and holds decimals or
    minuses, is one, whatever other word stands in it (``Invoice Amount``, ``VAT``).
    """
    words = worded(name)
    plain = " ".join(words)
    large = sum(_NO_MONEY.fullmatch(v) is not None for v in values)
    if large and 2 * large >= len(values) and not looks_like_measure(name):
        return True
    by_whom = not BY.isdisjoint(words) and not (ENTERED | CHANGED | _APPROVED).isdisjoint(words)
    if CODE_WORDS.search(plain) is None and CODE_NAMES.isdisjoint(words) and not by_whom:
        return _are_long_numbers(values) and not (
            looks_like_measure(name) or looks_like_date(name) or looks_like_moment(name)
        )
    below = [v for v in values if _BELOW.fullmatch(v)]
    if below and 2 * len(below) >= len(values):
        return False  # no code is below nothing, with decimals
    if any(_GROUPED.fullmatch(v) for v in values) and all(_DECIMAL.fullmatch(v) for v in values):
        return False  # nor has one its thousands apart, and cents: a limit of each paper
    if _is_somebodys(words, values):
        return False
    measure = not _MEASURE_WORDS.isdisjoint(words)
    if not measure or not values:
        return not (measure and not values and not _NUMBERED.search(plain))
    if _NUMBERED.search(plain):
        return True
    numbers = [v for v in values if any(map(str.isdigit, v))]
    signed = sum(v.lstrip().startswith(("-", "(", "+")) or v.endswith("-") for v in numbers)
    decimals = sum(_DECIMAL.fullmatch(v) is not None for v in numbers)
    if signed or decimals * 2 >= len(numbers):
        return False
    # Whole numbers: a code has its length, an amount has many.
    lengths = {len(v) for v in numbers}
    if "nominal" in words and len(lengths) == 1:
        return True  # an account of a nominal ledger, and no amount that a bond is issued at
    plain_tax = bool({"tax", "vat", "iva"} & set(plain.split())) and len(plain.split()) <= 2
    return plain_tax and len(lengths) <= 2 and min(lengths, default=0) >= 6


_APPROVED = frozenset(WORDS["approver"].split())
_PAID_WITH = frozenset(["voucher", "cheque", "check", "ticket", "bono", "buono", "gutschein"])
_WHO = frozenset([*WORDS["party"].split(), *WORDS["preparer"].split(), "patients", "employees"])
CENTS = re.compile(r"[^0-9]*([0-9][0-9.,' ]*)[.,][0-9]{2}[^0-9]*")
"""An amount with cents, and its whole units."""
LEAST_CENTS, MANY_CENTS = 8, 25


_NO_MONEY = re.compile(r"[0-9]{19,}")
"""Whole numbers that no currency is counted in."""
_LONG_NUMBER = re.compile(r"[0-9]{10,}")
LEAST_LONG = 5


def _are_long_numbers(values: Sequence[str]) -> bool:
    """Whether all values are whole numbers of one length, of ten digits and more: cards, telephones, articles."""
    texts = [v for v in values if v]
    lengths = {len(v) for v in texts}
    return (
        len(texts) >= LEAST_LONG
        and len(lengths) == 1
        and all(_LONG_NUMBER.fullmatch(v) for v in texts)
    )


def _is_somebodys(words: Sequence[str], values: Sequence[str]) -> bool:
    """Whether somebody is named beside what he has to pay, or is paid: amounts with cents, large and small, under
    ``Employee Contribution``, or under the paper that is paid with: ``Voucher`` beside ``Cash``."""
    whole = [found[1] for value in values if (found := CENTS.fullmatch(value))]
    if len(values) < LEAST_CENTS or len(whole) < len(values):
        return False
    if len(words) == 1 and words[0] in _PAID_WITH:
        # Numbers of a year, such as 2024.17, have few wholes; parts of a number few cents.
        cents = {re.sub(r"[^0-9]", "", value)[-2:] for value in values}
        some = min(len(values) // 4, MANY_CENTS)
        return 2 * len(set(whole)) > len(values) and len(cents) > some
    rest = [word for word in words if word not in _WHO]
    if not rest or len(rest) == len(words):
        return False
    if CODE_WORDS.search(" ".join(rest)) is not None or not CODE_NAMES.isdisjoint(rest):
        return False
    return len({len(each) for each in whole}) > 1


_NUMBERED = re.compile(
    r"\b(id|no|nbr|slip|ticket|serial|num|numero|number|nr|code|codigo|kod|kodu|kode|kodas|szam|element|center|centre|iban|nif|cif)\b"
)


_WHETHER = frozenset(
    [
        "yes", "no", "y", "n", "true", "false", "t", "f", "si", "ja", "nein", "nee", "oui", "non", "sim", "nao", "s",
        "x", "1", "0", "wahr", "falsch", "verdadero", "falso", "vrai", "faux", "tak", "nie", "da", "ne", "hayir",
        "evet", "approved", "rejected", "pending", "да", "нет", "是", "否",
    ]
)  # fmt: skip


def says_whether(values: Sequence[str]) -> bool:
    """Whether texts say no more than that something is so, or is not.

    Examples
    --------
    >>> says_whether(["TRUE", "false"]), says_whether(["Sí", "No", ""]), says_whether(["kl", "mr"]), says_whether([])
    (True, True, False, False)
    """
    words = {folded(value) for value in values} - {""}
    return bool(words) and words <= _WHETHER


def looks_like_measure(name: str) -> bool:
    """Whether a header names amounts or dates, so that texts among them are damage."""
    words = {*" ".join(WORDS[role] for role in (*NUMBER_ROLES, "date")).split(), *RUNNING}
    return any(part in words for part in worded(name))


def looks_like_date(name: str) -> bool:
    """Whether a header names a date."""
    words = WORDS["date"].split()
    return any(part in words for part in worded(name))


_DAYS = frozenset(["day", "dia", "tag", "jour", "giorno", "dag", "month", "mes", "mois", "monat"])


def names_a_day_of(name: str) -> bool:
    """Whether a header names a day, or a month, beside other words and no date: of the day, as against the night.

    Examples
    --------
    >>> [names_a_day_of(name) for name in ("Day opening", "Day", "Posting date", "Date of day")]
    [True, False, False, False]
    """
    words = worded(name)
    named = set(words) & set(WORDS["date"].split())
    return len(words) > 1 and bool(named) and named <= _DAYS


_MOMENTS = frozenset(
    [
        "created",
        "updated",
        "modified",
        "timestamp",
        "time",
        "datetime",
        "date",
        "ts",
        "at",
        "posted",
        "booked",
        "paid",
        "executed",
        "occurred",
    ]
)


def looks_like_moment(name: str) -> bool:
    """Whether a header names when a program noted something."""
    words = worded(name)
    return not _MOMENTS.isdisjoint(words) and CODE_WORDS.search(" ".join(words)) is None
