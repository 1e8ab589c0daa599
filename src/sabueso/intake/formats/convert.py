"""A batch of text cells as values: numbers, dates, texts; which rows do not fit; which are totals."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.currencies import written
from sabueso.intake.formats.deciding import Format, TextFormat
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.intake.formats.sides import side_sign
from sabueso.intake.formats.stated import BARE_TOTAL, states_balance, states_total
from sabueso.intake.interface import Batch
from sabueso.population.nothing import MISSING
from sabueso.population.table import LINE_COLUMN, Column, Role

SIGNED = "amount"
"""The column made of a debit and a credit column."""
LEAST_USUAL = 0.8
"""Share of rows that are filled in a column that rows usually have."""
TOTALS_COLUMNS = 24
CODE_ROLES: tuple[Role, ...] = (
    "id", "account", "party", "document", "preparer", "approver",
)  # fmt: skip


@dataclass(frozen=True)
class Converted:
    """A batch's values. ``bad`` (n,) is the first column that a row's text does not fit, else -1;
    ``totals`` (n,) are the rows that state a total, ``balances`` (n,) those that state what an account stood at;
    ``blank`` (n,) those without any text; ``absent`` counts the texts of a column that stand for nothing, such as NA."""

    values: pa.Table
    bad: np.ndarray
    totals: np.ndarray
    blank: np.ndarray
    balances: np.ndarray
    absent: Counter[tuple[str, str]] = field(default_factory=Counter)

    @property
    def good(self) -> np.ndarray:
        return np.asarray((self.bad < 0) & ~self.totals & ~self.balances & ~self.blank)


def says_missing(text: str, more: Collection[str] = ()) -> bool:
    """Whether a text says that there is no value."""
    return text.casefold() in MISSING or text in more


@dataclass(frozen=True)
class Conversion:
    """How the columns of one file become values.

    ``signed`` is the column made of the debit and credit columns, where there is such a pair, and ``minus``
    are the sides whose amounts have a minus of their own;
    ``converted`` the one in the case's currency, made of the column ``base`` with the ``rates``.
    Amounts beside a column in the role ``side`` get their sign from it. Columns ``added`` stand on no line, and
    say nothing of what a line is. ``usual`` are columns that rows usually have something in; where they are None
    lines that state a balance are rows like all others.
    """

    header: Sequence[str]
    formats: Mapping[str, Format]
    roles: Mapping[Role, str]
    signed: Column | None
    converted: Column | None = None
    base: str = ""
    rates: Mapping[str, Decimal] = field(default_factory=dict)
    missing: Collection[str] = ()
    minus: Collection[str] = ()
    added: Collection[str] = ()
    usual: Collection[str] | None = None

    def expected(self, name: str) -> str:
        """What a text of a column should have been, to be told of one that does not fit."""
        if self.converted is not None and name == self.roles.get("currency"):
            return "a currency with a rate, one of " + ", ".join(self.rates)
        if name == self.roles.get("side"):
            return "a side: debit or credit, such as D or C"
        return self.formats[name].described().removesuffix(" (assumed)")

    def convert(self, batch: Batch) -> Converted:
        n = len(batch.lines)
        codes = {self.roles.get(role) for role in CODE_ROLES}
        texts: dict[str, pa.Array] = {}
        values: dict[str, pa.Array] = {}
        bad = np.full(n, -1)
        absent: Counter[tuple[str, str]] = Counter()
        for position, name in reversed(list(enumerate(self.header))):
            raw = _whole(batch.cells.column(name))
            if isinstance(self.formats[name], TextFormat):
                texts[name], values[name] = _texts(raw, name in codes)
                continue
            texts[name] = text = _trimmed(raw)
            values[name] = read = self.formats[name].read(text)
            if read.null_count != text.null_count:
                unread = pc.and_not(pc.is_null(read), pc.is_null(text))
                unread = self._unless_missing(name, text, unread, absent)
                bad[unread.to_numpy(zero_copy_only=False)] = position
        columns = {name: values[name] for name in self.header}
        if self.signed is not None:
            debit, credit = values[self.roles["debit"]], values[self.roles["credit"]]
            columns[SIGNED] = _signed(debit, credit, self.signed, self.minus)
        self._sided(columns, bad)
        self._at_rates(columns, bad)
        columns[LINE_COLUMN] = pa.array(batch.lines, pa.int64())
        own = {name: text for name, text in texts.items() if name not in self.added}
        totals, blank = self._totals(own, bad, n), _blank(own, n)
        balances = self._balances(own, bad, n) & ~totals
        return Converted(pa.table(columns), bad, totals, blank, balances, absent)

    def _unless_missing(
        self, name: str, text: pa.Array, unread: pa.Array, absent: Counter[tuple[str, str]]
    ) -> pa.Array:
        """The rows that could not be read and do not say that there is nothing to read."""
        plain = text.cast(pa.string()) if pa.types.is_dictionary(text.type) else text
        odd = pc.value_counts(plain.filter(unread)).to_pylist()
        marks = [item for item in odd if says_missing(item["values"], self.missing)]
        if not marks:
            return unread
        for item in marks:
            absent[name, item["values"]] += item["counts"]
        said = pc.is_in(plain, value_set=pa.array([item["values"] for item in marks]))
        return pc.and_not(unread, said)

    def _sided(self, columns: dict[str, pa.Array], bad: np.ndarray) -> None:
        """Give the amounts the sign of their side; rows without a side that is known do not fit."""
        side = self.roles.get("side")
        name = self.base or self.roles.get("amount")
        if side is None or name is None or side not in columns:
            return
        signs = _by_text(columns[side], side_sign, pa.int64())
        amounts = columns[name]
        self._unfit(bad, pc.and_(pc.is_valid(amounts), pc.is_null(signs)), side)
        credit = pc.equal(signs, -1).fill_null(False)
        columns[name] = pc.if_else(credit, pc.negate(amounts), amounts)

    def _at_rates(self, columns: dict[str, pa.Array], bad: np.ndarray) -> None:
        """Add the amounts in the case's currency, rounded half to even; without a rate no row fits."""
        if self.converted is None:
            return
        currency, amounts = self.roles["currency"], columns[self.base]
        scale = max(-int(rate.as_tuple().exponent) for rate in self.rates.values())
        scale = max(scale, 0)
        rates = _by_text(
            columns[currency], lambda text: self.rates.get(written(text)), pa.decimal128(18, scale)
        )
        self._unfit(bad, pc.and_(pc.is_valid(amounts), pc.is_null(rates)), currency)
        whole = amounts.cast(pa.decimal128(19, amounts.type.scale))
        product = pc.round(
            pc.multiply(whole, rates), ndigits=self.converted.scale, round_mode="half_to_even"
        )
        columns[self.converted.name] = product.cast(
            pa.decimal128(self.converted.precision, self.converted.scale)
        )

    def _unfit(self, bad: np.ndarray, rows: pa.Array, name: str) -> None:
        found = rows.to_numpy(zero_copy_only=False) & (bad < 0)
        bad[found] = list(self.header).index(name)

    def _balances(self, texts: Mapping[str, pa.Array], bad: np.ndarray, n: int) -> np.ndarray:
        """Rows that say that they state a balance, and lack something that rows usually have: an entry that opens
        an account in a journal has its number like all others."""
        found = np.zeros(n, dtype=bool)
        if self.usual is None:
            return found
        worded = [x for x in self.header if x in texts and isinstance(self.formats[x], TextFormat)]
        usual = [x for x in self.usual if x in texts]
        # Of a day, a text and an amount nothing else can be lacking.
        lean = np.full(n, not set(usual) - set(worded[:1])) | (_empties(texts, usual, n) > 0)
        places = np.flatnonzero(lean)
        for name in worded[:TOTALS_COLUMNS] if len(places) else ():
            found[places] |= states_balance(texts[name].take(pa.array(places)))
        # Printed reports have the words where their rows have the day.
        date, unread = self.roles.get("date"), np.flatnonzero(bad >= 0)
        if date is not None and date in texts and len(unread):
            found[unread] |= states_balance(texts[date].take(pa.array(unread)))
        return found

    def _totals(self, texts: Mapping[str, pa.Array], bad: np.ndarray, n: int) -> np.ndarray:
        """Rows without a date (or with half their cells empty) whose first word is a total's."""
        # A totals line says so in its first columns; very wide files are not searched further.
        names = [name for name in self.header if name in texts][:TOTALS_COLUMNS]
        date = self.roles.get("date")
        if date is not None and date not in texts:
            date = None
        if date is not None and date not in names:
            names.append(date)
        worded = [x for x in names if isinstance(self.formats[x], TextFormat) or x == date]
        if date is not None:
            lean = _empties(texts, [date], n) == 1
            unread = np.flatnonzero(bad >= 0)
            lean[unread] |= states_total(texts[date].take(pa.array(unread)))
        else:
            lean = _empties(texts, names, n) >= (len(names) + 1) // 2
            if len(worded) > 1:
                # No more than the bare word beside the figures; a supplier may be called Total.
                alone = _empties(texts, worded, n) == len(worded) - 1
                places = np.flatnonzero(alone & ~lean)
                for name in worded if len(places) else ():
                    said = texts[name].take(pa.array(places))
                    lean[places] |= states_total(said, BARE_TOTAL)
        if not lean.any():
            return lean
        places = np.flatnonzero(lean)
        chosen = pa.array(places)
        some = np.zeros(len(places), dtype=bool)
        for name in worded:
            some |= states_total(texts[name].take(chosen))
        # The word stands beside the figure, wherever that is: in a column of numbers it is none.
        amiss = np.flatnonzero((bad[places] >= 0) & ~some)
        if len(amiss):
            there = pa.array(places[amiss])
            for name in (x for x in names if x not in worded):
                some[amiss] |= states_total(texts[name].take(there), BARE_TOTAL)
        found = np.zeros(n, dtype=bool)
        found[places[some]] = True
        return found


