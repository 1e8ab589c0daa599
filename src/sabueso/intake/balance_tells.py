"""What a balance after each row tells of amounts that have no signs: which kinds of rows lower it, though they are added."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa

from sabueso.base.words import first_few
from sabueso.intake.formats.downward import plain
from sabueso.intake.formats.moving import whole_values
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.interface import Assumed
from sabueso.intake.readers.cells import num_lines
from sabueso.intake.reading import Reading
from sabueso.population.expressions import literal, quoted_name

LEAST_STEPS, SHARE, OF_ONE_SIGN = 30, 0.9, 0.95
"""Rows with one before them, the share of them by whose amount the balance moves, and that of a kind which move it one way."""
MOST_KINDS, MOST_COLUMNS, MOST_NAMED = 12, 10, 3


def told_by_balance(reading: Reading, amount: str) -> list[Assumed]:
    """What is said of a file's first lines, where all amounts are above nothing and a balance falls by some of them."""
    formats, sample, roles = reading.formats, reading.layout.sample, reading.roles
    fits = isinstance(formats.get(amount), NumberFormat) and amount in sample.column_names
    if not fits or "side" in roles or "debit" in roles:
        return []
    moved = whole_values(sample.column(amount), formats[amount])
    if (moved < 0).any() or not (moved > 0).any():
        return []
    numbers = [n for n, f in formats.items() if isinstance(f, NumberFormat) and n != amount]
    balances = [n for n in numbers if n in sample.column_names][:MOST_COLUMNS]
    texts = {
        name: plain(sample.column(name)).dictionary_encode()
        for name in sample.column_names
        if name in formats and formats[name].type == "text"
    }
    owners = [name for name, coded in texts.items() if 1 < 2 * len(coded.dictionary) < len(coded)]
    for balance in balances:
        stood = whole_values(sample.column(balance), formats[balance])
        for owner in (None, *owners[:MOST_COLUMNS]):
            codes = None if owner is None else texts[owner].indices.fill_null(-1).to_numpy()
            for signs in _signs(stood, moved, codes):
                kinds = _kinds(signs, texts, owner)
                said = f"{balance} falls by the amounts of {int((signs < 0).sum()):,} of the first {num_lines(len(signs))}"
                return [Assumed(_told(said, amount, kinds), "columns", (amount,))]
    return []


def _signs(stood: np.ndarray, moved: np.ndarray, codes: np.ndarray | None) -> Iterator[np.ndarray]:
    """Whether the balance rises, 1, or falls, -1, by the amount of each row, 0 where neither is told; nothing where it does
    not go by the amounts. It may stand after each row, or the newest row first."""
    order = np.arange(len(stood)) if codes is None else np.argsort(codes, kind="stable")
    together = np.ones(len(stood) - 1, bool) if codes is None else np.diff(codes[order]) == 0
    together &= ~np.isnan(stood[order][1:]) & ~np.isnan(stood[order][:-1])
    steps = np.diff(stood[order])
    for rows, by in ((order[1:], steps), (order[:-1], -steps)):
        own = moved[rows]
        known = together & (own > 0)
        way = np.where(known & (by == own), 1, np.where(known & (by == -own), -1, 0))
        enough = known.sum() >= LEAST_STEPS and np.count_nonzero(way) >= SHARE * known.sum()
        if enough and min((way > 0).sum(), (way < 0).sum()) > (1 - OF_ONE_SIGN) * known.sum():
            found = np.zeros(len(stood), dtype=int)
            found[rows] = way
            yield found
            return


def _kinds(
    signs: np.ndarray, texts: dict[str, pa.DictionaryArray], owner: str | None
) -> tuple[str, list[str], list[str]] | None:
    """The column whose texts tell which way a row moves the balance, and those that lower it and raise it."""
    for name, coded in texts.items():
        values: list[str] = coded.dictionary.to_pylist()
        if name == owner or not 2 <= len(values) <= MOST_KINDS:
            continue
        codes = coded.indices.fill_null(-1).to_numpy()
        lower: list[str] = []
        upper: list[str] = []
        for place, value in enumerate(values):
            own = signs[(codes == place) & (signs != 0)]
            if len(own) and max((own < 0).mean(), (own > 0).mean()) < OF_ONE_SIGN:
                break
            if len(own):
                (lower if own.mean() < 0 else upper).append(value)
        else:
            if lower and upper:
                return name, lower, upper
    return None


def _told(said: str, amount: str, kinds: tuple[str, Sequence[str], Sequence[str]] | None) -> str:
    if kinds is None:
        return f"{said}, which are above nothing as all others: they are added, and not taken off"
    name, lower, upper = kinds
    named = [first_few([repr(text) for text in texts], MOST_NAMED) for texts in (lower, upper)]
    case = f"case when {quoted_name(name)} in ({', '.join(map(literal, lower))}) then -{quoted_name(amount)} else {quoted_name(amount)} end"
    return (
        f"{said}, those whose {name} is {named[0]}, and rises by those of {named[1]}; all are above nothing, and are added: "
        f"give {case} a name under columns, and that the role amount, to have them taken off"
    )
