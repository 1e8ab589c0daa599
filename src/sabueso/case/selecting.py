"""Exceptions of the queue chosen by a condition, such as ``status = 'open' and amount < 100``."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from sabueso.base.errors import UserError
from sabueso.case.queue import AuditException
from sabueso.population.table import Column, Table

_COLUMNS = (
    Column("place", "number"),
    Column("id", "text"),
    Column("in_table", "text"),
    Column("kind", "text"),
    Column("screen", "text"),
    Column("screens", "text"),
    Column("marks", "number"),
    Column("amount", "number", 6, 38),
    Column("label", "text"),
    Column("status", "text"),
    Column("reason", "text"),
    Column("initials", "text"),
    Column("signed_off", "text"),
    Column("assigned", "text"),
    Column("matter", "text"),
    Column("set_aside", "number"),
)


def chosen_by(items: Sequence[AuditException], condition: str) -> list[AuditException]:
    """The exceptions that meet a condition over the columns of the queue.

    Raises
    ------
    UserError
        If it is none, or names a column that the queue has not.
    """
    import pyarrow as pa
    import sqlglot.expressions as exp

    from sabueso.population import expressions, sql
    from sabueso.population.engines import EngineSettings, QueryError, open_engine

    table = Table("queue", "", _COLUMNS, ())
    tree = expressions.condition(condition, table)
    rows = [_row(item) for item in items]
    types = {"number": pa.int64(), "text": pa.string()}
    schema = pa.schema(
        [(c.name, pa.decimal128(38, c.scale) if c.scale else types[c.type]) for c in _COLUMNS]
    )
    engine = open_engine(EngineSettings())
    try:
        select = exp.select(sql.column("id")).from_(sql.column("queue")).where(tree)
        try:
            found = engine.query(select, queue=pa.Table.from_pylist(rows, schema=schema))
        except QueryError as error:
            raise UserError(f"--where {condition!r}: {error}") from None
    finally:
        engine.close()
    ids = set(found.column("id").to_pylist())
    return [item for item in items if item.id in ids]


def _row(item: AuditException) -> dict[str, object]:
    review = item.review
    return {
        "place": item.place,
        "id": item.id,
        "in_table": item.table,
        "kind": item.kind,
        "screen": item.marks[0].screen,
        "screens": " | ".join(mark.screen for mark in item.marks),
        "marks": len(item.marks),
        "amount": None if item.amount is None else Decimal(item.amount),
        "label": item.label,
        "status": review.status,
        "reason": review.reason or None,
        "initials": review.initials or None,
        "signed_off": review.signed_off or None,
        "assigned": review.assigned or None,
        "matter": review.matter or None,
        "set_aside": int(review.set_aside),
    }
