"""Currencies that a column names beside the amounts, and rows with an amount beside which it names none."""

from __future__ import annotations

from collections.abc import Mapping

import pyarrow as pa
import pyarrow.compute as pc

from sabueso.base.currencies import written
from sabueso.intake.interface import Assumed
from sabueso.population.table import Role
from sabueso.report import numbers as num


def unsaid_currency(rows: int, own: str) -> list[Assumed]:
    """What is said of rows with an amount that name no currency, where others do."""
    if not rows:
        return []
    verb = num.verb(rows, "names", "name")
    return [
        Assumed(
            f"{num.many(rows, 'row')} with an amount {verb} no currency: {own} is meant",
            "case.currency",
        )
    ]


def named_currencies(rows: pa.Table, roles: Mapping[Role, str]) -> tuple[set[str], int]:
    """Currencies that a column of rows names, and beside how many amounts it names none: an order that was cancelled has
    neither."""
    name, amount = roles.get("currency"), roles.get("amount")
    if name is None or name not in rows.column_names:
        return set(), 0
    texts = rows.column(name).cast(pa.string())
    named = {written(text) for text in pc.unique(texts).to_pylist() if text}
    unsaid = pc.equal(texts, "").fill_null(True)
    if amount in rows.column_names:
        unsaid = pc.and_(unsaid, pc.not_equal(rows.column(amount), 0).fill_null(False))
    return named, int(pc.sum(unsaid).as_py() or 0)
