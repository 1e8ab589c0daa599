"""Numbers that were given to rows one after another, whatever their column is called."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from itertools import pairwise

from sabueso.intake.formats.called import looks_like_date, looks_like_measure, worded
from sabueso.intake.formats.guessing import named_otherwise
from sabueso.intake.interface import Layout
from sabueso.population.table import Role

LEAST, ROOM, APART = 20, 1.5, 0.025
"""Rows that there must be, how many times as many numbers from the least to the greatest of theirs, at most, and the share of
them at either end that may lie apart, as one that was keyed in later."""
LEAST_NUMBER, LEAST_COUNTED, IN_TURN = 1_000, 100, 0.95
"""Smaller ones may count, or say an age; unless they count so many rows from 1 on, such a share of them each one more than the
row before."""
_WHOLE, _YEAR = re.compile(r"[0-9]{1,12}"), re.compile(r"(?:19|20)[0-9]{2}")
_PARTED = re.compile(r"([0-9]{1,8})(\.[0-9]{1,4})+")
"""A code in parts, as those of a tariff or a plan are."""


def settle_serial(
    guessed: dict[Role, str],
    given: Mapping[str, str],
    layout: Layout,
    samples: Mapping[str, Sequence[str]],
) -> None:
    """The first column of a file, where nothing is called as what tells its rows apart and its numbers are serial."""
    first = next(iter(layout.header), "")
    taken = {*guessed.values(), *given.values()}
    if "id" in guessed or "id" in given or first in taken:
        return
    if are_serial(first, samples.get(first, ()), layout.sample.num_rows):
        guessed["id"] = first


def may_be_codes(name: str, texts: Sequence[str]) -> bool:
    """Whether texts are whole numbers, not all of them years, in a column that is not called as what is counted or dated."""
    if looks_like_measure(name) or looks_like_date(name) or named_otherwise("id", worded(name)):
        return False
    return all(map(_WHOLE.fullmatch, texts)) and not all(map(_YEAR.fullmatch, texts))


def are_parted(name: str, texts: Sequence[str]) -> bool:
    """Whether texts are of parts with as many digits each, such as 6109.10, in a column that is not called as what is counted
    or dated.

    Examples
    --------
    >>> are_parted("Heading", ["6109.10", "8518.30"]), are_parted("Heading", ["6109.10", "851.3"])
    (True, False)
    """
    if looks_like_measure(name) or looks_like_date(name) or named_otherwise("id", worded(name)):
        return False
    lengths = {tuple(map(len, text.split("."))) for text in texts if _PARTED.fullmatch(text)}
    return len(lengths) == 1 and all(map(_PARTED.fullmatch, texts))


def are_serial(name: str, texts: Sequence[str], rows: int) -> bool:
    """Whether a column has another whole number in each row, nearly one after another, and is not called as what is
    counted or dated.

    Parameters
    ----------
    texts : sequence of str
        Its texts in so many ``rows``, those that are blank left out.
    """
    if not LEAST <= rows == len(texts) or not may_be_codes(name, texts):
        return False
    if any(text.startswith("0") for text in texts):
        return False
    if _count_up(list(map(int, texts))):
        return True
    numbers = sorted(map(int, texts))
    few = int(APART * rows)
    span = numbers[-1 - few] - numbers[few]
    return len(set(numbers)) == rows and numbers[0] >= LEAST_NUMBER and span < ROOM * rows


def _count_up(numbers: Sequence[int]) -> bool:
    """Whether numbers of rows count these from 1 on, as tickets of a season do."""
    if len(numbers) < LEAST_COUNTED or numbers[0] != 1 or len(set(numbers)) < len(numbers):
        return False
    return sum(b == a + 1 for a, b in pairwise(numbers)) >= IN_TURN * (len(numbers) - 1)
