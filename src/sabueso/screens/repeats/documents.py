"""Numbers of documents that are the same or alike: as a clerk who types one twice writes it."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

_APART = re.compile(r"[\W_]+")


def folded(text: str) -> str:
    """Letters and digits alone, capital, without accents, without zeros before a number.

    Examples
    --------
    >>> folded("fac-2025/00417"), folded("FAC 2025 417"), folded("Š-7"), folded("Ж-7")
    ('FAC2025417', 'FAC2025417', 'S7', 'Ж7')
    """
    plain = unicodedata.normalize("NFKD", text.upper())
    parts = _APART.split("".join(c for c in plain if not unicodedata.combining(c)))
    return "".join(
        part.lstrip("0") if part.isdigit() and part.strip("0") else part for part in parts
    )


def likeness(one: str, other: str) -> str | None:
    """How two numbers of documents differ, in words; None where they are not alike.

    Examples
    --------
    >>> likeness("A-417", "A-417"), likeness("A-417", "a 417"), likeness("A-4170", "A-4710")
    ('same document', 'document written otherwise', 'two characters changed places')
    >>> likeness("A-4171", "A-4177"), likeness("A-4171", "A-4171-B"), likeness("A-4171", "B-9020")
    ('one character differs', 'a suffix was added', None)
    """
    if one == other:
        return SAME
    first, second = folded(one), folded(other)
    if not first or not second:
        return None
    if first == second:
        return OTHERWISE
    if len(first) == len(second) and len(first) >= 4:
        off = [i for i, (a, b) in enumerate(zip(first, second, strict=True)) if a != b]
        if len(off) == 1:
            return "one character differs"
        if len(off) == 2 and off[1] == off[0] + 1:
            i, j = off
            if first[i] == second[j] and first[j] == second[i]:
                return "two characters changed places"
        return None
    short, long = sorted((first, second), key=len)
    if len(short) >= 4 and long.startswith(short) and len(long) - len(short) <= 2:
        return "a suffix was added"
    return None


SAME, OTHERWISE = "same document", "document written otherwise"
MOST_COMPARED = 100
"""Numbers of one cluster that are compared each with each."""


def certain(documents: Sequence[str | None]) -> str | None:
    """Whether two numbers of a cluster are of one document, and how it is written; None where all are of
    others. What is merely alike may be the next number of a series."""
    known = [each for each in documents if each]
    if len(set(known)) < len(known):
        return SAME
    forms = [form for form in map(folded, known) if form]
    return OTHERWISE if len(set(forms)) < len(forms) else None


def strongest(documents: Sequence[str | None]) -> str | None:
    """The closest likeness of any two numbers of a cluster."""
    known = [each for each in documents if each]
    if (found := certain(known)) is not None:
        return found
    compared = known[:MOST_COMPARED]
    alike = {likeness(a, b) for i, a in enumerate(compared) for b in compared[i + 1 :]}
    order = ("two characters changed places", "a suffix was added", "one character differs")
    return next((each for each in order if each in alike), None)
