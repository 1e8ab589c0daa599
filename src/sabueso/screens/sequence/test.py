"""Numbers of a series: gaps, repeats, numbers out of the order of their dates or in another form."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from sabueso.base.errors import UserError
from sabueso.population import expressions
from sabueso.population.damaged import damaged_words
from sabueso.population.population import Population
from sabueso.population.table import Column, Table
from sabueso.report.blocks import Suit
from sabueso.screens.asked import asked
from sabueso.screens.finding import Finding, Flags
from sabueso.screens.grouping import Grouping
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import Proposal
from sabueso.screens.sequence.each import Periods
from sabueso.screens.sequence.looking import Looking
from sabueso.screens.sequence.occasions import Occasions
from sabueso.screens.sequence.result import SequenceTotals, Series
from sabueso.screens.sequence.series import Numbers
from sabueso.screens.sequence.settings import SequenceSettings
from sabueso.screens.sequence.view import SequenceView
from sabueso.screens.subject import NumberRange, own_name

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_SERIES = 500


class Sequence(Screen):
    """Gaps, repeats, order and form of numbers."""

    name = "sequence"
    summary = "numbers of a series that are missing, there twice, out of order or in another form; months or occasions without a row"
    reference = "none: counting; a gap of an incomplete series by the law of independent presence"
    settings = SequenceSettings
    group = Series
    more = SequenceTotals
    view = SequenceView
    place = 95
    examples = (
        "sabueso try sequence payments --of pago",
        "sabueso try sequence journal --of asiento --by year --find gaps,form",
        "sabueso try sequence payments --of pago --days 3 --out numbers.png",
        "sabueso try sequence payroll --each month --by empleado",
        "sabueso try sequence payroll --occasions mes --by empleado",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        column = _numbered(population.table)
        if column is None:
            yield Suit(self.name, "no", "the table names no document and no id: say with --of")
        else:
            yield Suit(
                self.name,
                "yes",
                f"numbers of {column.name}",
                asked(of=expressions.quoted_name(column.name)),
            )

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.sequence.monthly import proposed_periods
        from sabueso.screens.sequence.of_occasions import proposed_occasions
        from sabueso.screens.sequence.proposed import proposed_sequences

        yield from proposed_sequences(self, population)
        periods = list(proposed_periods(self, population))
        yield from periods or proposed_occasions(self, population)

    def run(self, population: Population, settings: SequenceSettings) -> Finding[Series]:
        # A number that a review set aside is not missing.
        population = replace(population, set_aside=())
        table = population.table
        grouping = Grouping.of(settings.by, table)
        date, measure = table.dated(), table.role("amount")
        periods = _periods(population, settings)
        if periods is None:
            given = settings.of or _default(table)
            label, tree = expressions.label(given, table), expressions.scalar(given, table, "--of")
        else:
            label = own_name(settings.noun, {c.name for c in table.columns})
            given, tree = settings.each or ", ".join(settings.occasions), periods.number()
        numbers = Numbers(population, tree, grouping, date, measure, periods)
        looking = Looking(numbers, settings, label, measure, damaged_words(table))
        with numbers.ready(settings.days):
            looking.look(dated=date is not None)
        flags = looking.flags
        return Finding(
            test=self.name,
            table=table.name,
            on=None,
            by=list(settings.by),
            settings=settings.model_dump(),
            solved={"of": given},
            population=population.account(measure, numbers.reasons),
            groups=looking.series[:MOST_SERIES],
            flags=Flags("range", pa.Table.from_pylist(flags) if flags else pa.table({}), _range),
            tests_made=looking.tested,
            subjects=looking.looked_at,
            flags_by_chance=settings.alpha if looking.tested and settings.adjust != "bh" else None,
            cautions=looking.cautions,
            not_tested=[],
            currency=table.currency,
            scale=measure.scale if measure is not None else 2,
            more=looking.totals,
        )


def _periods(population: Population, settings: SequenceSettings) -> Periods | Occasions | None:
    """What is looked for in place of numbers."""
    if settings.each is not None:
        return Periods.of(settings.each, settings.of, population.table)
    if settings.occasions:
        return Occasions.of(settings.occasions, settings.of, population)
    return None


def _numbered(table: Table) -> Column | None:
    return table.role("document") or table.role("id")


def _default(table: Table) -> str:
    column = _numbered(table)
    if column is None:
        raise UserError(
            f"sequence needs the column of numbers: table {table.name!r} names no document and no id; say it with "
            "--of"
        )
    return expressions.quoted_name(column.name)


def _range(flag: Mapping[str, Any], where: str | None, table: Table) -> NumberRange:
    return NumberRange(flag["subject"], flag["column"], flag["before"], flag["after"], flag["what"])
