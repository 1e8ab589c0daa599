"""Which rows of a batch state what the rows above them add up to: all of them, or those since the last total."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal

import numpy as np
import pyarrow as pa

from sabueso.intake.reading import Tally

WIDEST = 18
LOOKED_AT_ALONE, FIRST_LOOK, FURTHEST_LOOK = 6, 64, 65_536
"""Rows behind a total that are looked at one by one, as blocks are short where there are many; and together from
there on, twice as many each time that none is found."""
SAFE = 2**62


def whole_units(column: pa.ChunkedArray) -> np.ndarray:
    """Decimals in units of their last place, shape (n,), a missing one as 0; of Python's numbers where 64 bits may
    not hold their sums."""
    scale = column.type.scale
    chunk = column.combine_chunks()
    if column.type.precision <= WIDEST and pa.types.is_decimal128(column.type):
        # The lower half of 128 bits is all of a number of 18 digits.
        found = np.frombuffer(chunk.buffers()[1], np.int64)[::2]
        found = np.array(found[chunk.offset : chunk.offset + len(chunk)])
        if chunk.null_count:
            found[np.asarray(chunk.is_null())] = 0
        if float(np.abs(found).sum(dtype=np.float64)) < SAFE:
            return found
    values = chunk.to_pylist()
    units = [0 if value is None else int(value.scaleb(scale)) for value in values]
    return np.array(units, dtype=object)


class Running:
    """Sums of the rows of a batch up to any place, less the totals among them.

    Parameters
    ----------
    columns : mapping of str to pyarrow.ChunkedArray
        Decimals, by name.
    good, balances : ndarray of bool, shape (n,)
        The rows that are added up, and those that state what an account stood at.
    above : Tally
        What was added up before the batch.
    """

    def __init__(
        self,
        columns: Mapping[str, pa.ChunkedArray],
        good: np.ndarray,
        balances: np.ndarray,
        above: Tally,
    ) -> None:
        self.names = list(columns)
        self.values = {name: whole_units(column) for name, column in columns.items()}
        scales = {name: column.type.scale for name, column in columns.items()}

        def units(of: Mapping[str, Decimal], name: str) -> int:
            return int(of.get(name, Decimal(0)).scaleb(scales[name]))

        begun = {name: units(above.sums, name) for name in columns}
        stood = {name: units(above.balance_sums, name) for name in columns}
        wide = any(abs(v) >= SAFE for v in (*begun.values(), *stood.values()))
        if wide:
            self.values = {name: v.astype(object) for name, v in self.values.items()}
        self._sums = {n: begun[n] + _before(np.where(good, v, 0)) for n, v in self.values.items()}
        self._stood = {
            n: stood[n] + _before(np.where(balances, v, 0)) for n, v in self.values.items()
        }
        self._rows = above.accepted + _before(good.astype(np.int64))
        self._has_balances = bool(balances.any()) or any(stood.values())
        # What is taken off of all rows, and stood at the last total.
        self._removed = dict.fromkeys(columns, 0)
        self._removed_rows = 0
        self._base = {name: units(above.until_total, name) for name in columns}
        self._base_stood = {name: units(above.balances_until_total, name) for name in columns}
        self._base_rows = above.rows_until_total
        self._alone = LOOKED_AT_ALONE

    def candidates(
        self, suspects: np.ndarray, always: np.ndarray, asked: Sequence[str]
    ) -> Iterator[int]:
        """Suspects, in order, that may state a sum as things stand when they are asked for: the first behind each
        total, and of the rest those where every figure in ``asked`` is one of the sums, or that are to be looked at
        ``always``."""
        at, look = 0, FIRST_LOOK
        while at < len(suspects):
            if self._alone:
                self._alone, look, at = self._alone - 1, FIRST_LOOK, at + 1
                yield int(suspects[at - 1])
                continue
            places = suspects[at : at + look]
            may = np.flatnonzero(self._may(places, asked) | always[places])
            if not len(may):
                at, look = at + len(places), min(2 * look, FURTHEST_LOOK)
                continue
            at += int(may[0]) + 1
            yield int(places[may[0]])

    def _may(self, places: np.ndarray, asked: Sequence[str]) -> np.ndarray:
        whole = block = with_stood = block_stood = np.ones(len(places), dtype=bool)
        some = np.zeros(len(places), dtype=bool)
        for name in asked:
            value = self.values[name][places]
            none = value == 0
            some = some | ~none
            every = self._sums[name][places] - self._removed[name]
            stood = self._stood[name][places]
            whole = whole & (none | (value == every))
            block = block & (none | (value == every - self._base[name]))
            if self._has_balances:
                with_stood = with_stood & (none | (value == every + stood))
                since = every - self._base[name] + stood - self._base_stood[name]
                block_stood = block_stood & (none | (value == since))
        found = whole | block
        if self._has_balances:
            found = found | with_stood | block_stood
        return np.asarray(found & (some | (len(asked) == 0)), dtype=bool)

    def adds_up(self, place: int, stated: Mapping[str, int], least: int) -> bool:
        """Whether figures are the sums of all rows before a place, or of those since the last total, which are so
        many at least; what accounts stood at may be added, or not. No figures are no sum."""
        rows = int(self._rows[place]) - self._removed_rows
        every = {n: int(self._sums[n][place]) - self._removed[n] for n in stated}
        stood = {n: int(self._stood[n][place]) for n in stated}
        since = {n: v - self._base[n] for n, v in every.items()}
        stood_since = {n: v - self._base_stood[n] for n, v in stood.items()}
        return bool(stated) and any(
            many >= least
            and (
                all(sums[n] == v for n, v in stated.items())
                or all(sums[n] + both[n] == v for n, v in stated.items())
            )
            for many, sums, both in (
                (rows, every, stood),
                (rows - self._base_rows, since, stood_since),
            )
        )

    def mark_total(self, place: int, *, counted: bool) -> None:
        """Begin anew behind a total; one that was ``counted`` among the rows is none of them."""
        if counted:
            self._removed_rows += 1
            for name in self.names:
                self._removed[name] += int(self.values[name][place])
        self._alone = LOOKED_AT_ALONE
        behind = place + 1
        self._base_rows = int(self._rows[behind]) - self._removed_rows
        for name in self.names:
            self._base[name] = int(self._sums[name][behind]) - self._removed[name]
            self._base_stood[name] = int(self._stood[name][behind])


def _before(values: np.ndarray) -> np.ndarray:
    """Sums of what stands before each place, and before the end, shape (n + 1,)."""
    found = np.zeros(len(values) + 1, dtype=values.dtype)
    np.cumsum(values, out=found[1:])
    return found
