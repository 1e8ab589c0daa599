"""Distinct keys of a table, as the engine finds them, with their rows and amounts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import expressions, sql
from sabueso.population.expressions import period_text
from sabueso.population.linked import linked_column
from sabueso.population.nothing import states_nothing
from sabueso.population.population import Population, Reason
from sabueso.population.sql import Tree
from sabueso.population.table import FILE_COLUMN, LINE_COLUMN, Column, Table, bare_name, money
from sabueso.screens.grouping import UNITS, Grouping
from sabueso.screens.match.result import Side

MOST_KEYS = 3_000_000
Key = tuple[Any, ...]


@dataclass(frozen=True)
class Rows:
    """What of the rows of a key is told where it is flagged: the least and the greatest of their ids as text,
    and the place of the first."""

    first_id: str | None
    last_id: str | None
    place: tuple[str, int]


@dataclass
class Keys:
    """Distinct keys of a table, with the period they are of, their rows and amount."""

    labels: list[str]
    keys: list[Key]
    rows: list[int]
    units: list[int]
    measure: Column | None
    look: Callable[[Sequence[int]], dict[int, Rows]]
    """Looks at the rows of some keys, by their places here."""
    matched: set[int] = field(default_factory=set)

    def side(self, table: str) -> Side:
        scale = self.measure.scale if self.measure is not None else 0

        def told(which: Sequence[int]) -> tuple[int, int, Any]:
            amount = None
            if self.measure is not None:
                amount = money(sum(self.units[i] for i in which), scale)
            return len(which), sum(self.rows[i] for i in which), amount

        every = range(len(self.keys))
        matched = sorted(self.matched)
        absent = [i for i in every if i not in self.matched]
        return Side(table, *told(every), *told(matched), *told(absent))


def missing_key(on: Sequence[str], table: Table) -> Reason:
    trees = [expressions.scalar(text, table, "--on") for text in on]
    return Reason("missing_key", exp.or_(*(sql.is_missing(tree) for tree in trees)))


def says_nothing(on: Sequence[str], table: Table) -> Reason:
    """Rows whose key is no value of its own: that two tables have it is no likeness. Beside others a number may be 0: a
    rate of nothing is one."""
    told = on if len(on) == 1 else [text for text in on if not _is_number(text, table)] or on
    trees = [expressions.scalar(text, table, "--on") for text in told]
    each = [exp.paren(states_nothing(tree)) for tree in trees]
    return Reason("key_says_nothing", exp.or_(*each))


def _is_number(text: str, table: Table) -> bool:
    own = {c.name: c for c in table.columns}.get(bare_name(text))
    column = own or linked_column(text, table, "--on")
    return column is not None and column.type == "number"


def keys_of(
    population: Population, on: Sequence[str], when: str | None, reasons: list[Reason]
) -> Keys:
    """Distinct keys of a table, and of its periods where these must agree."""
    table = population.table
    amount = table.role("amount")
    grouping = Grouping.of(
        [*on, *([] if when in (None, "day") else [period_text(when, table)])], table
    )
    values: dict[str, Tree] = {**grouping.values()}
    names = list(grouping.names)
    labels = list(grouping.labels)
    if when == "day":
        date = table.role("date")
        if date is None:
            raise UserError(
                f"--when day needs a date in the role date; table {table.name!r} has none"
            )
        values["day"] = sql.cast(sql.cast(sql.column(date.name), "DATE"), "TEXT")
        names.append("day")
        labels.append(date.name)
    units = sql.integer(0) if amount is None else sql.minor_units(amount)
    columns = [sql.column(name, "b") for name in names]
    select = exp.select(
        *columns,
        exp.alias_(sql.count(), "n"),
        exp.alias_(sql.exact_sum(sql.column(UNITS, "b")), "units"),
    ).from_(population.base({**values, UNITS: units}, reasons).subquery("b"))
    select = select.group_by(*(c.copy() for c in columns))
    select = select.order_by(*(sql.ordered(c.copy()) for c in columns)).limit(MOST_KEYS + 1)
    found = population.query(select)
    if found.num_rows > MOST_KEYS:
        raise UserError(
            f"table {table.name!r} has more than {MOST_KEYS:,} distinct keys {', '.join(on)}: too many to be "
            "compared"
        )
    return Keys(
        labels=labels,
        keys=list(zip(*(found.column(name).to_pylist() for name in names), strict=True)),
        rows=found.column("n").to_pylist(),
        units=[int(value or 0) for value in found.column("units").to_pylist()],
        measure=amount,
        look=partial(_look, population, values, names, found.select(names), reasons),
    )


def _look(
    population: Population,
    values: dict[str, Tree],
    names: Sequence[str],
    keys: pa.Table,
    reasons: list[Reason],
    places: Sequence[int],
) -> dict[int, Rows]:
    """The rows of some keys: their ids are texts, and too many to be compared for every key."""
    if not places:
        return {}
    identity = population.table.role("id") or population.table.role("party")
    known = exp.null() if identity is None else sql.cast(sql.column(identity.name), "TEXT")
    line = sql.cast(sql.column(LINE_COLUMN), "TEXT")
    at = exp.DPipe(
        this=sql.call("LPAD", line, sql.integer(12), sql.text("0")),
        expression=sql.column(FILE_COLUMN),
    )
    values = {**values, "identity": known, "at": at}
    position = sql.column("position", "asked")
    select = exp.select(
        position,
        exp.alias_(exp.Min(this=sql.column("identity", "b")), "identity"),
        exp.alias_(exp.Max(this=sql.column("identity", "b")), "last_identity"),
        exp.alias_(exp.Min(this=sql.column("at", "b")), "at"),
    ).from_(population.base(values, reasons).subquery("b"))
    same = sql.both(sql.same(sql.column(n, "b"), sql.column(n, "asked")) for n in names)
    select = select.join("asked", on=same, join_type="inner").group_by(position.copy())
    asked = keys.take(pa.array(places)).append_column("position", pa.array(places, pa.int64()))
    found = population.query(select, asked=asked)
    columns = (found.column(n).to_pylist() for n in ("position", "identity", "last_identity", "at"))
    return {
        place: Rows(first, last, (where[12:], int(where[:12])))
        for place, first, last, where in zip(*columns, strict=True)
    }
