"""Rows outside what is declared: a range, a list, a value required, another column not exceeded."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import TYPE_CHECKING

import pyarrow as pa
import sqlglot.expressions as exp
from pydantic import Field, field_validator, model_validator

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.sql import Tree
from sabueso.population.table import Column, Table
from sabueso.screens.finding import Finding, Flags
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.proposal import Proposal
from sabueso.screens.range.declared import declared_finding
from sabueso.screens.range.proposed import proposed_range
from sabueso.screens.range.result import Rules
from sabueso.screens.range.view import RangeView
from sabueso.screens.settings import Settings, listed

if TYPE_CHECKING:
    from sabueso.stats.description import Description


class RangeSettings(Settings):
    """Settings of ``range``."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    least: Decimal | None = Field(None, description="the least amount allowed")
    greatest: Decimal | None = Field(None, description="the greatest amount allowed")
    not_above: str | None = Field(
        None, description="column that the measure must not exceed in its row"
    )
    column: str | None = Field(None, description="column whose values must be among those allowed")
    allowed: list[str] = Field(default_factory=list, description="the values allowed in it")
    required: list[str] = Field(default_factory=list, description="columns that must hold a value")

    _lists = field_validator("allowed", "required", mode="before")(listed)

    @model_validator(mode="after")
    def _some(self) -> RangeSettings:
        bounds = (self.least, self.greatest, self.not_above)
        if bool(self.column) != bool(self.allowed):
            raise ValueError("column and allowed go together")
        if all(b is None for b in bounds) and not self.column and not self.required:
            raise ValueError(
                "nothing is declared; give least, greatest, not-above, required, or column and allowed"
            )
        if self.least is not None and self.greatest is not None and self.least > self.greatest:
            raise ValueError("the least amount is above the greatest")
        return self


class Range(Screen):
    """Declared limits, row by row."""

    name = "range"
    summary = (
        "rows outside a declared range or list, without a required value, or above another column"
    )
    reference = "none: the rules are the reader's own"
    settings = RangeSettings
    group = Rules
    view = RangeView
    place = 50
    examples = (
        "sabueso try range payments --greatest 50000 --required proveedor,usuario",
        "sabueso try range staff --required baja",
        "sabueso try range payroll --on plus_mar --not-above salario_base",
    )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        yield from proposed_range(population)

    def run(self, population: Population, settings: RangeSettings) -> Finding[Rules]:
        table = population.table
        measure = _measure(table, settings)
        rules = _rules(table, measure, settings)
        place = exp.Case()
        over = exp.Case()
        for position, (_, condition, excess) in enumerate(rules):
            place = place.when(condition.copy(), sql.integer(position))
            over = over.when(condition.copy(), excess)
        columns = lim.RowColumns.of(table, measure)
        values = {**columns.trees(), "rule": place, "score": over}
        select = exp.select(*(sql.column(name, "r") for name in values))
        select = select.from_(population.base(values).subquery("r"))
        select = select.where(exp.Not(this=sql.is_missing(sql.column("rule", "r"))))
        select = select.order_by(
            sql.ordered(sql.column("score", "r"), descending=True),
            sql.ordered(sql.column("row_file", "r")),
            sql.ordered(sql.column("row_line", "r")),
        )
        found = columns.gathered(population.query(select))
        names = [title for title, _, _ in rules]
        broken = found.column("rule").to_pylist()
        kept = found.drop_columns(["rule"])
        if measure is None:
            kept = kept.append_column("amount", pa.nulls(kept.num_rows, pa.decimal128(18, 2)))
        kept = kept.append_column("rule", pa.array([names[i] for i in broken], pa.string()))
        kept = kept.append_column("direction", pa.array(["out"] * len(broken), pa.string()))
        counts = [(name, broken.count(i)) for i, name in enumerate(names)]
        flags = Flags("row", kept)
        return declared_finding(self.name, population, measure, settings, flags, counts)


def _measure(table: Table, settings: RangeSettings) -> Column | None:
    """The measure where a rule needs one, or the table has amounts to show."""
    needed = any(v is not None for v in (settings.least, settings.greatest, settings.not_above))
    if settings.on or needed or "amount" in table.roles:
        return table.measure(settings.on)
    return None


def _rules(
    table: Table, measure: Column | None, settings: RangeSettings
) -> list[tuple[str, Tree, Tree]]:
    """Each rule in words, the condition that breaks it, and by how much the row is beyond it.

    A row is counted for the first rule it breaks. Missing values break ``required`` alone.
    """
    found: list[tuple[str, Tree, Tree]] = []
    none = sql.cast(exp.Literal.number("0"), "DOUBLE")
    for name in settings.required:
        column = table.column(name)
        empty = sql.is_missing(sql.column(column.name))
        found.append((f"{column.name} required", empty, none))
    if settings.column:
        column = table.column(settings.column)
        if column.type != "text":
            raise UserError(
                f"column {column.name!r} holds {column.type}; a list of values needs text"
            )
        allowed = exp.In(
            this=sql.column(column.name), expressions=[sql.text(v) for v in settings.allowed]
        )
        shown = ", ".join(settings.allowed[:4]) + (" …" if len(settings.allowed) > 4 else "")
        found.append((f"{column.name} one of {shown}", exp.Not(this=allowed), none))
    if measure is None:
        return found
    value = sql.column(measure.name)

    def beyond(title: str, low: Tree, high: Tree) -> None:
        gap = sql.cast(exp.Sub(this=high.copy(), expression=low.copy()), "DOUBLE")
        found.append((title, exp.GT(this=high, expression=low), gap))

    if settings.least is not None:
        beyond(f"{measure.name} at least {settings.least}", value, sql.number(settings.least))
    if settings.greatest is not None:
        beyond(f"{measure.name} at most {settings.greatest}", sql.number(settings.greatest), value)
    if settings.not_above is not None:
        other = table.number(settings.not_above, what="limit")
        beyond(f"{measure.name} not above {other.name}", sql.column(other.name), value)
    return found
