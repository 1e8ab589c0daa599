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


def currencies_of(rows: pa.Table, roles: Mapping[Role, str]) -> set[str]:
    """Currencies that a column of rows names."""
    name = roles.get("currency")
    if name is None or name not in rows.column_names:
        return set()
    texts = pc.unique(rows.column(name).cast(pa.string())).to_pylist()
    return {written(text) for text in texts if text}


def without_currency(rows: pa.Table, roles: Mapping[Role, str]) -> int:
    """Rows beside whose amount a column of currencies names none, and the case's is meant; an order that was cancelled has
    neither."""
    name, amount = roles.get("currency"), roles.get("amount")
    if name is None or name not in rows.column_names:
        return 0
    texts = rows.column(name).cast(pa.string())
    unsaid = pc.or_(pc.is_null(texts), pc.equal(texts, "").fill_null(False))
    if amount in rows.column_names:
        unsaid = pc.and_(unsaid, pc.not_equal(rows.column(amount), 0).fill_null(False))
    return int(pc.sum(unsaid).as_py() or 0)
