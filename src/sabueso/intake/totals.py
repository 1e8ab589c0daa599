"""Rows that state totals: told by their words before, here by what they add up to; and their check."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.called import worded
from sabueso.intake.formats.convert import TOTALS_COLUMNS, Converted
from sabueso.intake.formats.deciding import MARKS, Format
from sabueso.intake.formats.header_words import RUNNING
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.formats.stated import states_balance, states_total
from sabueso.intake.interface import Batch, TotalsLine
from sabueso.intake.reading import Reading, Tally
from sabueso.intake.summed import Running
from sabueso.population.table import LINE_COLUMN, exact_total

MOST_BALANCES = 200
"""Lines that state a balance which are shown."""
LEAST_SUMMED = 2
MOST_UNDATED = 0.2
"""Share of rows without a day up to which it is totals that have none."""
NOISE = Decimal("1e-10")
"""Part of a sum of floats that may be noise."""
MOST_WORDED = 100_000
"""Rows of a file up to which every text is looked at for a total's word."""


def with_totals_by_sum(batch: Batch, found: Converted, reading: Reading) -> Converted:
    """The batch with rows taken for totals that say so by what they add up to, whatever words they have.

    A row is looked at that has no date (where the table has one), or hardly a text, or that begins with a
    total's word; it is a total where every figure in it is the sum of the rows before it, or of those
    since the last total.
    """
    named = [name for name in reading.money if name in reading.layout.header]
    if not named or not (found.good | found.totals).any():
        return found
    lean, undated, texts = _lean(found, reading)
    may = (lean & found.good) | found.totals
    if not may.any():
        return found
    sums: list[int] = []
    if (undated & found.good).sum() > MOST_UNDATED * found.good.sum():
        # Where the day stands on the first line of an entry alone, lines may be what those above add up to by
        # chance. Those with the fewest texts are looked at first, and taken where most of their kind are sums.
        may &= ~undated | found.totals
        for many in sorted(set(texts[undated & found.good].tolist())):
            kind = undated & found.good & (texts == many)
            some = _sums_among(batch, found, reading, named, may | kind)
            if 2 * int(kind[some].sum()) > int(kind.sum()):
                may, sums = may | kind, some
    if not sums:
        sums = _sums_among(batch, found, reading, named, may)
    if not sums and not found.totals.any():
        return found
    lines = found.values.column(LINE_COLUMN).to_numpy()
    reading.tally.summed.update(lines[sums].tolist())
    totals = found.totals.copy()
    totals[sums] = True
    return replace(found, totals=totals)


def _sums_among(
    batch: Batch, found: Converted, reading: Reading, named: list[str], suspects: np.ndarray
) -> list[int]:
    """The places of rows among some whose figures are sums of those above, given that these are totals."""
    totals, sums = found.totals.copy(), []
    columns = {name: found.values.column(name) for name in named}
    running = Running(columns, found.good, found.balances, reading.tally)
    # What an account stands at is told from a sum row by row.
    plain = [name for name in named if RUNNING.isdisjoint(worded(name))]
    for place in running.candidates(np.flatnonzero(suspects), found.totals, plain):
        row = {name: value for name in named if (value := running.values[name].item(place))}
        if totals[place]:
            for name in named:
                if columns[name][place].as_py() is None:
                    said = _stated(batch, name, place, reading.formats[name])
                    if said:
                        row[name] = int(said.scaleb(columns[name].type.scale))
        stated = {
            name: value
            for name, value in row.items()
            if name in plain or not _is_carried(found, totals, name, place)
        }
        # One row alone is its own sum: then the words must say that a total follows it.
        least = 1 if totals[place] else LEAST_SUMMED
        is_sum = 2 * len(stated) >= len(row) and running.adds_up(place, stated, least)
        if is_sum:
            sums.append(place)
        if is_sum or totals[place]:
            running.mark_total(place, counted=not totals[place])
            totals[place] = True
    return sums


def _is_carried(found: Converted, totals: np.ndarray, name: str, place: int) -> bool:
    """Whether a figure is what an account stands at, and not a sum: that of the last row above it."""
    if RUNNING.isdisjoint(worded(name)):
        return False
    above = np.flatnonzero(found.good[:place] & ~totals[:place])
    column = found.values.column(name)
    return bool(len(above)) and column[int(above[-1])].as_py() == column[place].as_py()


