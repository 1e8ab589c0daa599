"""Exceptions of the queue chosen by a condition, such as ``status = 'open' and amount < 100``."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal

from sabueso.base.errors import UserError
from sabueso.case.queue import AuditException
from sabueso.population.table import Column, Table

_COLUMNS: dict[Column, Callable[[AuditException], object]] = {
    Column("place", "number"): lambda item: item.place,
    Column("id", "text"): lambda item: item.id,
    Column("in_table", "text"): lambda item: item.table,
    Column("kind", "text"): lambda item: item.kind,
    Column("screen", "text"): lambda item: item.marks[0].screen,
    Column("screens", "text"): lambda item: " | ".join(mark.screen for mark in item.marks),
    Column("marks", "number"): lambda item: len(item.marks),
    Column("amount", "number", 6, 38): lambda item: (
        None if item.amount is None else Decimal(item.amount)
    ),
    Column("label", "text"): lambda item: item.label,
    Column("status", "text"): lambda item: item.review.status,
    Column("reason", "text"): lambda item: item.review.reason or None,
    Column("initials", "text"): lambda item: item.review.initials or None,
    Column("signed_off", "text"): lambda item: item.review.signed_off or None,
    Column("assigned", "text"): lambda item: item.review.assigned or None,
    Column("matter", "text"): lambda item: item.review.matter or None,
    Column("set_aside", "number"): lambda item: int(item.review.set_aside),
}
"""What a condition may name, and where an exception has it."""


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

    table = Table("queue", "", tuple(_COLUMNS), ())
    tree = expressions.condition(condition, table)
    # Of a hundred thousand exceptions only what the condition names is read.
    named = {column.name for column in tree.find_all(exp.Column)} | {"id"}
    types = {"number": pa.int64(), "text": pa.string()}
    content = pa.table(
        {
            c.name: pa.array(
                map(value, items), pa.decimal128(38, c.scale) if c.scale else types[c.type]
            )
            for c, value in _COLUMNS.items()
            if c.name in named
        }
    )
    engine = open_engine(EngineSettings())
    try:
        select = exp.select(sql.column("id")).from_(sql.column("queue")).where(tree)
        try:
            found = engine.query(select, queue=content)
        except QueryError as error:
            raise UserError(f"--where {condition!r}: {error}") from None
    finally:
        engine.close()
    ids = set(found.column("id").to_pylist())
    return [item for item in items if item.id in ids]
