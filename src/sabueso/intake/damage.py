"""Rows of a batch that do not fit: set aside with the reason, or the sign that a format is too narrow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from sabueso.intake.formats.called import looks_like_measure
from sabueso.intake.formats.convert import Conversion, Converted
from sabueso.intake.formats.deciding import TextFormat, widened
from sabueso.intake.formats.detection import Told, Widen, base_of
from sabueso.intake.formats.header import is_header
from sabueso.intake.formats.hints import TOLERATED
from sabueso.intake.formats.numbers import MOST_DIGITS, NumberFormat, too_long
from sabueso.intake.interface import Batch, Damaged
from sabueso.intake.reading import Reading
from sabueso.population.table import LINE_COLUMN, Role

MOST_TOLD = 500
"""Texts of a column that tell what it holds."""


def note_damage(found: Converted, batch: Batch, reading: Reading, conversion: Conversion) -> None:
    """Set aside the rows of a batch that do not fit.

    Raises
    ------
    Widen
        If a column's texts show that its format was too narrow.
    """
    layout, money, tally = reading.layout, reading.money, reading.tally
    places = np.flatnonzero((found.bad >= 0) & ~found.totals & ~found.balances)
    if not len(places):
        return
    cells = batch.cells.take(pa.array(places))
    heads = [is_header(row, layout.on_lines) for row in cells.to_pylist()]
    if any(heads):
        tally.headers += sum(heads)
        places = places[~np.array(heads)]
        if not len(places):
            return
        cells = batch.cells.take(pa.array(places))
    bad = found.bad[places]
    _widen_or_not(cells, bad, len(batch.lines), reading)
    chosen = found.values.select([*money, LINE_COLUMN]).take(pa.array(places))
    for position, row, texts in zip(
        bad.tolist(), chosen.to_pylist(), cells.to_pylist(), strict=True
    ):
        name = layout.header[position]
        tally.damaged.append(
            Damaged(
                line=row[LINE_COLUMN],
                column=name,
                value=texts[name],
                reason=_why_not(conversion, name, texts[name]),
                text=_joined(texts.values()),
            )
        )
        for money_name in money:
            if row[money_name] is not None:
                before = tally.quarantined_sums.get(money_name, Decimal(0))
                tally.quarantined_sums[money_name] = before + row[money_name]


def tell_more(batch: Batch, untold: Sequence[str]) -> None:
    """Raise Told where a column that the sample showed nothing of is filled in a batch."""
    found = {}
    for name in untold:
        texts = (t.strip() for t in pc.unique(batch.cells.column(name)).to_pylist() if t)
        filled = [text for text in texts if text][:MOST_TOLD]
        if filled:
            found[name] = filled
    if found:
        raise Told(found)


def _why_not(conversion: Conversion, name: str, text: str) -> str:
    if isinstance(conversion.formats[name], NumberFormat) and too_long(text):
        return f"more than {MOST_DIGITS} digits, which cannot be kept exact"
    return f"expected {conversion.expected(name)}"


def _joined(cells: Any) -> str:
    return " | ".join("" if c is None else str(c) for c in cells)


def _widen_or_not(cells: pa.Table, bad: np.ndarray, rows_read: int, reading: Reading) -> None:
    """Raise Widen where the failing texts of a column call for another format."""
    settings, roles, failures = reading.settings, reading.roles, reading.tally.failures
    for i in sorted(set(bad.tolist())):
        name = reading.layout.header[i]
        texts = cells.column(name).filter(pa.array(bad == i))
        failing = [v.strip() for v in pc.unique(texts).to_pylist()[:1000]]
        wider = widened(
            reading.formats[name], failing, decimal=settings.decimal, thousands=settings.thousands
        )
        if wider is not None:
            raise Widen(name, wider)
        count, rows = failures.get(name, (0, 0))
        failures[name] = count + len(texts), rows + rows_read
        count, rows = failures[name]
        amount = base_of(roles.get("amount", ""), settings)
        declared = name in settings.types or amount == name or _is_given(roles, name)
        # A word that comes back among codes of digits is a code too, and no damage.
        if not (declared or looks_like_measure(name)) and len(texts) >= 3 * len(failing):
            raise Widen(name, TextFormat())
        # So many texts that do not fit are no damage: the column is not what the sample showed.
        if not declared and count > 20 and count > 4 * TOLERATED * rows:
            raise Widen(name, TextFormat())


def _is_given(roles: Mapping[Role, str], name: str) -> bool:
    fixed: tuple[Role, ...] = ("debit", "credit", "date", "currency", "side")
    return name in {roles.get(role) for role in fixed}