def _by_text(texts: pa.Array, value: Callable[[str], Any], kind: pa.DataType) -> pa.Array:
    """A value for each distinct text, missing where the text is or the value is None."""
    encoded = texts if pa.types.is_dictionary(texts.type) else texts.dictionary_encode()
    known = [None if text is None else value(text) for text in encoded.dictionary.to_pylist()]
    return pa.array(known, kind).take(encoded.indices)


def _whole(column: pa.ChunkedArray) -> pa.Array:
    return column.chunk(0) if column.num_chunks == 1 else column.combine_chunks()


# Bytes that may begin or end a blank: ASCII blanks, and the first and last bytes of Unicode ones.
_BLANKS = np.zeros(256, bool)
_BLANKS[[9, 10, 11, 12, 13, 28, 29, 30, 31, 32, 0x85, 0xA0, 0xC2, 0xE1, 0xE2, 0xE3]] = True
_BLANKS[[*range(0x80, 0x8B), 0x9F, 0xA8, 0xA9, 0xAF]] = True


def _may_have_blanks(texts: pa.Array) -> bool:
    """Whether some text may begin or end with a blank or be empty, by its first and last byte."""
    if pa.types.is_dictionary(texts.type):
        texts = texts.dictionary
    _, buffer, data = texts.buffers()
    if data is None or not len(texts):
        return texts.null_count < len(texts)
    offsets = np.frombuffer(buffer, np.int32)[texts.offset : texts.offset + len(texts) + 1]
    held = np.frombuffer(data, np.uint8)
    filled = np.diff(offsets) > 0
    if filled.all() and held.min() > ord(" ") and held.max() < 0x7F:
        return False
    if np.count_nonzero(filled) < len(texts) - texts.null_count:
        return True
    first, last = offsets[:-1][filled], offsets[1:][filled] - 1
    return bool(_BLANKS[held[first]].any() or _BLANKS[held[last]].any())


