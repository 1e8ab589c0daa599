"""Rows outside what is declared: a range, a list, a value required, another column not exceeded, days in order."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.population import sql
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.screens.finding import Finding, Flags
from sabueso.screens.interface import Screen
from sabueso.screens.limits import table as lim
from sabueso.screens.proposal import Proposal
from sabueso.screens.range.declared import declared_finding
from sabueso.screens.range.result import Rules, with_sizes
from sabueso.screens.range.rules_of import rules_of
from sabueso.screens.range.settings import RangeSettings
from sabueso.screens.range.view import RangeView

if TYPE_CHECKING:
    from sabueso.stats.description import Description


class Range(Screen):
    """Declared limits, row by row."""

    name = "range"
    summary = (
        "rows outside a declared range or list, without a required value, above another column, dated before "
        "what comes first, on another weekday or in another hour, with a reading that falls, that take out what is not there, overlap another, name one person for two, have what another row has already, are chosen and not the best, or have a value "
        "that is another than the others of their kind have"
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
        "sabueso try range payments --in-order proveedor.alta,fecha",
        "sabueso try range receipts --in-order pedido.fecha,fecha --most-days 60",
        "sabueso try range payroll --same salario_base --per empleado",
        "sabueso try range payroll --unique empleado,mes",
        "sabueso try range journal --hours 07,08,09,10,11,12,13,14,15,16,17,18,19",
    )

    def proposes(self, population: Population, described: Description | None) -> Iterable[Proposal]:
        from sabueso.screens.range.proposals import proposals

        return proposals(population)

    def run(self, population: Population, settings: RangeSettings) -> Finding[Rules]:
        table = population.table
        measure = _measure(table, settings)
        rules = rules_of(table, measure, settings)
        place = exp.Case()
        over = exp.Case()
        for position, rule in enumerate(rules):
            place = place.when(rule.broken.copy(), sql.integer(position))
            over = over.when(rule.broken.copy(), rule.beyond)
        columns = lim.RowColumns.of(table, measure)
        values = {**columns.trees(), "rule": place, "score": over}
        for rule in rules:
            values |= rule.beside
        select = exp.select(*(sql.column(name, "r") for name in values))
        select = select.from_(population.base(values).subquery("r"))
        select = select.where(exp.Not(this=sql.is_missing(sql.column("rule", "r"))))
        select = select.order_by(
            sql.ordered(sql.column("score", "r"), descending=True),
            sql.ordered(sql.column("row_file", "r")),
            sql.ordered(sql.column("row_line", "r")),
        )
        found = columns.gathered(population.query(select))
        names = [rule.title for rule in rules]
        broken = found.column("rule").to_pylist()
        kept = found.drop_columns(["rule"])
        if measure is None:
            kept = kept.append_column("amount", pa.nulls(kept.num_rows, pa.decimal128(18, 2)))
        kept = kept.append_column("rule", pa.array([names[i] for i in broken], pa.string()))
        kept = with_sizes(kept, [rules[i].size for i in broken])
        kept = kept.append_column("direction", pa.array(["out"] * len(broken), pa.string()))
        counts = [(name, broken.count(i)) for i, name in enumerate(names)]
        flags = Flags("row", kept)
        return declared_finding(self.name, population, measure, settings, flags, counts)


def _measure(table: Table, settings: RangeSettings) -> Column | None:
    """The measure where a rule needs one, or the table has amounts to show."""
    bounds = settings.least, settings.greatest, settings.not_above, settings.not_below
    needed = any(bound is not None for bound in bounds)
    if settings.on or needed or "amount" in table.roles:
        return table.measure(settings.on)
    return None
