"""Texts that are the same or nearly so: folded, and by the similarity of their words."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterator, Sequence

_APART = re.compile(r"[^0-9a-z]+")
LEGAL = frozenset(
    [
        "sa",
        "sl",
        "slu",
        "sau",
        "sc",
        "scoop",
        "coop",
        "sociedad",
        "limitada",
        "anonima",
        "ltd",
        "limited",
        "llc",
        "llp",
        "plc",
        "inc",
        "corp",
        "corporation",
        "co",
        "company",
        "gmbh",
        "ag",
        "kg",
        "ohg",
        "ug",
        "sarl",
        "sas",
        "snc",
        "srl",
        "spa",
        "bv",
        "nv",
        "oy",
        "ab",
        "as",
        "aps",
        "lda",
        "ltda",
        "eirl",
        "cia",
    ]
)
"""Words for a company's legal form, which say nothing of its name."""
MOST_HOLDERS = 400
"""Texts that share a beginning of a word, above which it tells nobody from another."""


def normalised(value: object) -> str:
    """Without case, accents, blanks, marks and zeros before a number.

    Examples
    --------
    >>> normalised("ES62 4916-3695 0007"), normalised("es62491636950007")
    ('es62491636950007', 'es62491636950007')
    >>> normalised("Águilas, S.L."), normalised("000417"), normalised(None)
    ('aguilassl', '417', '')
    """
    if value is None:
        return ""
    plain = unicodedata.normalize("NFKD", str(value)).casefold()
    joined = _APART.sub("", "".join(c for c in plain if not unicodedata.combining(c)))
    return joined.lstrip("0") if joined.isdigit() and joined.strip("0") else joined


def words(value: object) -> list[str]:
    """The words of a name, folded, without those of a legal form, in the order of their letters.

    Examples
    --------
    >>> words("Talleres Ñandú Hnos., S.L.")
    ['hnos', 'nandu', 'talleres']
    """
    if value is None:
        return []
    plain = unicodedata.normalize("NFKD", str(value)).casefold()
    text = "".join(c for c in plain if not unicodedata.combining(c)).replace(".", "")
    return sorted(w for w in _APART.split(text) if w and w not in LEGAL)


def alike(
    left: Sequence[str], right: Sequence[str], threshold: float
) -> Iterator[tuple[int, int, float]]:
    """Pairs of nearly equal names: places in both, and their similarity from 0 to 100.

    Names are compared that share the first three letters of a word which few names have: no more than
    some hundred comparisons a name, however many there are.

    Parameters
    ----------
    threshold : float
        Similarity of the sorted words, 100 less the share of letters to be changed, from which they
        are alike.
    """
    from rapidfuzz import fuzz, process

    found = [" ".join(words(text)) for text in right]
    holders: dict[str, list[int]] = defaultdict(list)
    for place, text in enumerate(found):
        for start in {word[:3] for word in text.split()}:
            holders[start].append(place)
    for place, text in enumerate(left):
        name = " ".join(words(text))
        if not name:
            continue
        starts = sorted({word[:3] for word in name.split()}, key=lambda s: len(holders.get(s, ())))
        candidates = sorted(
            {
                k
                for number, start in enumerate(starts)
                # The rarest beginning is always looked at, cut where even it is common.
                for k in holders.get(start, ())[: MOST_HOLDERS if not number else None]
                if not number or len(holders.get(start, ())) <= MOST_HOLDERS
            }
        )
        if not candidates:
            continue
        scores = process.extract(
            name,
            {k: found[k] for k in candidates},
            scorer=fuzz.ratio,
            score_cutoff=threshold,
            limit=None,
        )
        yield from sorted((place, k, float(score)) for _, score, k in scores)


def differs(one: object, other: object) -> str:
    """What tells two names apart, in words.

    Examples
    --------
    >>> differs("Águilas S.L.", "Aguilas SL"), differs("Águilas SL", "Águilas SA")
    ('accents, case or marks', 'the legal form')
    >>> differs("Aguilas SL", "Agulas SL"), differs("Mar Azul", "Azul Mar")
    ('letters', 'the order of the words')
    """
    if str(one) == str(other):
        return "nothing"
    if normalised(one) == normalised(other):
        return "accents, case or marks"
    if words(one) == words(other):
        first = [w for w in _APART.split(str(one).casefold()) if w and w not in LEGAL]
        second = [w for w in _APART.split(str(other).casefold()) if w and w not in LEGAL]
        return (
            "the order of the words"
            if sorted(first) == sorted(second) and first != second
            else "the legal form"
        )
    return "letters"