def _trimmed(raw: pa.Array) -> pa.Array:
    """Texts without blanks around them; what is nothing else is missing."""
    if not _may_have_blanks(raw):
        return raw
    if pa.types.is_dictionary(raw.type):
        raw = raw.cast(pa.string())
    text = pc.utf8_trim_whitespace(raw)
    return pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)


def _texts(raw: pa.Array, code: bool) -> tuple[pa.Array, pa.Array]:
    """The trimmed texts, and the values: texts stay as they are, identifiers are trimmed, or
    links between tables break."""
    text = _trimmed(raw)
    if code or text is raw:
        return text, text
    plain = raw.cast(pa.string()) if pa.types.is_dictionary(raw.type) else raw
    return text, pc.if_else(pc.is_null(text), text, plain)


def _signed(debit: pa.Array, credit: pa.Array, column: Column, minus: Collection[str]) -> pa.Array:
    """Debit less credit, each without the minus that a side in ``minus`` has of its own; missing where
    both are."""
    kind = pa.decimal128(column.precision, column.scale)
    wide = pa.decimal128(37, column.scale)  # a difference has one digit more
    neither = pc.and_(pc.is_null(debit), pc.is_null(credit))
    zero = pa.scalar(0, pa.int64()).cast(wide)
    out, into = (pc.coalesce(side.cast(wide), zero) for side in (debit, credit))
    out = pc.negate(out) if "debit" in minus else out
    difference = (pc.add if "credit" in minus else pc.subtract)(out, into).cast(kind)
    return pc.if_else(neither, pa.scalar(None, kind), difference)


def _empties(texts: Mapping[str, pa.Array], names: Collection[str], n: int) -> np.ndarray:
    """How many of the named cells of each row are empty."""
    count = np.zeros(n, dtype=np.int32)
    for name in names:
        if texts[name].null_count:
            count += pc.is_null(texts[name]).to_numpy(zero_copy_only=False)
    return count


def _blank(texts: Mapping[str, pa.Array], n: int) -> np.ndarray:
    if not all(text.null_count for text in texts.values()):
        return np.zeros(n, dtype=bool)
    return _empties(texts, texts.keys(), n) == len(texts)


def usual_columns(
    sample: pa.Table, formats: Mapping[str, Format], roles: Mapping[Role, str]
) -> frozenset[str]:
    """Columns beside the day and the amounts that rows usually have something in."""
    least = LEAST_USUAL * sample.num_rows
    return frozenset(
        name
        for name in sample.column_names
        if name != roles.get("date")
        and not (isinstance(known := formats.get(name), NumberFormat) and known.scale)
        and name not in (roles.get("debit"), roles.get("credit"), roles.get("amount"))
        and sample.num_rows - sample.column(name).null_count >= least
    )
