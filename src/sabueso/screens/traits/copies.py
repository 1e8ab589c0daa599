"""Texts that somebody else's entry has too."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import functions, sql
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import LINE_COLUMN, Column

LEAST_WORDS, LEAST_LETTERS, MOST_COPIES, MOST_ROWS = 2, 12, 3, 24
"""Words and letters of a text that nobody writes twice by chance, and entries and rows that have it at most: what
more have is a formula of the house."""
MOST_TEXTS = 500_000


def seldom_texts(population: Population, reasons: Sequence[Reason], text: Column) -> pa.Table:
    """Texts of which few rows have the words: as they stand, and folded. Of each text one is looked at."""
    raw = sql.cast(sql.column(text.name), "TEXT")
    base = population.base({"raw": raw}, reasons).subquery("b")
    each = exp.select(sql.column("raw", "b"), exp.alias_(sql.count(), "n")).from_(base)
    each = each.where(exp.Not(this=sql.is_missing(sql.column("raw", "b"))))
    each = each.group_by(sql.column("raw", "b"))
    words = exp.Trim(this=functions.folded_tree(sql.column("raw", "e")))
    pattern = r"[^ ]+( +[^ ]+)" + f"{{{LEAST_WORDS - 1},}}"
    folded = exp.select(
        sql.column("raw", "e"), exp.alias_(words, "words"), sql.column("n", "e")
    ).from_(each.subquery("e"))
    folded = folded.where(exp.LTE(this=sql.column("n", "e"), expression=sql.integer(MOST_ROWS)))
    long = [
        exp.GTE(
            this=exp.Length(this=sql.column("words", "f")),
            expression=sql.integer(LEAST_LETTERS),
        ),
        exp.RegexpLike(this=sql.column("words", "f"), expression=sql.text(pattern)),
    ]
    rows = exp.Sum(this=sql.column("n", "f"))
    seldom = exp.select(sql.column("words", "f")).from_(folded.subquery("f")).where(*long)
    seldom = seldom.group_by(sql.column("words", "f")).having(
        exp.GTE(this=rows, expression=sql.integer(2)),
        exp.LTE(this=rows.copy(), expression=sql.integer(MOST_ROWS)),
    )
    select = exp.select(sql.column("raw", "g"), sql.column("words", "g"))
    select = select.from_(folded.copy().subquery("g"))
    same = exp.EQ(this=sql.column("words", "g"), expression=sql.column("words", "s"))
    select = select.join(seldom.subquery("s"), on=same, join_type="inner")
    return population.query(select.limit(MOST_TEXTS + 1))


def of_several(
    population: Population,
    reasons: Sequence[Reason],
    columns: tuple[Column, Column, Column | None],
    texts: pa.Table,
) -> set[tuple[Any, ...]]:
    """Those texts whose words two or three entries have, each of another's; of the entries of a journal,
    both sides of which have the text, the debit. ``columns`` are the text, whose it is, and the amount."""
    text, whose, debit = columns
    if not texts.num_rows:
        return set()
    identity = population.table.role("id")
    values: dict[str, Tree] = {
        "raw": sql.cast(sql.column(text.name), "TEXT"),
        "entry": sql.cast(sql.column(identity.name if identity else LINE_COLUMN), "TEXT"),
        "whose": sql.cast(sql.column(whose.name), "TEXT"),
    }
    if debit is not None:
        values["debit"] = exp.GT(this=sql.column(debit.name), expression=sql.integer(0))
    same = exp.EQ(this=sql.column("raw", "b"), expression=sql.column("raw", "texts"))
    entries = exp.Count(this=exp.Distinct(expressions=[sql.column("entry", "b")]))
    owners = exp.Count(this=exp.Distinct(expressions=[sql.column("whose", "b")]))
    select = exp.select(sql.column("words", "texts")).from_(
        population.base(values, reasons).subquery("b")
    )
    select = select.join("texts", on=same, join_type="inner")
    if debit is not None:
        select = select.where(sql.column("debit", "b"))
    select = select.group_by(sql.column("words", "texts")).having(
        exp.GTE(this=entries, expression=sql.integer(2)),
        exp.LTE(this=entries.copy(), expression=sql.integer(MOST_COPIES)),
        exp.GTE(this=owners, expression=entries.copy()),
    )
    shared = set(population.query(select, texts=texts).column("words").to_pylist())
    return {(row["raw"],) for row in texts.to_pylist() if row["words"] in shared}
