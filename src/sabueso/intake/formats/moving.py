"""The two columns of which one raises and the other lowers what an account stands at after each row: money in and
money out, whatever they are called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import combinations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.called import worded
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.numbers import NumberFormat
from sabueso.population.table import Role

LEAST_EACH, LEAST_ROWS, SHARE = 2, 8, 0.9
"""Rows of each of two columns, rows with either, and the share of these that must move the balance as they say."""
MOST_COLUMNS = 10
_OWED = frozenset(
    ["charge", "charges", "charged", "invoice", "invoiced", "invoices", "billed", "billing", "due", "rent", "owed",
     "cargo", "cargos", "facturado", "factura", "fakturiert", "forderung", "facture", "fatturato"]
)  # fmt: skip
"""Words of what is owed to the house: what raises such a balance is its debit."""


def settle_moving(
    guessed: dict[Role, str],
    sample: pa.Table,
    formats: Mapping[str, Format],
    heading: str | None = None,
) -> None:
    """Where no name tells the sides of amounts, have a running balance tell them, which begins anew under
    each ``heading``.

    A column of amounts that is neither side stays what it is.
    """
    if "debit" in guessed or "side" in guessed:
        return
    numbers = [name for name, f in formats.items() if isinstance(f, NumberFormat) and f.unit != "%"]
    found = sides_of_a_balance(sample, formats, numbers[:MOST_COLUMNS], heading)
    if found is None or guessed.get("amount", found[0]) not in found:
        return
    for role in [role for role, name in guessed.items() if name in found]:
        del guessed[role]
    out, into = found[:2]
    if not _OWED.isdisjoint(worded(into)):
        out, into = into, out
    guessed |= {"debit": out, "credit": into}


def sides_of_a_balance(
    sample: pa.Table,
    formats: Mapping[str, Format],
    names: Sequence[str],
    heading: str | None = None,
) -> tuple[str, str, str] | None:
    """What lowers a balance, what raises it, and the balance; None where no three columns go together so.

    The balance may stand after each row, or the newest row first.
    """
    values = {name: whole_values(sample.column(name), formats[name]) for name in names}
    block = np.zeros(sample.num_rows, dtype=np.int64)
    if heading is not None:
        block[1:] = np.cumsum(block_begins(sample.column(heading)))
    for one, two in combinations(names, 2):
        first, second = np.nan_to_num(values[one]), np.nan_to_num(values[two])
        either = (first != 0) | (second != 0)
        if min((first != 0).sum(), (second != 0).sum()) < LEAST_EACH or either.sum() < LEAST_ROWS:
            continue
        if ((first != 0) & (second != 0)).sum() > (1 - SHARE) * either.sum():
            continue
        for balance in names:
            if balance in (one, two):
                continue
            for moved in (first - second, abs(first) - abs(second)):
                if _moves(values[balance], moved, either, block):
                    return two, one, balance
                if _moves(values[balance], -moved, either, block):
                    return one, two, balance
    return None


def block_begins(texts: pa.ChunkedArray) -> np.ndarray:
    """Whether each row but the first stands under another heading than the one before it."""
    codes = texts.combine_chunks().dictionary_encode().indices.fill_null(-1).to_numpy()
    return np.diff(codes) != 0


def _moves(balance: np.ndarray, moved: np.ndarray, either: np.ndarray, block: np.ndarray) -> bool:
    """Whether a balance changes from row to row of a block, or from each row to the one above, by what moves it."""
    told = either & ~np.isnan(balance)
    within = np.diff(block[told]) == 0
    steps, by = np.diff(balance[told]), moved[told]
    forth, back = ((steps == by[1:]) & within).sum(), ((-steps == by[:-1]) & within).sum()
    return bool(within.sum() >= LEAST_ROWS - 1 and max(forth, back) >= SHARE * within.sum())


def whole_values(texts: pa.ChunkedArray, form: Format) -> np.ndarray:
    """Texts as whole numbers of the smallest place of four decimals; NaN where there is none."""
    found = pc.cast(form.read(pc.utf8_trim_whitespace(texts.combine_chunks())), pa.float64())
    return np.round(np.asarray(found.to_numpy(zero_copy_only=False), dtype=float) * 10_000)
