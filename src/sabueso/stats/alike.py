"""Texts that are the same or nearly so: folded, and by the similarity of their words."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterator, Sequence

_APART = re.compile(r"[^0-9a-z]+")
_FIGURES = re.compile(r"[0-9]+")
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
MOST_OF_ALL = 50_000
"""Names that a name is compared with, where it has no beginning of a word that few have."""
AT_ONCE = 4_000_000
"""Comparisons whose scores are held at once."""


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
    joined = _APART.sub("", _folded(str(value)))
    return joined.lstrip("0") if joined.isdigit() and joined.strip("0") else joined


def _folded(text: str) -> str:
    """Without case and accents."""
    if text.isascii():
        return text.lower()
    plain = unicodedata.normalize("NFKD", text).casefold()
    return "".join(c for c in plain if not unicodedata.combining(c))


def words(value: object) -> list[str]:
    """The words of a name, folded, without those of a legal form, in the order of their letters.

    Examples
    --------
    >>> words("Talleres Ñandú Hnos., S.L.")
    ['hnos', 'nandu', 'talleres']
    """
    if value is None:
        return []
    text = _folded(str(value)).replace(".", "")
    return sorted(w for w in _APART.split(text) if w and w not in LEGAL)


def alike(
    left: Sequence[str], right: Sequence[str], threshold: float
) -> Iterator[tuple[int, int, float]]:
    """Pairs of nearly equal names: places in both, and their similarity from 0 to 100.

    Names are compared that share the first three letters of a word which few names have, or of the rarest
    of theirs.

    Parameters
    ----------
    threshold : float
        Similarity of the sorted words, 100 less the share of letters to be changed, from which they
        are alike.
    """
    import numpy as np
    from rapidfuzz import fuzz, process

    mine, theirs = ([plain(text) for text in side] for side in (left, right))
    holders = _by_start(theirs)
    asking: dict[str, list[int]] = defaultdict(list)
    for place, name in enumerate(mine):
        starts = sorted(_starts(name), key=lambda s: (len(holders.get(s, ())), s))
        for number, start in enumerate(starts):
            # The rarest beginning is always looked at, others where they tell somebody from another.
            if start in holders and (not number or len(holders[start]) <= MOST_HOLDERS):
                asking[start].append(place)
    found: set[tuple[int, int, float]] = set()
    for start, places in asking.items():
        others = holders[start][:MOST_OF_ALL]
        texts = [theirs[k] for k in others]
        step = max(AT_ONCE // len(others), 1)
        for first in range(0, len(places), step):
            some = places[first : first + step]
            scores = process.cdist(
                [mine[i] for i in some], texts, scorer=fuzz.ratio, score_cutoff=threshold,
                dtype=np.float64, workers=-1,
            )  # fmt: skip
            for i, k in zip(*np.nonzero(scores), strict=True):
                found.add((some[i], others[k], float(scores[i, k])))
    yield from sorted(found)


def _starts(name: str) -> set[str]:
    return {word[:3] for word in name.split()}


def _by_start(names: Sequence[str]) -> dict[str, list[int]]:
    """The places of names by the beginnings of their words."""
    holders: dict[str, list[int]] = defaultdict(list)
    for place, name in enumerate(names):
        for start in _starts(name):
            holders[start].append(place)
    return holders


def differs(one: object, other: object) -> str:
    """What tells two names apart, in words.

    Examples
    --------
    >>> differs("Águilas S.L.", "Aguilas SL"), differs("Águilas SL", "Águilas SA")
    ('accents, case or marks', 'the legal form')
    >>> differs("Aguilas SL", "Agulas SL"), differs("Mar Azul", "Azul Mar")
    ('letters', 'the order of the words')
    >>> differs("Shop 12", "Shop 13")
    'figures'
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
    return (
        "figures" if _FIGURES.sub("", plain(one)) == _FIGURES.sub("", plain(other)) else "letters"
    )


def plain(value: object) -> str:
    """The words of a name, folded and in the order of their letters, as one text."""
    return " ".join(words(value))