def _lean(found: Converted, reading: Reading) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Rows with so little in them that they may state a total, those of them that have no day where the table has
    one and no total's word, and how many texts each has."""
    header = [name for name in reading.layout.header if name not in reading.layout.added]
    dated = reading.roles.get("date")
    texts = [n for n in header if n not in reading.money and n != dated]
    n = found.values.num_rows
    empty = np.zeros(n, dtype=np.int32)
    for name in texts:
        if found.values.column(name).null_count:
            empty += pc.is_null(found.values.column(name)).to_numpy(zero_copy_only=False)
    lean, undated = empty * 2 >= max(len(texts), 1), np.zeros(n, dtype=bool)
    if dated is not None and dated in header:
        lean = pc.is_null(found.values.column(dated)).to_numpy(zero_copy_only=False)
        undated = lean
    worded = [found.values.column(name) for name in texts[:TOTALS_COLUMNS]]
    # Few texts stand for many rows: all are looked at together, and hardly ever is one a total's.
    repeated = [words for words in worded if pa.types.is_dictionary(words.type)]
    known = [chunk.dictionary.cast(pa.string()) for words in repeated for chunk in words.chunks]
    searched = repeated if known and states_total(pa.concat_arrays(known)).any() else []
    if reading.tally.accepted + n <= MOST_WORDED:
        searched = searched + [words for words in worded if pa.types.is_string(words.type)]
    for words in searched:
        says = states_total(words.combine_chunks())
        lean, undated = lean | says, undated & ~says
    return np.asarray(lean), np.asarray(undated), len(texts) - empty


def _sums_of(
    found: Converted,
    chosen: np.ndarray,
    names: Iterable[str],
    carried: Mapping[str, Decimal],
    off: Mapping[str, Decimal],
) -> dict[str, Decimal]:
    """The sums of some rows of a batch with those of the batches before, less what is not meant of these."""
    kept = found.values.select(list(names)).filter(pa.array(chosen))
    none = Decimal(0)
    return {
        name: exact_total(kept.column(name)) + carried.get(name, none) - off.get(name, none)
        for name in names
    }


def _stated(batch: Batch, name: str, place: int, format: Format) -> Decimal | None:
    """The figure of a total whose text does not fit the column: with marks of thousands where no row has a
    thousand, or a float that a program added up, with the noise of all that went into it, which is meant to
    the column's decimals."""
    text = (batch.cells.column(name)[place].as_py() or "").strip()
    if not isinstance(format, NumberFormat) or not text:
        return None
    marks = (thousands for decimal, thousands in MARKS if decimal == format.decimal and thousands)
    for mark in () if format.thousands else marks:
        grouped = replace(format, thousands=mark).read(pa.array([text], pa.string()))
        if grouped[0].is_valid:
            return Decimal(grouped[0].as_py())
    if not re.fullmatch(r"-?[0-9]+\.[0-9]{6,16}", text):
        return None
    value = Decimal(text)
    near = value.quantize(Decimal(1).scaleb(-format.scale))
    return near if abs(near - value) <= NOISE * max(abs(value), Decimal(1)) else None


def note_totals(found: Converted, batch: Batch, reading: Reading) -> None:
    """Count the totals lines of a batch and keep the figures they state."""
    if not found.totals.any():
        return
    tally = reading.tally
    tally.totals += int(found.totals.sum())
    stated = [name for name in reading.money if name in reading.layout.header]
    last = int(np.flatnonzero(found.totals)[-1])
    until, stood = found.good.copy(), found.balances.copy()
    until[last:] = stood[last:] = False
    tally.rows_until_total = tally.accepted + int(until.sum())
    tally.until_total = _sums_of(found, until, stated, tally.sums, {})
    tally.balances_until_total = _sums_of(found, stood, stated, tally.balance_sums, {})
    chosen = found.values.filter(pa.array(found.totals)).select([*stated, LINE_COLUMN])
    places = np.flatnonzero(found.totals).tolist()
    for place, row in zip(places, chosen.to_pylist(), strict=True):
        for name in stated:
            value = row[name]
            if value is None:
                value = _stated(batch, name, place, reading.formats[name])
            if value is not None and not _is_carried(found, found.totals, name, place):
                tally.totals_rows.append((row[LINE_COLUMN], name, value, ""))


def note_balances(found: Converted, batch: Batch, reading: Reading) -> None:
    """Count the lines of a batch that state a balance, and add up what they state."""
    if not found.balances.any():
        return
    tally = reading.tally
    places = np.flatnonzero(found.balances)
    tally.totals += len(places)
    stated = [name for name in reading.money if name in reading.layout.header]
    tally.balance_sums = _sums_of(found, found.balances, stated, tally.balance_sums, {})
    lines = found.values.column(LINE_COLUMN)
    for place in places[: MOST_BALANCES - len(tally.balances)].tolist():
        texts = (str(c[place].as_py() or "").strip() for c in batch.cells.columns)
        said = next((t for t in texts if states_balance(pa.array([t])).any()), "")
        tally.balances.append((lines[place].as_py(), said))


def totals_lines(tally: Tally) -> list[TotalsLine]:
    """The totals that a file states, each beside the rows."""
    return [
        TotalsLine(
            line=line,
            column=name,
            stated=stated,
            # A total of a block, or of the rows so far, is that of the rows above it.
            accepted=stated if line in tally.summed else tally.sums.get(name, Decimal(0)),
            quarantined=tally.quarantined_sums.get(name, Decimal(0)),
            what=what,
        )
        for line, name, stated, what in tally.totals_rows
    ]
