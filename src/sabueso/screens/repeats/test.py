"""Rows that repeat one another: same party and amount, close in time or of one document."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from pydantic import Field, field_validator

from sabueso.base.errors import UserError
from sabueso.base.plain import Values
from sabueso.population.accounting import Counting
from sabueso.population.population import Population, Reason, missing, zero
from sabueso.population.table import Column, Table, money
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.report.blocks import Suit
from sabueso.screens.finding import Caution, Finding
from sabueso.screens.grouping import Grouping, named_by, without_key
from sabueso.screens.interface import Screen
from sabueso.screens.proposal import LEAST_OF_RULE, Proposal
from sabueso.screens.repeats.flagging import flags_of
from sabueso.screens.repeats.judging import Frequencies, judged, with_those_beyond, without_rhythm
from sabueso.screens.repeats.result import RepeatGroup
from sabueso.screens.repeats.rhythm import steps_of
from sabueso.screens.repeats.search import Search
from sabueso.screens.repeats.usual import Clusters, unusual
from sabueso.screens.repeats.view import RepeatsView
from sabueso.screens.settings import Settings, listed_once
from sabueso.screens.trying import tried

if TYPE_CHECKING:
    from sabueso.stats.description import Description

MOST_ROWS = 2_000_000
"""Rows of the parties of what is found of which it is asked whether they come in even steps."""


class RepeatsSettings(Settings):
    """Settings of ``repeats``."""

    on: str | None = Field(None, description="the measure: a number column (default: role amount)")
    same: list[str] = Field(
        default_factory=list,
        description="columns that are the same beside the amount (default: role party)",
    )
    within: int | None = Field(
        14, ge=0, le=3660, description="days that repeated rows lie apart at most"
    )
    document: str | None = Field(
        None,
        description="column of document numbers: the same one repeats at any distance (default: role document)",
    )
    differs: str | None = Field(
        None, description="column in which two rows of a cluster are to differ, such as the party"
    )
    alpha: float = Field(
        0.05, gt=0, le=1, description="chance of the coincidence above which it is no finding"
    )

    _listed = field_validator("same", mode="before")(listed_once)


class Repeats(Screen):
    """Clusters of rows that are the same thing recorded again."""

    name = "repeats"
    summary = "rows of one party and amount that repeat: close in time, or of one document"
    reference = (
        "none: counting; the coincidences that chance gives after Diaconis, P. and Mosteller, F. (1989), "
        "Journal of the American Statistical Association 84, 853-861"
    )
    settings = RepeatsSettings
    group = RepeatGroup
    view = RepeatsView
    place = 75
    examples = (
        "sabueso try repeats payments",
        'sabueso try repeats payments --within 31 --where "importe > 100"',
        "sabueso try repeats payments --same proveedor,cuenta --document factura",
    )

    def suits(self, population: Population, described: Description | None) -> Iterator[Suit]:
        party, date = population.table.role("party"), population.table.dated()
        if "amount" not in population.table.roles:
            yield Suit(self.name, "no", "the table has no amount")
        elif party is None:
            yield Suit(
                self.name, "no", "the table names no party: say with --same what is the same"
            )
        elif date is None:
            yield Suit(self.name, "with care", f"by {party.name} and amount, at any time: no dates")
        else:
            yield Suit(self.name, "yes", f"by {party.name} and amount, close in {date.name}")

    def proposes(self, population: Population, described: Description | None) -> Iterator[Proposal]:
        from sabueso.screens.repeats.proposed import proposed_repeats

        if described is not None and described.n >= LEAST_OF_RULE:
            asked = proposed_repeats(population, described.n)
            yield from unusual(population, asked, partial(self._clusters, population))

    def _clusters(self, population: Population, settings: Values) -> Clusters:
        finding = tried(self, population, settings)
        return Clusters.none() if finding is None else Clusters.of(finding.groups[0])

    def counts(self, population: Population, settings: RepeatsSettings) -> list[Counting]:
        measure = population.table.measure(settings.on)
        return [Counting(measure, _reasons(measure, _same(population.table, settings)))]

    def run(self, population: Population, settings: RepeatsSettings) -> Finding[RepeatGroup]:
        table = population.table
        measure, grouping = table.measure(settings.on), _same(table, settings)
        date, document = table.dated(), _document(table, settings)
        reasons = _reasons(measure, grouping)
        within = settings.within if date is not None else None
        differs = None if settings.differs is None else table.column(settings.differs)
        if differs is not None and differs.name in grouping.labels:
            raise UserError(
                f"differs {differs.name!r}: rows that repeat are the same in it, as same says, and cannot differ"
            )
        search = Search(population, grouping, measure, date, document, reasons, differs)
        found = search.candidates(within)
        account = population.account(measure, reasons)
        share = _share(within, account.first_date, account.last_date)
        often = Frequencies(search.parties(found), search.sizes(found), account.used, share)
        outcome = judged(
            found, grouping, often, within, settings.alpha, differing=differs is not None
        )
        every = (*outcome.repeated, *outcome.beyond_steps)
        parties = list(dict.fromkeys(each.party for each in every))
        if date is not None and parties and sum(often.parties[p] for p in parties) <= MOST_ROWS:
            days = search.days_and_sizes(parties)
            repeating = {each.party for each in outcome.repeated}
            without_rhythm(outcome, steps_of({p: own for p, own in days.items() if p in repeating}))
            with_those_beyond(outcome, days)
        repeated = outcome.repeated
        group = RepeatGroup(
            group={},
            same=[*grouping.labels, measure.name],
            within=within,
            looked_at=outcome.looked_at,
            clusters=len(repeated),
            rows=sum(len(each.cluster.rows) for each in repeated),
            expected_clusters=search.expected(share) if share < 1 else None,
            excess=money(sum(each.excess for each in repeated), measure.scale),
            usual=outcome.usual,
            in_step=outcome.in_step,
            reversed=outcome.reversed,
            reversed_rows=outcome.reversed_rows,
            flagged=len(repeated),
        )
        return Finding(
            test=self.name,
            table=table.name,
            on=measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={
                "same": list(grouping.labels),
                "document": document.name if document else None,
                "differs": differs.name if differs else None,
            },
            population=account,
            groups=[group],
            flags=flags_of(repeated, found, table, measure, differs),
            tests_made=0,
            subjects=outcome.looked_at,
            cautions=_cautions(group, date, document, outcome.unnamed),
            not_tested=[],
            currency=unit_of(table, measure),
            scale=measure.scale,
        )


def _same(table: Table, settings: RepeatsSettings) -> Grouping:
    """What rows that repeat one another have in common."""
    named = settings.same or [
        named_by(table, "party", "say with --same which columns are the same")
    ]
    return Grouping.of(named, table)


def _reasons(measure: Column, grouping: Grouping) -> list[Reason]:
    return [missing(measure), zero(measure), without_key(grouping)]


def _document(table: Table, settings: RepeatsSettings) -> Column | None:
    if settings.document is not None:
        return table.column(settings.document)
    return table.role("document")


def _share(within: int | None, first: str | None, last: str | None) -> float:
    """The share of the period that lies within so many days of a row, on either side."""
    if within is None or first is None or last is None:
        return 1.0
    days = (np.datetime64(last) - np.datetime64(first)).astype(int) + 1
    return min((2 * within + 1) / max(int(days), 1), 1.0)


def _cautions(
    group: RepeatGroup, date: Column | None, document: Column | None, unnamed: int
) -> list[Caution]:
    found = []
    if date is None:
        found.append(
            Caution(
                "no_dates",
                "the table has no dates: rows are repeated whenever they were recorded, and how close they "
                "lie tells nothing",
                {},
            )
        )
    if document is None:
        found.append(
            Caution(
                "no_documents",
                "the table names no documents: two purchases of one amount look the same as one paid twice",
                {},
            )
        )
    if group.usual:
        habits = group.usual - group.in_step
        told = []
        if habits:
            told.append(
                f"{habits:,} of {group.looked_at:,} clusters {num.verb(habits, 'is a habit of its', 'are habits of their')} "
                "party or common amounts, and no finding: rows of those amounts lie as close by chance"
            )
        if group.in_step:
            told.append(
                f"{group.in_step:,} of {group.looked_at:,} {num.verb(group.in_step, 'is', 'are')} as far apart as that "
                "party is paid from one time to the next, much the same each time, and no finding"
            )
        text = "; ".join(told)
        found.append(Caution("usual", text, {"clusters": group.usual}))
    if unnamed:
        said = num.verb(unnamed, "says", "say")
        text = (
            f"{num.many(unnamed, 'row')} of one amount, close in time or of one document, {said} nothing of whose "
            f"{num.verb(unnamed, 'it is', 'they are')}, such as n/a: that they repeat one another is not concluded"
        )
        found.append(Caution("states_nothing", text, {"rows": unnamed}))
    if group.reversed:
        text = (
            f"{num.many(group.reversed_rows, 'row')} were taken out first: an equal opposite amount of the same "
            "party reversed them"
        )
        found.append(Caution("reversed", text, {"rows": group.reversed_rows}))
    return found
